package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/export"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// filesCmd lists the files of a release or a folder, and exports a release.
type filesCmd struct{ *app }

func newFilesCommand(a *app) *cobra.Command {
	c := &filesCmd{app: a}
	var site, export string
	cmd := &cobra.Command{
		Use:   "files [RELEASE|ENVIRONMENT|FOLDER]",
		Short: "What is published, or would be: sizes, types, and what was left out and why",
		Long: "Files lists a release, what an environment serves, or what of a folder would be published " +
			"(default: the output folder).\n" +
			"With --export it writes a release as a plain tree (default: what production " +
			"serves), and its rules beside it.",
		Example: "  orilla files production --export corvane-site\n  orilla files " +
			"r-3f9a2c1b7e --export corvane.zip",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.releases,
		RunE: func(cmd *cobra.Command, args []string) error {
			if export != "" {
				return c.export(cmd.Context(), site, argument(args, 0), export)
			}
			return c.files(cmd.Context(), site, argument(args, 0))
		},
	}

	cmd.Flags().StringVar(&export, "export", "",
		"write the release to a new `FOLDER`, or an archive ending in .zip, .tar or .tar.gz")
	siteFlag(cmd.Flags(), &site)
	return a.jsonFlag(cmd)
}

// files is orilla files: what a release holds, or what would be published of a
// folder. What is a folder on this machine is taken as one; all else must be a
// release.
func (a *filesCmd) files(ctx context.Context, site, what string) error {
	report, err := a.folderFiles(ctx, what)
	if err == nil && report == nil {
		report, err = a.releaseFiles(ctx, site, what)
	}
	if err != nil {
		return err
	}

	return a.Result(report, func() {
		rows := [][]string{{"ADDRESS", "FILE", "SIZE", "TYPE", "CACHED"}}
		for _, file := range report.Files {
			cached, shown := "asks each time", file.Path
			if file.Immutable {
				cached = console.Good("a year")
			}
			if "/"+file.Path == file.Address {
				shown = console.Faint("the same")
			}
			rows = append(rows, []string{file.Address, shown, console.Size(file.Size),
				strings.TrimSuffix(file.Type, "; charset=utf-8"), cached})
		}

		a.Table(rows, 2)
		from := report.Folder
		if report.Release != "" {
			from = report.Release[:12]
		}

		files := console.Count(int64(len(report.Files)), "file", "files")
		a.Print("%s", console.Strong(files+", "+console.Size(report.Bytes)+" in "+from))
		for _, left := range report.LeftOut {
			a.Print("%s %s  %s", console.Warn("left out:"), left.Path, console.Faint(left.Why))
		}

		for _, notice := range report.Notices {
			a.Notice(notice)
		}
	})
}

// folderFiles lists a folder; nil if what is none.
func (a *filesCmd) folderFiles(ctx context.Context, what string) (*view.FilesReport, error) {
	p, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	folder := a.path(filepath.FromSlash(what))
	if what == "" {
		folder = site.Output(p)
	}

	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		if what == "" {
			return nil, fault.New(fault.Failed, "no-output", "the output folder is not there").
				At("%s", folder).
				Then("run the build, or list what is live: orilla files production")
		}
		return nil, nil
	}

	tree, scan, files, err := site.Fingerprint(ctx, p, folder, nil)
	if err != nil {
		return nil, err
	}
	report := &view.FilesReport{Folder: tree.Root, Bytes: scan.Bytes, LeftOut: scan.LeftOut,
		Notices: scan.Notices}

	would := answer.Unpublished(nil, files, p.LocalConfig.Settings())
	for _, file := range files {
		report.Files = append(report.Files, view.DescribeFile(file, would))
	}
	return report, nil
}

// releaseFiles lists a release, or what an environment serves.
func (a *filesCmd) releaseFiles(ctx context.Context, site, what string) (*view.FilesReport, error) {
	s, err := a.session(ctx, site)
	if err != nil {
		return nil, err
	}
	id, err := s.findRelease(ctx, what)
	if err != nil {
		return nil, err
	}

	reader, err := release.Read(ctx, s.store, s.site, id)
	if err != nil {
		return nil, err
	}
	published, err := answer.Open(ctx, reader)
	if err != nil {
		return nil, err
	}
	report := &view.FilesReport{Release: "r-" + id.String(), Bytes: reader.Root.Bytes,
		Files: []view.FileReport{}}

	for file, err := range reader.Files(ctx) {
		if err != nil {
			return nil, err
		}
		report.Files = append(report.Files, view.DescribeFile(file, published))
	}
	return report, nil
}

// export writes a release as a plain tree.
func (a *filesCmd) export(ctx context.Context, site, what, to string) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	if what == "" {
		what = project.Production
	}

	id, err := s.findRelease(ctx, what)
	if err != nil {
		return err
	}
	hold, err := s.project.Pin(ctx, s.store, s.site, "export")
	// whoever may only read, reads
	if err != nil && !errors.Is(err, storage.ErrReadOnly) && !errors.Is(err, storage.ErrDenied) {
		return err
	}
	defer hold.Drop(ctx)
	reader, err := release.Read(ctx, s.store, s.site, id)
	if err != nil {
		return err
	}

	progress := a.Bytes("export", max(reader.Root.Bytes, 1))
	var written atomic.Int64
	done, err := export.Export(ctx, s.store, reader, a.path(to),
		func(bytes int64) { progress.At(written.Add(bytes)) })
	progress.End()
	if err != nil {
		return err
	}

	return a.Result(view.ExportReport{Release: "r-" + id.String(), Exported: done}, func() {
		a.Print("%s %s of %s to %s", console.Good("wrote"), console.Count(done.Files, "file", "files")+", "+
			console.Size(done.Bytes), id.Short(), console.Strong(done.To))

		if done.Rules > 0 {
			a.Print("%s to %s", console.Count(done.Rules, "rule", "rules"), done.RulesFile)
		}
	})
}
