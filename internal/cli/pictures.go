package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orilla.example/orilla/internal/browser"
	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/gallery"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// Pictures are taken by whoever wants to see them, on a machine that has a browser: builds run where there is
// none, and edge nodes are no place for one. So nothing here is needed for a deploy, and a deploy that takes
// pictures is live before the browser begins.
//
//	orilla pictures            the home page, the pages of orilla.yaml, and those that changed
//	orilla deploy --pictures   the same, after it is live
//	orilla diff --pictures     of two releases, beside each other
//	orilla open --picture      one that was taken

// browserVariable names the browser, where none is in the usual places.
const browserVariable = "ORILLA_BROWSER"

// mostPages is how many pages pictures are taken of, unless said otherwise.
const mostPages = 20

// pictureOptions are the flags of whatever takes pictures.
type pictureOptions struct {
	pages   []string
	widths  []int
	schemes []string
	browser string
	most    int
	again   bool
}

// The same options are those of pictures and of diff: what is compared can be looked at alone, in the
// same views, and a picture that was taken for the one is found by the other.

// flags adds them.
func (o *pictureOptions) flags(flags *pflag.FlagSet) {
	flags.StringArrayVar(&o.pages, "page", nil, "also of the page at this `PATH` (repeatable)")
	flags.IntSliceVar(&o.widths, "width", nil, "width of the window in `PIXELS` (default 390 and 1280)")
	flags.StringSliceVar(&o.schemes, "scheme", nil, "colour `SCHEME`: light, dark or both (default light)")
	flags.StringVar(&o.browser, "browser", "", "the Chromium or Chrome at this `FILE` (default: one in PATH)")
	flags.IntVar(&o.most, "most", mostPages, "of `N` pages at most")
	flags.BoolVar(&o.again, "retake", false, "take pictures again that are there already")
}

// What is typed comes before what the project says: a width that somebody wants to see once is not worth a
// commit.

// views are the views that are asked for, else those of the project.
func (o *pictureOptions) views(config project.Pictures) ([]pictures.View, error) {
	if len(o.widths) > 0 {
		config.Widths = o.widths
	}
	for _, width := range o.widths {
		if width < pictures.LeastWidth || width > pictures.MostWidth {
			return nil, fault.New(fault.Usage, "usage", "--width %d: it must be from %d to %d", width,
				pictures.LeastWidth, pictures.MostWidth)
		}
	}
	for _, scheme := range o.schemes {
		switch scheme {
		case pictures.Light, pictures.Dark:
		case "both":
			o.schemes = []string{pictures.Light, pictures.Dark}
		default:
			return nil, fault.New(fault.Usage, "usage", "--scheme %s: write light, dark or both", scheme)
		}
	}
	if len(o.schemes) > 0 {
		config.Schemes = o.schemes
	}
	if o.most < 1 {
		return nil, fault.New(fault.Usage, "usage", "--most %d: write 1 or more", o.most)
	}
	return config.Views(), nil
}

// The home page is always one of them: it is what a deploy breaks most visibly, and what lists, reports
// and mails show.

// chosen lists the pages that are named: the home page, and those of the project and of the command line.
func (o *pictureOptions) chosen(config project.Pictures) ([]string, error) {
	list := []string{"/"}
	for _, page := range slices.Concat(config.Pages, o.pages) {
		if !strings.HasPrefix(page, "/") {
			return nil, fault.New(
				fault.Usage,
				"usage",
				"--page %s: write the path of a page, such as /fares",
				page,
			)
		}
		if !slices.Contains(list, page) {
			list = append(list, page)
		}
	}
	return list, nil
}

// The browser is looked for before anything is read from the store: whoever has none learns it at once, and
// not after a minute of comparing.

// galleryOf returns what takes pictures of a site, as the options say.
func galleryOf(a *app,
	s *session,
	o *pictureOptions,
	progress *console.Progress,
) (*gallery.Gallery, []pictures.View, error) {
	config := s.project.LocalConfig.Pictures
	views, err := o.views(config)
	if err != nil {
		return nil, nil, err
	}
	program, err := browserNamed(cmp.Or(o.browser, os.Getenv(browserVariable)))
	if err != nil {
		return nil, nil, err
	}
	bubblewrap, _ := exec.LookPath("bwrap")
	options := gallery.Options{Program: program, Bubblewrap: bubblewrap, Views: views, Hidden: config.Ignore,
		Again: o.again, Now: a.Now}
	if progress != nil {
		options.Tell = func(done, all int) { progress.Text(fmt.Sprintf("%d of %d", done, all)) }
	}
	return gallery.New(s.store, s.site, options), views, nil
}

// standInBrowser is what is named to have the stand-in draw pages.
const standInBrowser = "stand-in"

// browserNamed finds a browser.
func browserNamed(named string) ([]string, error) {
	if named == standInBrowser {
		program, err := os.Executable()
		return []string{program, "stand-in", "browser"}, err
	}
	program, err := browser.Find(named)
	if err != nil {
		return nil, noBrowser(err)
	}
	return []string{program}, nil
}

// Which package brings a browser is known for a few systems; everywhere it can be named.

// noBrowser says which package brings a browser.
func noBrowser(err error) error {
	problem := fault.New(fault.Failed, "no-browser", "pictures need Chromium or Chrome, which was not found").
		Because(err)
	switch runtime.GOOS {
	case "linux":
		problem = problem.Then(
			"install it: apt-get install chromium (Debian), or dnf install chromium (Fedora)",
		)
	case "darwin":
		problem = problem.Then("install it: brew install --cask chromium")
	}
	return problem.Then("or name it: --browser FILE, or the variable %s", browserVariable)
}

// Each of these has happened to somebody: a container that runs as root, a machine without bubblewrap, a
// browser that a package manager has half removed. What to do is another thing each time.

// untaken explains why no pictures were taken.
func untaken(err error) error {
	switch {
	case errors.Is(err, gallery.ErrNotIsolated):
		return fault.New(fault.Refused, "not-isolated",
			"this was built on an untrusted branch, or nobody knows where: it is shown only in isolation").
			Because(err).Then("install it: apt-get install bubblewrap").
			Then("or trust the branch: build: {trust: [BRANCH]} on the production branch")
	case errors.Is(err, browser.ErrRoot):
		return fault.New(fault.Refused, "not-isolated", "the browser would run as root without a sandbox").
			Because(err).
			Then("install bubblewrap, or run Orilla as another user")
	case errors.Is(err, browser.ErrEnded):
		return fault.New(fault.Failed, "browser-ended", "the browser ended before it had drawn anything").
			Because(err).
			Then("see whether it starts: chromium --headless --dump-dom about:blank").
			Then("or name another one: --browser FILE, or the variable %s", browserVariable)
	}
	return err
}

// Pages know where they are: some show their address, most have absolute links to themselves. All
// releases are shown at the address of production, whatever environment they are in, so that this is
// no difference. A side whose build is a stranger's, or is not known any more, is marked; that of a
// commit which was never built is not shown at all.

// pictureSide makes a side of a comparison one that can be shown.
func pictureSide(ctx context.Context, s *session, side view.DiffSide) (gallery.Side, error) {
	shown := gallery.Side{
		Side:    side.Side,
		Address: "http://" + project.LocalName(s.site, project.Production) + "/",
	}
	// One address for all, so that a page that shows it looks the same everywhere. What differs between
	// environments, such as a banner of previews, is a matter of settings.
	head, err := s.head(ctx, project.Production)
	if err != nil && !errors.Is(err, journal.ErrEmpty) {
		return shown, err
	}
	address := s.addresses(ctx, project.Production, head.Document, nil)[0]
	if at, err := url.Parse(address); err == nil && !strings.HasSuffix(at.Hostname(), ".localhost") {
		shown.Address = address
	}
	if side.Release != "" {
		if shown.Release, err = release.ParseID(side.Release); err != nil {
			return shown, err
		}
	}
	record, err := inspect.BuildRecord(ctx, s.store, s.site, side.Build)
	// Where it comes from is not known without a record: it may be a stranger's.
	shown.Untrusted = record == nil || record.Untrusted != nil
	return shown, err
}

// picturesCmd takes pictures of pages.
type picturesCmd struct{ *app }

// picturesOptions are the flags of pictures.
type picturesOptions struct {
	pictureOptions
	site, since, out string
	open, show       bool
}

func newPicturesCommand(a *app) *cobra.Command {
	c := &picturesCmd{app: a}
	var o picturesOptions
	cmd := &cobra.Command{
		Use: "pictures [ENVIRONMENT|RELEASE]", Short: "Take pictures of pages", Args: cobra.MaximumNArgs(1),
		Long: "Pictures shows the home page, the pages that orilla.yaml names, and those that " +
			"changed since the release before, in a browser without a network, and keeps pictures " +
			"of them in the store. " +
			"It needs Chromium or Chrome.",
		Example: "orilla pictures\norilla pictures preview/winter-times --page /fares --open\n" +
			"orilla pictures production --scheme both --out pictures",
		ValidArgsFunction: completion{a}.releases,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.pictures(cmd.Context(), &o, argument(args, 0))
		},
	}
	flags := cmd.Flags()
	o.flags(flags)
	flags.StringVar(
		&o.since,
		"since",
		"",
		"of the pages that changed since this `RELEASE` (default: the one before)",
	)
	flags.StringVar(&o.out, "out", "", "also write them to this `FOLDER`")
	flags.BoolVar(&o.open, "open", false, "show them in the browser, until Ctrl-C")
	flags.BoolVar(&o.show, "show", false, "with --open: print the URL and open no browser")
	siteFlag(flags, &o.site)
	return a.jsonFlag(cmd)
}

// What is told is in the order in which it is wanted: which release this is, which pages there are pictures
// of, what is to be known of some of them, and how long it took. On a terminal a line says how far it is.

// pictures is orilla pictures.
func (a *picturesCmd) pictures(ctx context.Context, o *picturesOptions, typed string) error {
	if o.open && a.JSON {
		return errOpenJSON()
	}
	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	began := time.Now()
	after, err := (&diffCmd{a.app}).diffSide(ctx, s, cmp.Or(typed, project.Production))
	if err != nil {
		return err
	}
	busy := a.Busy("pictures", "")
	taken, left, views, err := a.taken(ctx, s, o, after, busy)
	busy.End()
	if err != nil {
		return untaken(err)
	}
	report := view.PicturesReport{Name: after.Name, Release: after.Release, Commit: after.Commit,
		Subject: after.Subject, Browser: taken.Browser, Isolated: taken.Isolated, Taken: taken.New,
		Left:     left,
		Pictures: []view.PictureReport{}}
	for _, shot := range taken.Shots {
		report.Pictures = append(report.Pictures, view.DescribePicture(shot))
	}
	if o.out != "" {
		if err := a.write(ctx, a.path(o.out), taken, &report); err != nil {
			return err
		}
	}
	a.noteUnkept(taken)
	if a.JSON {
		return a.Document(report)
	}
	a.show(report, views, o.most, time.Since(began))
	if o.open {
		return exhibit(ctx, a.app,
			&gallery.Exhibition{Site: s.site, AfterName: after.Name, After: taken},
			o.show,
		)
	}
	return nil
}

// noteUnkept says that pictures are not in the store.
func (a *picturesCmd) noteUnkept(taken *gallery.Taken) {
	if taken.Unkept {
		a.Notice(fault.Notice{Code: "pictures-not-kept",
			What: "you may not write pictures to this store, so they are taken again each time"})
	}
}

// Pages that changed and were not pictured are never passed over in silence: a check that looked at twenty
// of two hundred pages would else be taken for one that looked at all.

// show prints what was taken.
func (a *picturesCmd) show(r view.PicturesReport, views []pictures.View, most int, took time.Duration) {
	a.Print("%s  %s  %s", console.Strong(r.Name), console.Faint(view.ShortRelease(r.Release)), r.Subject)
	view.PrintPictures(a.Console, r, views)
	how := "not isolated"
	if r.Isolated {
		how = "isolated"
	}
	there := ""
	if before := len(r.Pictures) - r.Taken; before > 0 {
		there = fmt.Sprintf(", %d were there", before)
	}
	a.Row(a.Err, "taken", fmt.Sprintf("%s in %s%s  %s", console.Count(int64(r.Taken), "picture", "pictures"),
		console.Took(took), there, console.Faint("by "+r.Browser+", "+how)))
	if r.Left > 0 {
		a.Hint(
			"more:",
			fmt.Sprintf("%s changed too: --most %d", console.Count(int64(r.Left), "page", "pages"),
				r.Left+most),
		)
	}
	a.Hint("next:", "see them: orilla pictures "+r.Name+" --open")
}

// Which pages are worth a look is decided before the browser starts: a site of a thousand pages of which one
// changed costs as much as a site of three.

// taken takes the pictures that are wanted. left is of how many pages that changed none were.
func (a *picturesCmd) taken(ctx context.Context, s *session, o *picturesOptions, after view.DiffSide,
	busy *console.Progress,
) (taken *gallery.Taken, left int, views []pictures.View, err error) {
	g, views, err := galleryOf(a.app, s, &o.pictureOptions, busy)
	if err != nil {
		return nil, 0, nil, err
	}
	defer g.Close()
	chosen, err := o.chosen(s.project.LocalConfig.Pictures)
	if err != nil {
		return nil, 0, nil, err
	}
	before, there, err := a.since(ctx, s, o.since, after.Name)
	if err != nil {
		return nil, 0, nil, err
	}
	paths := chosen
	if there {
		var pairs []gallery.Pair
		if pairs, left, err = gallery.Pairs(ctx, before.Side, after.Side, chosen, o.most); err != nil {
			return nil, 0, nil, err
		}
		paths = nil
		for _, pair := range pairs {
			if pair.After != "" {
				paths = append(paths, pair.After)
			}
		}
	}
	side, err := pictureSide(ctx, s, after)
	if err != nil {
		return nil, 0, nil, err
	}
	taken, err = g.Take(ctx, side, paths)
	return taken, left, views, err
}

// "What changed" needs something to compare with. For an entry of production that is the entry before it, as
// in orilla history; for a preview, a release or a commit it is what visitors have now.

// since finds the release that the pages are compared with, to know which changed: what is asked for, or
// what was live before an entry; of anything else what is live.
func (a *picturesCmd) since(
	ctx context.Context,
	s *session,
	typed, name string,
) (side view.DiffSide, there bool, err error) {
	diff := &diffCmd{a.app}
	if typed != "" {
		side, err = diff.diffSide(ctx, s, typed)
		return side, err == nil, err
	}
	typed = project.Production
	if environment, number, ok := strings.Cut(name, ":"); ok && environment == project.Production {
		if number == "1" {
			return side, false, nil
		}
		var n int64
		if _, err := fmt.Sscan(number, &n); err == nil {
			typed = fmt.Sprintf("%s:%d", environment, n-1)
		}
	}
	side, err = diff.diffSide(ctx, s, typed)
	if err != nil { // pruned, or nothing was live
		return side, false, ctx.Err()
	}
	return side, true, nil
}

// Names of files are made of the page's path, the width and the scheme, so that a later run writes over the
// pictures of the same page and nothing else.

// write writes pictures to a folder, with names by which they can be told apart.
func (a *picturesCmd) write(
	ctx context.Context,
	folder string,
	taken *gallery.Taken,
	r *view.PicturesReport,
) error {
	if err := os.MkdirAll(folder, 0o755); err != nil { //nolint:gosec // they are to be read
		return fault.New(fault.Failed, "unwritable", "cannot write the pictures").
			At("%s", folder).
			Because(err)
	}
	for i, shot := range taken.Shots {
		if shot.Problem != "" {
			continue
		}
		data, err := taken.PNG(ctx, shot)
		if err != nil {
			return err
		}
		name := strings.Trim(strings.Map(func(c rune) rune {
			if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c == '.' || c == '-' {
				return c
			}
			return '_'
		}, shot.Path), "_")
		file := filepath.Join(
			folder,
			fmt.Sprintf("%s-%d-%s.png", cmp.Or(name, "home"), shot.Width, shot.Scheme),
		)
		if err := writeWhole(file, data); err != nil {
			return fault.New(fault.Failed, "unwritable", "cannot write the pictures").
				At("%s", file).
				Because(err)
		}
		r.Pictures[i].File = file
	}
	return nil
}

// Who reads JSON is a program, and waits for the end of the document; a page is shown until somebody
// presses Ctrl-C.

// errOpenJSON is the error of two options that exclude each other: one document, and a page that goes on.
func errOpenJSON() error {
	return fault.New(fault.Usage, "usage", "--open goes without --json")
}

// An option that does nothing is worse than an error: a pipeline with --fail-above and without
// --pictures would be green for ever.

// fits says which options of diff belong together.
func (o *diffOptions) fits(json bool) error {
	if o.pictures {
		if o.open && json {
			return errOpenJSON()
		}
		if o.addresses || o.text != "" {
			return fault.New(fault.Usage, "usage", "--pictures goes with neither --text nor --addresses")
		}
		return nil
	}
	if o.failAbove >= 0 {
		return fault.New(fault.Usage, "usage", "--fail-above goes with --pictures")
	}
	return nil
}

// The status is decided after everything was shown: who reads the log of a pipeline wants to see which pages
// it was. With --open nothing fails, since somebody is looking.

// diffPictures compares how the pages of both sides look.
func (a *diffCmd) diffPictures(ctx context.Context, s *session, o diffOptions, sides view.DiffReport) error {
	busy := a.Busy("pictures", "")
	report, exhibition, views, err := a.look(ctx, s, &o, sides, busy)
	busy.End()
	if err != nil {
		return untaken(err)
	}
	if a.JSON {
		if err := a.Document(report); err != nil {
			return err
		}
	} else {
		a.Print("%s  %s  beside  %s  %s", console.Strong(report.After), sides.After.Subject,
			console.Strong(report.Before), sides.Before.Subject)
		view.PrintSeen(a.Console, report, views)
		if report.Left > 0 {
			left := console.Count(int64(report.Left), "page", "pages")
			a.Hint("more:", fmt.Sprintf("%s changed too: --most %d", left,
				report.Left+o.shown.most))
		}
		if o.open {
			return exhibit(ctx, a.app, exhibition, o.show)
		}
		a.Hint("next:", fmt.Sprintf("see them: orilla diff %s %s --pictures --open", report.Before,
			report.After))
	}
	if report.Failed {
		return fault.New(fault.Findings, "looks-different", "pages look different by more than %s",
			view.Percent(o.failAbove)).Marked(errLooks).
			Then("orilla diff %s %s --pictures --open", report.Before, report.After)
	}
	return nil
}

// errLooks: pages look different.
var errLooks = errors.New("pages look different")

// Both sides are shown by one browser, one after the other: what it draws differently on another day, such as
// fonts that were installed meanwhile, would otherwise be a difference of the pages. What was taken on such a
// day has another key, and is taken again.

// look takes pictures of both sides and compares them.
func (a *diffCmd) look(
	ctx context.Context,
	s *session,
	o *diffOptions,
	sides view.DiffReport,
	busy *console.Progress,
) (r view.SeenPages, e *gallery.Exhibition, views []pictures.View, err error) {
	g, views, err := galleryOf(a.app, s, &o.shown, busy)
	if err != nil {
		return r, nil, nil, err
	}
	defer g.Close()
	chosen, err := o.shown.chosen(s.project.LocalConfig.Pictures)
	if err != nil {
		return r, nil, nil, err
	}
	pairs, left, err := gallery.Pairs(ctx, sides.Before.Side, sides.After.Side, chosen, o.shown.most)
	if err != nil {
		return r, nil, nil, err
	}
	r = view.SeenPages{
		Before: sides.Before.Name,
		After:  sides.After.Name,
		Left:   left,
		Pages:  []view.SeenReport{},
	}
	var both [2]*gallery.Taken
	for i, side := range []view.DiffSide{sides.Before, sides.After} {
		shown, err := pictureSide(ctx, s, side)
		if err != nil {
			return r, nil, nil, err
		}
		var paths []string
		for _, pair := range pairs {
			if path := [2]string{pair.Before, pair.After}[i]; path != "" {
				paths = append(paths, path)
			}
		}
		if both[i], err = g.Take(ctx, shown, paths); err != nil {
			return r, nil, nil, err
		}
	}
	(&picturesCmd{a.app}).noteUnkept(both[1])
	r.Browser = both[1].Browser
	busy.Text("comparing")
	outcomes, err := g.Compare(ctx, both[0], both[1], pairs)
	if err != nil {
		return r, nil, nil, err
	}
	if o.failAbove >= 0 {
		r.Limit = &o.failAbove
	}
	for _, outcome := range outcomes {
		one := view.DescribeSeen(outcome)
		r.Pages = append(r.Pages, one)
		r.Failed = r.Failed || r.Limit != nil && (one.Percent > *r.Limit || one.State == gallery.StateUnknown)
	}
	return r, &gallery.Exhibition{
		Site:       s.site,
		BeforeName: label(sides.Before),
		AfterName:  label(sides.After),
		Before:     both[0],
		After:      both[1],
		Outcomes:   outcomes,
	}, views, nil
}

// label is what a side is called above its pictures.
func label(side view.DiffSide) string {
	if side.Commit != "" && source.Short(side.Commit) != side.Name {
		return side.Name + "  " + source.Short(side.Commit) + "  " + side.Subject
	}
	return side.Name + "  " + side.Subject
}

// The page is shown at localhost, for as long as somebody looks at it. What it shows is in memory or in the
// store; nothing is written.

// exhibit shows pictures in a page until the context ends.
func exhibit(ctx context.Context, a *app, exhibition *gallery.Exhibition, show bool) error {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := fmt.Sprintf("http://localhost:%d/", listener.Addr().(*net.TCPAddr).Port)
	a.Print("%s", console.Accent(address))
	a.Note("%s", console.Faint("press Ctrl-C to stop"))
	if !show {
		if err := openBrowser(ctx, address); err != nil {
			a.Note("%s", console.Faint("cannot start a browser; open the URL yourself"))
		}
	}
	return connections.Serve(ctx, listener, exhibition)
}
