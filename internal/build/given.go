package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// Given takes the ready output of a plan: a folder as it is, an archive
// unpacked. "-" stands for an archive on standard input, which stdin is. Close
// the output when it has been read.
func Given(ctx context.Context, plan *site.Plan, stdin io.Reader, now func() time.Time, phases *Phases,
) (*Output, error) {
	from := plan.From
	began := now()
	record := builds.Record{Started: began, Finished: began}
	if plan.Outside() { // whoever built it, elsewhere, is nobody whom anybody trusts
		record.Untrusted = &builds.Untrusted{Isolation: builds.IsolationNone}
	}

	archive, name := stdin, "standard input"
	if from != "-" {
		info, err := os.Stat(from)
		if err != nil {
			return nil, fault.New(fault.Usage, "no-output", "no such folder or archive").
				At("%s", from).
				Then("run the build first, or name its output folder")
		}

		if info.IsDir() {
			return &Output{Folder: from, Name: from, Record: record}, nil
		}
		file, err := os.Open(from)
		if err != nil {
			return nil, fault.New(fault.Failed, "unreadable", "cannot read the archive").At("%s", from).
				Because(err)
		}
		defer file.Close() //nolint:errcheck // read only
		archive, name = file, from
	}

	output := &Output{Name: name, Record: record, made: true}
	var err error
	if output.scratch, err = scratchFolder(plan, newID(), began); err != nil {
		return nil, err
	}

	limits := source.Limits{Files: plan.Config.Limits.Files, Bytes: int64(plan.Config.Limits.Size)}
	err = phases.Time("unpack", name, func() error {
		output.Folder, err = source.Unpack(ctx, archive, name, output.scratch, limits)
		return err
	})
	if err != nil {
		output.Close()
		return nil, err
	}

	return output, nil
}

// workingTree runs the steps where the user works, without fetching
// dependencies: those that are there count.
func (b *Build) workingTree(ctx context.Context) (*Output, error) {
	config := b.Plan.Config.Build
	folder := filepath.Join(b.Plan.Project.Root, filepath.FromSlash(config.Folder))
	now := b.Now()
	output := &Output{
		Folder: filepath.Join(folder, filepath.FromSlash(config.Output)),
		Name:   path.Join(config.Folder, config.Output),
		Record: builds.Record{Started: now, Finished: now},
	}

	if len(config.Run) == 0 {
		return output, nil
	}

	var err error
	if output.scratch, err = scratchFolder(b.Plan, b.id, now); err != nil {
		return nil, err
	}
	output.Log = filepath.Join(output.scratch, "log")
	run := stepRun{Build: b, folder: folder, log: output.Log, run: config.Run}
	if output.Record, err = run.all(ctx); err != nil {
		output.Close()
		return nil, err
	}

	return output, nil
}

// oldOutput is how old something that a build left behind
// is when nobody comes back for it.
const oldOutput = 24 * time.Hour

// scratchFolder makes a folder for what is unpacked or logged. Those that
// killed builds left are removed after a while.
func scratchFolder(plan *site.Plan, id string, now time.Time) (string, error) {
	parent := filepath.Join(plan.Project.Places.Cache, "scratch")
	if entries, err := os.ReadDir(parent); err == nil {
		for _, entry := range entries {
			if info, err := entry.Info(); err == nil && now.Sub(info.ModTime()) > oldOutput {
				//nolint:errcheck // the next build tries again
				os.RemoveAll(filepath.Join(parent, entry.Name()))
			}
		}
	}
	folder := filepath.Join(parent, fmt.Sprintf("%s-%s", plan.Site, id[:12]))
	return folder, errors.Join(os.RemoveAll(folder), os.MkdirAll(folder, 0o700))
}
