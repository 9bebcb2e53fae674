package cli

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"html/template"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
	"orilla.example/orilla/internal/gallery"
	"orilla.example/orilla/internal/past"
	"orilla.example/orilla/internal/view"
)

// How much of each the report has: what somebody reads, and a file that a telephone opens.
const (
	reportEntries  = 150
	reportBuilds   = 40
	reportPreviews = 100
	reportLost     = 20
	reportPictures = 12
	reportDays     = 14
	// How many lines of lists of files are compared at once, and for how long at most.
	reportHeld     = 400_000
	reportStepTime = 15 * time.Second
)

// The report asks what other commands ask, in the same way, so that it says the same. What it adds is
// that all of it is in one place, and stays as it was.

// siteReportOptions are the flags of report.
type siteReportOptions struct {
	site, out string
	open      bool
}

// siteReportCmd writes a report of a site.
type siteReportCmd struct{ *app }

func newReportCommand(a *app) *cobra.Command {
	c := &siteReportCmd{app: a}
	var o siteReportOptions
	cmd := &cobra.Command{
		Use: "report", Short: "Write one page about the site: live, deploys, visitors", Args: cobra.NoArgs,
		Long: "Report writes one HTML file that needs nothing else: what is live where, what waits and " +
			"what ends, the last deploys and builds, visitors of two weeks, what they did not find, " +
			"and what somebody has to do.",
		Example: "orilla report --open\norilla report --out /srv/reports/corvane.html",
		RunE:    func(cmd *cobra.Command, _ []string) error { return c.report(cmd.Context(), o) },
	}
	cmd.Flags().StringVar(&o.out, "out", "", "write it to this `FILE` (default: SITE-report.html)")
	cmd.Flags().BoolVar(&o.open, "open", false, "open it in the browser")
	siteFlag(cmd.Flags(), &o.site)
	return a.jsonFlag(cmd)
}

// With --json nothing is written but the document: whoever reads that makes a page of their own.

// report is orilla report.
func (a *siteReportCmd) report(ctx context.Context, o siteReportOptions) error {
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	report, err := a.gather(ctx, s)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Document(report)
	}
	var page bytes.Buffer
	if err := view.WriteReport(&page, report); err != nil {
		return err
	}
	file := a.path(o.out)
	if o.out == "" {
		file = a.path(s.site + "-report.html")
	}
	if err := writeWhole(file, page.Bytes()); err != nil {
		return fault.New(fault.Failed, "unwritable", "cannot write the report").At("%s", file).Because(err).
			Then("orilla report --out FILE")
	}
	a.Print("%s  %s", console.Accent(file), console.Faint(console.Size(int64(page.Len()))))
	if o.open {
		if err := openBrowser(ctx, "file://"+filepath.ToSlash(file)); err != nil {
			a.Note("%s", console.Faint("cannot start a browser; open the file yourself"))
		}
	}
	return nil
}

// The file may be one that a server answers with, or that somebody has open: it is replaced by a rename,
// so that nobody reads half of it, and so that a full disk leaves the one before.

// writeWhole writes a file that somebody may have open: whole, or not at all.
func writeWhole(name string, data []byte) error {
	file, err := os.CreateTemp(filepath.Dir(name), ".report-*")
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	err = errors.Join(err, file.Chmod(0o644), file.Close()) //nolint:gosec // it is to be read
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		os.Remove(file.Name()) //nolint:errcheck // it was never whole
	}
	return err
}

// Side by side, since each of them mostly waits for the store.

// gather asks for all that the report says. What cannot be read of visits leaves them out: the rest
// is worth having just then.
func (a *siteReportCmd) gather(ctx context.Context, s *session) (r view.WholeReport, err error) {
	r = view.WholeReport{Site: s.site, Made: a.Now().UTC(), Alarms: []string{},
		Expiring: []view.ExpiringEntry{}}
	group, asking := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		all := func(string) bool { return true }
		r.Status, err = survey{a.app}.surveyed(asking, s, statusOptions{}, s.fixed(), all)
		return err
	})
	group.Go(func() error { return a.deploys(asking, s, &r) })
	group.Go(func() (err error) {
		r.Notices, err = a.told(asking, s)
		return err
	})
	group.Go(func() error {
		r.Traffic = a.visits(asking, s)
		return nil
	})
	if err := group.Wait(); err != nil {
		return r, err
	}
	r.Alarms = append(r.Alarms, view.Alarms(r.Status.EdgeNodes)...)
	a.shorten(&r)
	if err := a.pictures(ctx, s, &r); err != nil {
		return r, err
	}
	return r, ctx.Err()
}

// Entries and builds hang together: a deploy tells how long its build took, and with what, if the
// build is one of those that are listed.

// deploys adds the last entries and builds.
func (a *siteReportCmd) deploys(ctx context.Context, s *session, r *view.WholeReport) error {
	list, err := (&historyCmd{a.app}).describeEntries(ctx, s, "", allEntries(ctx, s), reportEntries)
	if err != nil {
		return err
	}
	r.History, r.More = []view.StepEntry{}, list.More
	for _, entry := range list.Reports {
		r.History = append(r.History, view.StepEntry{EntryReport: entry})
		if entry.Live && entry.Outcome != nil && !entry.Outcome.Passed {
			r.Failing = append(r.Failing, entry)
		}
	}
	last, err := s.runs().Last(ctx, s.hints(ctx)[journal.RunsHint])
	if err != nil {
		return err
	}
	runs, err := s.runs().Back(ctx, last, reportBuilds, func(builds.Run) bool { return true })
	if err != nil {
		return err
	}
	r.Builds = []view.BuildRow{}
	made := map[string]*view.BuildRow{}
	for _, run := range runs {
		row := view.DescribeRun(a.Console, run)
		r.Builds = append(r.Builds, row)
		if row.Release != "" {
			made[row.Release] = &row
		}
	}
	return a.step(ctx, s, list.Entries, made, r.History)
}

// Pictures are photographs of a few kilobytes each, in the page itself: it loads nothing. There are a
// dozen at most, of the environments that come first.

// pictures adds the home pages of what is live, as far as pictures were taken of them.
func (a *siteReportCmd) pictures(ctx context.Context, s *session, r *view.WholeReport) error {
	const width, height = 420, 280 // pixels
	r.Pictures = map[string]template.URL{}
	for _, e := range r.Status.Environments {
		id, err := release.ParseID(e.Release)
		// A report is passed on, and a password is not.
		if err != nil || len(r.Pictures) == reportPictures || e.State == view.StateExpired || e.Protected {
			continue
		}
		data, err := gallery.Small(ctx, s.store, s.site, id, width, height)
		if err != nil {
			return err
		}
		if data != nil {
			//nolint:gosec // it is base64
			r.Pictures[e.Environment] = template.URL("data:image/jpeg;base64," +
				base64.StdEncoding.EncodeToString(data))
		}
	}
	return nil
}

// Who was told of what is a part of the report only where somebody is to be told at all.

// told is who was told of what; nil if nobody is to be.
func (a *siteReportCmd) told(ctx context.Context, s *session) (*view.NoticesReport, error) {
	if !courier.Wanted(s.project.ProductionConfig) {
		return nil, nil //nolint:nilnil // nobody is an answer
	}
	options, ok := noticeOptions(ctx, s.project, s.store, s.site)
	if !ok {
		return nil, nil //nolint:nilnil // see above
	}
	record, err := courier.Read(ctx, s.store, s.site)
	if err != nil {
		return nil, err
	}
	report := view.NewNotices(s.site, courier.Recipients(options), record)
	return &report, nil
}

// A site with a thousand previews has a page of a hundred, and says how many there are besides: who looks
// for one of them asks orilla preview.

// shorten keeps the previews that moved last, and says which end within a week.
func (a *siteReportCmd) shorten(r *view.WholeReport) {
	const soon = 7 * 24 * time.Hour
	var kept []view.EnvironmentReport
	previews := 0
	for _, e := range r.Status.Environments {
		if !strings.HasPrefix(e.Environment, "preview/") {
			kept = append(kept, e)
			continue
		}
		if e.Expires != nil && e.Expires.After(r.Made) && e.Expires.Sub(r.Made) < soon {
			r.Expiring = append(r.Expiring, view.ExpiringEntry{Environment: e.Environment, Until: *e.Expires})
		}
		if previews++; previews <= reportPreviews {
			kept = append(kept, e)
		}
	}
	r.Previews = max(0, previews-reportPreviews)
	r.Status.Environments = kept
	slices.SortFunc(r.Expiring, func(a, b view.ExpiringEntry) int { return a.Until.Compare(b.Until) })
	r.Expiring = r.Expiring[:min(len(r.Expiring), reportPreviews)]
}

// A site with releases of 100,000 files that all change would be compared for a minute: after a while
// what is not compared yet is left out, the oldest first.

// step adds to the entries that made something live what they changed, what they weigh, and the build
// that made them.
func (a *siteReportCmd) step(ctx context.Context, s *session, entries []journal.Entry,
	made map[string]*view.BuildRow, to []view.StepEntry,
) error {
	bounded, cancel := context.WithTimeout(ctx, reportStepTime)
	defer cancel()
	group, asking := errgroup.WithContext(bounded)
	group.SetLimit(storage.Parallel(s.store))
	walks, wires := map[string]*past.Walk{}, &check.Wires{}
	var files atomic.Int64
	files.Store(reportHeld / 8) // before anything is known
	held := semaphore.NewWeighted(reportHeld)
	for i, entry := range entries {
		switch entry.Kind {
		case journal.Deploy, journal.Promotion, journal.Rollback:
		default:
			continue
		}
		walk := walks[entry.Environment]
		if walk == nil {
			walk = past.New(s.store, s.site, entry.Environment, a.Now())
			walks[entry.Environment] = walk
		}
		group.Go(func() error {
			// The lists of two releases are held at once: of many small ones more than of large ones.
			weight := min(2*files.Load(), reportHeld)
			if err := held.Acquire(asking, weight); err != nil {
				return err
			}
			defer held.Release(weight)
			step, err := walk.Step(asking, entry, wires)
			if err != nil || step == nil {
				return err
			}
			files.Store(step.Files) // the next ones have about as many
			to[i].Step = &view.EntryStep{Files: step.Files, Bytes: step.Bytes, Changed: step.Changed,
				Build: made[entry.Release.Short()]}
			if !step.Before.Release.IsZero() {
				to[i].Step.Before = step.Before.Label()
			}
			if step.Requests > 0 {
				to[i].Step.Page = &view.PageWeight{Wire: step.Wire, Requests: step.Requests}
			}
			return nil
		})
	}
	err := group.Wait()
	if bounded.Err() != nil && ctx.Err() == nil {
		a.Note(
			"%s",
			console.Faint("comparing the releases takes too long; what changed is left out of older deploys"),
		)
		return nil
	}
	return err
}

// Two weeks are what one can see on one page, and enough to tell a Sunday from a fault.

// visits is what visitors of production asked for, nil if nothing was counted.
func (a *siteReportCmd) visits(ctx context.Context, s *session) *view.TrafficReport {
	const day = 24 * time.Hour
	to := a.Now().UTC().Truncate(day).Add(day)
	found, err := (&trafficCmd{a.app}).gather(ctx, s, project.Production, to.Add(-reportDays*day), to)
	if err != nil || found.Total.Requests == 0 {
		return nil
	}
	found = found.Limited(reportLost)
	return &found
}
