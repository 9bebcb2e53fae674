package cli

import (
	"context"
	"runtime"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/variants"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/encoder"
)

// encode makes the encoded copies of what a release holds, where its builds run. The
// release is there and goes on being there: what fails is told, and edge nodes do it.
func (a *app) encode(ctx context.Context, job deploy.Job, id release.ID) {
	began := time.Now()
	var files []release.File
	reader, err := release.Read(ctx, job.Store, job.Plan.Site, id)
	if err == nil {
		for file, failed := range reader.Files(ctx) {
			if err = failed; err != nil {
				break
			}
			files = append(files, file)
		}
	}
	var made variants.Made
	if err == nil {
		progress := a.Busy("compress", "")
		made, err = variants.Fill(ctx, job.Store, files, variants.Options{
			Encoder: encoder.Best, Parallel: runtime.NumCPU(),
			Tell: func(done, all int) {
				progress.Text(console.Count(int64(all-done), "copy", "copies") + " to go")
			},
		})
		progress.End()
	}
	if err != nil {
		a.Notice(fault.Notice{Code: "not-encoded", What: "not everything could be compressed: " + err.Error(),
			Next: "nothing; edge nodes do the rest when somebody asks"})
		return
	}
	if made.Before == 0 {
		a.Note("%s", console.Faint("compressed: nothing here gains by it"))
		return
	}
	// What it comes to is worth more than what was done for it.
	about := "all there already"
	if made.Made > 0 {
		about = console.Count(int64(made.Made), "new copy", "new copies") + " in " +
			console.Took(time.Since(began))
	}
	a.Note("%s %s of text travel as %s  %s", console.Good("compressed"), console.Size(made.Before),
		console.Size(made.After), console.Faint(about))
}
