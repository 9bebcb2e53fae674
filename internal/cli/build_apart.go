package cli

import (
	"context"
	"os"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/pipeline"
)

// buildApart builds a commit into an archive, with a store of its own that goes afterwards: no other is
// asked, and no credentials are needed.
func (a *app) buildApart(ctx context.Context, plan *pipeline.Plan, o *deployOptions) error {
	to := a.path(o.archive)
	if !pipeline.IsArchiveName(to) {
		return fault.New(fault.Usage, "usage", "--archive takes a name that ends in .zip, .tar or .tar.gz, not %q", o.archive)
	}
	if err := os.MkdirAll(a.places.Cache, 0o700); err != nil {
		return err
	}
	folder, err := os.MkdirTemp(a.places.Cache, "apart-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder) //nolint:errcheck // cleaned with the cache
	store, err := pipeline.OpenStore(ctx, folder, "", a.places, true)
	if err != nil {
		return err
	}

	report := &reporter{app: a}
	run := &pipeline.Run{Plan: plan, Store: store, Report: report, NoIndex: o.noIndex, Stdin: os.Stdin, Automatic: !a.Asks && !o.yes, Cause: "command", Now: time.Now}
	defer run.Close(ctx)
	result, err := run.Release(ctx)
	report.end()
	if err != nil {
		return a.failed(err)
	}
	reader, err := release.Read(ctx, store, plan.Site, result.Release)
	if err != nil {
		return err
	}
	done, err := pipeline.Export(ctx, store, reader, to, func(int64) {})
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Document(exportReport{"r-" + result.Release.String(), done})
	}
	a.reportRelease(plan, result, 0)
	a.Print("%s", to)
	return nil
}
