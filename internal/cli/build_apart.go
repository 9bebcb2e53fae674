package cli

import (
	"context"
	"os"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/export"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/view"
)

// buildApart builds a commit into an archive, with a store of its own that goes
// afterwards: no other is asked, and no credentials are needed.
func (a *deployCmd) buildApart(ctx context.Context, plan *site.Plan, o *deployOptions) error {
	to := a.path(o.archive)
	if !export.IsArchiveName(to) {
		return fault.New(fault.Usage, "usage",
			"--archive takes a name that ends in .zip, .tar or .tar.gz, not %q", o.archive)
	}

	if err := os.MkdirAll(a.places.Cache, 0o700); err != nil {
		return err
	}
	// A store of its own for this one build: what runs here may be anybody's
	// code, and holds nothing worth stealing.
	folder, err := os.MkdirTemp(a.places.Cache, "apart-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder) //nolint:errcheck // cleaned with the cache
	store, err := store.Open(ctx, folder, "", a.places.Data, true)
	if err != nil {
		return err
	}

	report := &reporter{app: a.app}
	prepared, err := deploy.Prepare(ctx, deploy.Job{
		Plan: plan, Store: store, Report: report, Now: time.Now, Cause: "command",
		Automatic: !a.Asks && !o.yes, NoIndex: o.noIndex,
		Stdin: os.Stdin,
	})
	if err != nil {
		return a.failed(err)
	}
	defer prepared.Close(ctx)
	made, err := prepared.Build(ctx)
	report.end()
	if err != nil {
		return a.failed(err)
	}
	defer made.Close(ctx)
	// From the release and not from the output, so that an archive has what a
	// deploy would have, and nothing else.
	reader, err := release.Read(ctx, store, plan.Site, made.ID)
	if err != nil {
		return err
	}

	if a.dry {
		made.Number = 0 // of a store that is gone
		view.ReportRelease(a.Console, plan, made)
		a.Note("%s", console.Faint("--dry-run wrote no archive"))
		return nil
	}
	done, err := export.Export(ctx, store, reader, to, func(int64) {})
	if err != nil {
		return err
	}
	return a.Result(view.ExportReport{Release: "r-" + made.ID.String(), Exported: done}, func() {
		made.Number = 0 // of a store that is gone
		view.ReportRelease(a.Console, plan, made)
		a.Print("%s", to)
	})
}
