package cli

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/gallery"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// reporter shows a run while it goes on.
type reporter struct {
	app   *app
	phase string
	what  string    // says more of the phase
	began time.Time // the phase
	build int64     // the number of the build, once it has one

	streamed int // bytes of what steps print
	cut      bool

	mutex    sync.Mutex // Uploaded is called from several goroutines
	progress *console.Progress
	uploaded publish.Progress
	files    int
}

// Begin implements deploy.Reporter.
func (r *reporter) Begin(phase, what string) {
	r.end()
	r.phase, r.what, r.began = phase, what, time.Now()
	// Most uploads are over before a bar could be read; Uploaded begins one if
	// not.
	if phase != "upload" {
		r.progress = r.app.Busy(phase, what)
	}
}

// Line implements deploy.Reporter: the step's output folds into the progress
// line; without a terminal it streams.
func (r *reporter) Line(text string) {
	if r.app.ErrTerm {
		r.mutex.Lock()
		defer r.mutex.Unlock()
		// A notice has taken the line away, or no phase has begun.
		if r.progress == nil {
			r.progress = r.app.Busy(r.phase, "")
		}
		r.progress.Text(text)
		return
	}
	// CI systems keep logs for ever, and some show nothing of one that is too
	// long.
	if r.streamed += len(text) + 5; r.streamed <= maxStreamed {
		r.app.Note("  | %s", text)
	} else if !r.cut {
		r.cut = true
		r.app.Note("  | %s", "... it prints over "+console.Size(maxStreamed)+"; orilla log shows all of it")
	}
}

// maxStreamed is how many bytes of what steps print are streamed.
const maxStreamed = 4_000_000

// Step implements deploy.Reporter.
func (r *reporter) Step(step builds.Step) {
	if !r.app.ErrTerm {
		r.app.Note("  step %s: %s, status %d",
			console.Took(time.Duration(step.Milliseconds)*time.Millisecond), step.Command, step.Exit)
	}
}

// slowUpload is after what time an upload shows how far it is.
const slowUpload = 400 * time.Millisecond

// Uploaded implements deploy.Reporter.
func (r *reporter) Uploaded(done publish.Progress, files int, bytes int64) {
	r.mutex.Lock()
	r.uploaded, r.files = done, files
	r.mutex.Unlock()
	if r.phase != "upload" || !r.app.ErrTerm || time.Since(r.began) < slowUpload {
		return
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.progress == nil {
		r.progress = r.app.Bytes("upload", max(bytes, 1))
	}
	r.progress.Text(fmt.Sprintf("%d of %d files, %d new", done.Files, files, done.NewFiles))
	r.progress.At(done.Bytes)
}

// interrupted says what was interrupted, and what stays of it.
func (r *reporter) interrupted(plan *site.Plan) error {
	during := r.phase
	switch r.phase {
	case "upload":
		r.mutex.Lock()
		during = fmt.Sprintf("upload, after %d of %d files, %d of them sent", r.uploaded.Files, r.files,
			r.uploaded.NewFiles)
		r.mutex.Unlock()
	case "build":
		during = "build: " + r.what
	case "":
		during = "preparation"
	}

	problem := fault.New(fault.Failed, "interrupted", "interrupted during %s", during).
		Marked(context.Canceled)
	if r.build > 0 {
		problem = problem.With(builds.Begun{Number: r.build}.Label() + " has ended")
	}
	if plan.Environment != "" {
		problem = problem.With(journal.DisplayName(plan.Environment) + " serves the same as before")
	}
	return problem.Then("run the same command again; files already sent are not sent again")
}

// Notice implements deploy.Reporter.
func (r *reporter) Notice(notice fault.Notice) {
	r.end()
	r.app.Notice(notice)
}

// end takes the progress off the screen; what was noted above it stays.
func (r *reporter) end() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.progress != nil {
		r.progress.End()
		r.progress = nil
	}
}

// reportBuilt tells the address of a release that is live nowhere.
func (a *activator) reportBuilt(ctx context.Context, done deployed) error {
	plan, result := done.job.Plan, done.release
	nodes, _ := edge.Reached(ctx, done.job.Store, storage.KnownAhead(done.job.Store))
	address := view.ReleaseAddress(plan.Site, result.ID.String(), view.NearbyPort(nodes))
	if a.JSON {
		report := view.NewDeployReport(plan, result)
		report.ReleaseURL, report.EdgeNodes, report.DryRun = address, len(nodes), a.dry
		return a.Document(report)
	}

	if a.dry {
		a.Row(a.Err, "would be", result.ID.Short()+", not published")
		a.Note("%s", console.Faint("--dry-run changed nothing"))
		return nil
	}
	a.Row(a.Err, "release", console.Accent(result.ID.Short())+"  not published")
	a.Print("%s", console.Accent(address))
	view.HintEdge(a.Console, nodes)
	return nil
}

// reportLive tells what is live, where, and how to undo it. flip is when the
// activation began, started when all of it did.
func (a *activator) reportLive(ctx context.Context, o *deployOptions, done deployed, flip, started time.Time,
) error {
	live := done.live
	s := &session{project: done.job.Plan.Project, store: done.job.Store, site: done.job.Plan.Site,
		waker: live.Waker()}
	// Live is what the nodes say, and not what was written.
	there := flipped(ctx, s, live.Entry)
	landed := view.Landed{
		Plan: done.job.Plan, Release: done.release, Live: live, Flip: there, Took: time.Since(flip),
		Addresses: s.addresses(ctx, live.Entry.Environment, live.Entry.Document, there.Nodes),
	}

	if len(done.job.WaitFor) > 0 {
		landed.Took = 0 // what it was waited for took most of it
	}
	if done.verified != nil {
		landed.Outcome = &done.verified.Outcome
	}

	landed.Total = time.Since(started)

	if a.JSON {
		if err := a.Document(landed.Report()); err != nil {
			return err
		}
	} else {
		view.PrintLive(a.Console, landed)
	}

	if err := o.writeOptions.save(landed.Outputs()); err != nil {
		return err
	}
	if o.open {
		// It is live, whatever comes of the browser.
		if err := openBrowser(ctx, landed.Addresses[len(landed.Addresses)-1]); err != nil {
			a.Notice(fault.Notice{Code: fault.Code(err), What: fault.Line(err),
				Next: "open " + landed.Addresses[len(landed.Addresses)-1]})
		}
	}
	if o.pictures {
		a.picture(ctx, s, live.Entry.Label())
	}
	return nil
}

// The line that says what is live was printed before. Whoever is in a hurry presses Ctrl-C here and loses
// nothing but the pictures.

// picture takes pictures of what has become live. That is afterwards: nothing waits for it, and nothing
// fails if it does.
func (a *activator) picture(ctx context.Context, s *session, label string) {
	c := &picturesCmd{a.app}
	began := time.Now()
	after, err := (&diffCmd{a.app}).diffSide(ctx, s, label)
	if err == nil {
		busy := a.Busy("pictures", "")
		var taken *gallery.Taken
		taken, _, _, err = c.taken(
			ctx,
			s,
			&picturesOptions{pictureOptions: pictureOptions{most: mostPages}},
			after,
			busy,
		)
		busy.End()
		if err == nil {
			a.Row(
				a.Err,
				"pictures",
				fmt.Sprintf("%s in %s  %s", console.Count(
					int64(len(taken.Shots)),
					"picture",
					"pictures",
				), console.Took(time.Since(began)), console.Faint("orilla open --picture "+label)),
			)
			return
		}
	}
	err = untaken(err)
	a.Notice(fault.Notice{Code: fault.Code(err), What: "no pictures were taken: " + fault.Line(err),
		Next: "orilla pictures " + label})
}

// live returns the addresses that an environment's
// document says; none without one.
func (s *session) live(ctx context.Context, document digest.Digest) []string {
	if document.IsZero() {
		return nil
	}
	data, err := release.Object(ctx, s.store, document)
	if err != nil {
		return nil
	}

	content, err := journal.DecodeDocument(data)
	if err != nil {
		return nil
	}
	return content.Addresses
}

// later returns the addresses that orilla.yaml gives an environment and that
// are not live yet: the next deploy brings them.
func (s *session) later(environment string, live []string) (addresses []string) {
	if s.site != s.project.Site() {
		return nil
	}
	for _, address := range s.project.ProductionConfig.Document(environment).Addresses {
		if !slices.Contains(live, address) {
			addresses = append(addresses, address)
		}
	}
	return addresses
}

// addresses returns where an environment answers: as its
// document says, and on this machine.
func (s *session) addresses(ctx context.Context, environment string, document digest.Digest,
	nodes []edge.Presence,
) []string {
	// The canonical address, and then the one at which every node answers by
	// itself, so that there is always one that can be opened.
	planned := s.live(ctx, document)
	var addresses []string
	base := "/"
	if len(planned) > 0 {
		addresses = append(addresses, planned[0])
		base = view.BasePath(planned[0])
	}
	return append(addresses, "http://"+project.LocalName(s.site, environment)+":"+view.NearbyPort(nodes)+base)
}
