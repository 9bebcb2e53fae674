package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/variants"
	"orilla.example/orilla/internal/export"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// filesCmd lists the files of a release or a folder, and exports a release.
type filesCmd struct{ *app }

func newFilesCommand(a *app) *cobra.Command {
	c := &filesCmd{app: a}
	var site, export string
	cmd := &cobra.Command{
		Use:   "files [RELEASE|ENVIRONMENT|FOLDER|ARCHIVE]",
		Short: "List published files: addresses, sizes, types",
		Long: "Files lists a release, an environment's live release, or what would be published " +
			"from a folder or archive (default: the output folder). If nothing was built here yet, " +
			"it lists the newest release of this branch, or what is live, and says so. With " +
			"--export it writes a release (default: production's) and its rules to a folder or " +
			"archive.",
		Example: "orilla files\norilla files dist\norilla files production --export corvane-site",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.releases,
		RunE: func(cmd *cobra.Command, args []string) error {
			if export != "" {
				return c.export(cmd.Context(), site, argument(args, 0), export)
			}
			return c.files(cmd.Context(), site, argument(args, 0))
		},
	}

	cmd.Flags().StringVar(&export, "export", "",
		"write the release to a new `FOLDER`, or to a .zip, .tar or .tar.gz file")
	siteFlag(cmd.Flags(), &site)
	return a.jsonFlag(cmd)
}

// A size is what the file has, and "sent" the least of its encoded copies that the store knows: what
// a browser gets that takes them all. Nobody is asked to encode anything for a list, so the column
// is empty until a visitor, or orilla deploy --encode, had it done.
//
// "Cached" says what visitors may do without asking again: a year for what tells its content by its
// name, and nothing for the rest, which is asked for each time and mostly answered with 304.

// files is orilla files: what a release holds, or what would be published of a
// folder. What is a folder on this machine is taken as one; all else must be a
// release.
func (a *filesCmd) files(ctx context.Context, site, what string) error {
	report, err := a.folderFiles(ctx, site, what)
	if err == nil && report == nil {
		report, err = a.releaseFiles(ctx, site, what)
	}
	if err != nil {
		return err
	}

	return a.Result(report, func() {
		rows := [][]string{{"ADDRESS", "FILE", "SIZE", "SENT", "TYPE", "CACHED"}}
		for _, file := range report.Files {
			cached, shown := "revalidated", file.Path
			if file.Immutable {
				cached = console.Good("a year")
			}
			if "/"+file.Path == file.Address {
				shown = console.Faint("the same")
			}
			sent := ""
			if file.Sent > 0 {
				sent = console.Size(file.Sent)
			}
			rows = append(rows, []string{file.Address, shown, console.Size(file.Size), sent,
				strings.TrimSuffix(file.Type, "; charset=utf-8"), cached})
		}

		a.Table(rows, 2, 3)
		from := report.Folder
		if report.Release != "" {
			from = report.Release[:12]
		}

		files := console.Count(int64(len(report.Files)), "file", "files")
		about := ""
		if report.Sent > 0 {
			about = console.Faint("  at least ") + console.Size(report.Sent) + console.Faint(" are sent")
		}
		a.Print("%s", console.Strong(files+", "+console.Size(report.Bytes)+" in "+from)+about)
		// Of a folder nothing is ever sent, so nothing is missing there.
		if report.Release != "" && report.Sent == 0 && len(report.Files) > 0 {
			a.Note("%s", console.Faint("a size as sent is known once somebody asked for the file, or after "+
				"orilla deploy --encode"))
		}
		for _, left := range report.LeftOut {
			a.Print("%s %s  %s", console.Warn("left out:"), left.Path, console.Faint(left.Why))
		}

		for _, notice := range report.Notices {
			a.Notice(notice)
		}
	})
}

// Who types orilla files in a fresh clone wants to see the site, and not that nothing was built.
// So the nearest thing that there is is listed, and what it is comes first.

// withoutOutput lists the newest release where nothing was built here.
func (a *filesCmd) withoutOutput(ctx context.Context, p *site.Project, siteName string,
) (*view.FilesReport, error) {
	s, entry, about, err := newest(ctx, a.app, p, siteName)
	if errors.Is(err, errNothingMade) {
		_, err = inspect.WorkingTree(ctx, p) // says what to do about it
		return nil, err
	}
	if err != nil {
		return nil, err
	}
	a.Note("%s", console.Faint("nothing was built in this folder yet; these are the files of "+about))
	return listRelease(ctx, s, entry.Release)
}

// What is typed is looked for on this machine first. A folder that is called like a branch is the
// folder: it is what one sees when one lists the files here.

// folderFiles lists a folder or an archive, or without either the output folder; nil
// if what is neither.
func (a *filesCmd) folderFiles(ctx context.Context, siteName, what string) (*view.FilesReport, error) {
	p, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	folder := site.Output(p)
	if info, err := os.Stat(folder); what == "" && (err != nil || !info.IsDir()) {
		return a.withoutOutput(ctx, p, siteName)
	}
	if what != "" {
		if !folderOr(ctx, a.app, p, what) {
			return nil, nil
		}
		if folder, err = given(ctx, a.app, p, what); err != nil {
			return nil, err
		}
	}

	tree, scan, files, err := site.Fingerprint(ctx, p, folder, nil)
	if err != nil {
		return nil, err
	}
	report := &view.FilesReport{Folder: cmp.Or(what, tree.Root), Bytes: scan.Bytes, LeftOut: scan.LeftOut,
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
	return listRelease(ctx, s, id)
}

// listRelease lists the files of a release.
func listRelease(ctx context.Context, s *session, id release.ID) (*view.FilesReport, error) {
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

	var files []release.File
	for file, err := range reader.Files(ctx) {
		if err != nil {
			return nil, err
		}
		files = append(files, file)
	}
	sent, err := variants.Sent(ctx, s.store, files)
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		described := view.DescribeFile(file, published)
		described.Sent = sent[file.Digest]
		report.Files = append(report.Files, described)
	}
	report.AddUp()
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
