package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/demo"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/view"
)

// demoCmd plays the whole story on a made-up project.
type demoCmd struct{ *app }

func newDemoCommand(a *app) *cobra.Command {
	c := &demoCmd{app: a}
	var into string
	var once bool
	cmd := &cobra.Command{
		Example: "orilla demo\norilla demo --into corvane",
		Use:     "demo", Short: "Run a guided demo with a sample site",
		Args: cobra.NoArgs,
		Long: "Demo creates the sample project of Corvane Ferries, a real Git repository, deploys " +
			"its commits, shows a branch in a preview and promotes it, goes back from a mistake, " +
			"follows new commits, and leaves an edge node running until Ctrl-C.",
		RunE: func(cmd *cobra.Command, _ []string) error { return c.demo(cmd.Context(), into, once) },
	}

	cmd.Flags().StringVar(&into, "into", "",
		"keep the demo in this `FOLDER` (default: a temporary one, removed at the end)")
	cmd.Flags().BoolVar(&once, "once", false, "check each claim over HTTP and exit")
	return cmd
}

// demo is orilla demo: it makes the project, a store and an edge node in one
// folder and tells a story of the ferry line. Every sentence that claims
// something is checked on the way; with once it ends there, and without it the
// site stays up until somebody ends it.
func (a *demoCmd) demo(ctx context.Context, into string, once bool) error {
	if _, err := exec.LookPath("git"); err != nil {
		return fault.New(fault.Failed, "no-git",
			"the demo needs Git, and git is not installed").Then("install Git")
	}
	folder, temporary := into, into == ""
	var err error

	if temporary {
		if folder, err = os.MkdirTemp("", "orilla-demo-"); err != nil {
			return err
		}
		defer os.RemoveAll(folder) //nolint:errcheck // in the system's temporary folder
	}

	if !temporary {
		folder = a.path(folder)
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return err
	}

	t := &tale{app: a.app, project: filepath.Join(folder, "corvane"), once: once}
	if err := demo.Create(ctx, t.project); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return fault.New(fault.Refused, "not-empty", "the demo needs an empty folder").
				At("%s", t.project).Then("orilla demo --into ANOTHER")
		}
		return err
	}

	// Nothing of the demo's stays behind, and nothing of the user's is touched.
	a.places.Cache = filepath.Join(folder, "cache")
	if t.store, err = store.Open(ctx, filepath.Join(folder, "store"), ".", a.places.Data, true); err != nil {
		return err
	}
	return t.play(ctx, temporary)
}

// tale is the demo's story while it is told.
type tale struct {
	*app
	project string
	store   storage.Store
	address string // of the edge node
	once    bool
	checked int
	failed  []string
	objects int // in the store after the last step
	world   *worldly
}

// play starts an edge node and tells the story.
func (t *tale) play(ctx context.Context, temporary bool) error {
	// The usual port if it is free, so that the addresses are those of the
	// documentation.
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", view.DefaultEdge)
	if err != nil || t.once {
		if listener != nil {
			listener.Close() //nolint:errcheck // another one is taken
		}
		if listener, err = (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0"); err != nil {
			return err
		}
	}

	t.address = edge.Reachable(listener.Addr())
	edgeContext, stop := context.WithCancel(ctx)
	tell := func(event httpanswer.Event) {
		if event.Kind == "trouble" {
			t.tell(event)
		}
	}
	if t.world, err = newWorldly(ctx, filepath.Dir(t.project), listener, !t.once); err != nil {
		stop()
		return err
	}
	listeners := []net.Listener{listener, t.world.secure}
	options := edge.Options{Tell: tell, Secures: secures(nil, t.world.issuing)}
	t.world.issuing.begin(tell, &options, t.store, listeners)
	node := edge.New(t.store, options)

	var owned sync.WaitGroup
	owned.Go(func() { t.world.run(edgeContext, node) })
	owned.Go(func() { node.Follow(edgeContext, func() {}) })
	owned.Go(func() {
		node.Announce(edgeContext,
			edge.Presence{Node: edge.NodeName(t.address[strings.LastIndexByte(t.address, ':')+1:]),
				Address: t.address, Version: version})
	})

	server := &connections.Server{Handler: node, Serves: carries(nil, t.world.issuing)}
	owned.Go(func() { server.Serve(edgeContext, nil, listeners...) }) //nolint:errcheck // the checks tell
	// Ended first and waited for then, since deferred calls run backwards.
	defer owned.Wait()
	defer stop()
	if err := t.tellAll(ctx); err != nil {
		return err
	}

	if t.once {
		return t.verdict()
	}
	t.Note("\n%s", console.Strong("Open it"))
	t.Print("  %s  the site", console.Accent("http://corvane.localhost:"+t.port()+"/"))
	t.Print("  %s  the fares, correct again", console.Accent("http://corvane.localhost:"+t.port()+"/fares"))
	t.Print("  %s  an old URL",
		console.Accent("http://corvane.localhost:"+t.port()+"/timetable/winter"))

	t.Print("  %s  a client-side route, also after a reload",
		console.Accent("http://corvane.localhost:"+t.port()+"/planner/velley/lindmouth"))
	t.Note("  %s", console.Faint(t.world.answers()))
	t.Note("\nThe project is in %s: in another terminal, change to it, try %s,\nor %s in one, and edit "+
		"a page and commit in another.", console.Strong(t.project),
		console.Accent("orilla serve"), console.Accent("orilla follow"))

	if temporary {
		t.Note("%s", console.Faint("The folder is deleted at the end; keep it with --into FOLDER."))
	}
	t.Note("%s", console.Faint("An edge node runs here until Ctrl-C."))
	<-ctx.Done()
	return nil
}

// port is the part of the edge's address that the demo's URLs need.
func (t *tale) port() string { return t.address[strings.LastIndexByte(t.address, ':')+1:] }

// tellAll is the story. Each step is a command that a user
// would type, run as the user would run it.
func (t *tale) tellAll(ctx context.Context) error {
	t.say("Corvane Ferries has a site in Git: %d commits, built by a shell script. Nothing is live yet.", 7)
	t.check(ctx, "an environment without a release says that it waits", "/", 404, "orilla deploy")
	if err := t.run(ctx, "deploy", "HEAD~4"); err != nil {
		return err
	}

	t.check(ctx, "the first page answers", "/", 200, "Five islands, one timetable")
	t.check(ctx, "a page in a folder has one address", "/boats/dunlin", 200, "The big one")
	t.check(ctx, "a missing page gets the site's own not-found page", "/boats/kraken", 404, "No such quay")
	t.say("The next commit changes one page. Orilla sends only that page.")
	t.objects = countObjects(ctx, t)
	if err := t.run(ctx, "deploy", "HEAD~3"); err != nil {
		return err
	}

	t.check(ctx, "the new notice is live", "/notices/", 200, "two days early")
	t.claim(ctx, "one page differs from the release before", changedPages(ctx, t, 1, 2) == 1)

	// The page, the chunk of the index that it is in, and the build's log.
	t.claim(ctx, "the store has at most three new objects", countObjects(ctx, t)-t.objects <= 3)
	if err := t.tellRules(ctx); err != nil {
		return err
	}

	if err := t.tellPreview(ctx); err != nil {
		return err
	}
	if err := t.tellMistake(ctx); err != nil {
		return err
	}

	if err := t.tellFollow(ctx); err != nil {
		return err
	}
	if err := t.tellStore(ctx); err != nil {
		return err
	}
	if err := tellName(ctx, t); err != nil {
		return err
	}
	return tellReport(ctx, t)
}

// Whoever reads the report was not there when the story was told: what it says must be found in it.

// tellReport is the end of the story: all of it on one page.
func tellReport(ctx context.Context, t *tale) error {
	t.say("The report is one HTML file about the site. It needs no server, so you can mail it.")
	file := filepath.Join(filepath.Dir(t.project), "corvane.html")
	if err := t.run(ctx, "report", "--out", file); err != nil {
		return err
	}
	page, err := os.ReadFile(file)
	has := func(text string) bool { return err == nil && bytes.Contains(page, []byte(text)) }
	t.claim(ctx, "the report names what is live, and every deploy",
		has(`<h2 id="live">`) && has(">production:1</th>"))
	t.claim(ctx, "it loads nothing", err == nil && !has("<script") && !has("src="))
	return ctx.Err()
}

// tellRules is the part of the story in which old addresses lead on.
func (t *tale) tellRules(ctx context.Context) error {
	t.say("The old site had its timetable below /timetable/. The pages have moved, and the old " +
		"URLs answer 404.")
	if err := t.run(ctx, "deploy", "HEAD~2"); err != nil {
		return err
	}

	asks(ctx, t, "an old URL answers 404", "/timetable/winter", "", "404 ")
	asks(ctx, t, "a client-side route fails on reload", "/planner/velley/lindmouth", "", "404 ")
	t.say("The next commit adds rules, and expectations that test them. No build is needed: the " +
		"output is the same.")
	if err := t.run(ctx, "deploy", "HEAD~1"); err != nil {
		return err
	}

	for _, claim := range []struct{ what, path, language, want string }{
		{"the timetable redirects", "/timetable/winter", "", "301 /sailings/winter"},
		{"the news redirect to the notices", "/news/2026/10/21/dunlin", "", "301 /notices/#dunlin"},
		{"a query parameter becomes a path", "/boat.php?id=dunlin", "", "301 /boats/dunlin"},
		{"a client-side route works on reload", "/planner/velley/lindmouth", "", "200 "},
		{"a missing script is never answered with a page", "/planner/app.js", "", "404 "},
		{"visitors are redirected to their language", "/", "gl, en;q=0.5", "302 /gl/"},
		{"others stay", "/", "en", "200 "},
		{"the not-found page has the visitor's language", "/gl/nada", "", "404 "},
	} {
		asks(ctx, t, claim.what, claim.path, claim.language, claim.want)
	}

	t.claim(ctx, "other sites may use the fonts", field(ctx, t, "/fonts/corvane-signs.woff2",
		"Access-Control-Allow-Origin") == "*")
	t.say("What will visitors see on Christmas Eve? explain answers with the same code as edge nodes.")
	return t.run(ctx, "explain", "/fares", "--on", "production", "--at", "2026-12-24T12:00")
}

// tellStore is the part of the story about what the store holds.
func (t *tale) tellStore(ctx context.Context) error {
	t.say("Is everything intact? verify reads each object and compares it with its hash.")
	if err := t.run(ctx, "store", "verify"); err != nil {
		return err
	}

	plain := filepath.Join(filepath.Dir(t.project), "plain")
	t.say("No lock-in: export what is live as plain files, with its rules.")
	if err := t.run(ctx, "files", "production", "--export", plain); err != nil {
		return err
	}

	_, body, err := get(ctx, t, "/fares")
	page, readErr := os.ReadFile(filepath.Join(plain, "fares", "index.html"))
	if readErr != nil {
		page, readErr = os.ReadFile(filepath.Join(plain, "fares.html"))
	}

	t.claim(ctx, "an exported page is identical to the live page",
		errors.Join(err, readErr) == nil && string(page) == body)
	return nil
}

// asks compares the status and the Location of an answer, once it is there.
func asks(ctx context.Context, t *tale, what, path, language, want string) {
	if !t.once {
		return
	}
	got := ""
	for deadline := time.Now().Add(5 * time.Second); got != want && time.Now().
		Before(deadline); time.Sleep(10 * time.Millisecond) {
		//nolint:bodyclose // ask has read and closed it
		if response, err := ask(ctx, t, path, language); err == nil {
			got = fmt.Sprintf("%d %s", response.StatusCode, response.Header.Get("Location"))
		}
	}
	t.claim(ctx, fmt.Sprintf("%s (%s: %s)", what, path, strings.TrimSpace(got)), got == want)
}

// field returns a header field of an answer.
func field(ctx context.Context, t *tale, path, name string) string {
	response, err := ask(ctx, t, path, "") //nolint:bodyclose // ask has read and closed it
	if err != nil {
		return ""
	}
	return response.Header.Get(name)
}

// ask asks the edge node for an address, and follows no redirect.
func ask(ctx context.Context, t *tale, path, language string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+t.address+path, nil)
	if err != nil {
		return nil, err
	}
	request.Host = "corvane.localhost"
	if language != "" {
		request.Header.Set("Accept-Language", language)
	}

	response, err := http.DefaultTransport.RoundTrip(request)
	if err == nil {
		response.Body.Close() //nolint:errcheck // only the header counts
	}
	return response, err
}

// say tells a part of the story, after an empty line.
func (t *tale) say(format string, args ...any) { t.Note("\n%s", fmt.Sprintf(format, args...)) }

// run shows a command and runs this very program with it, in the project.
func (t *tale) run(ctx context.Context, args ...string) error {
	t.announce(args)
	// The program itself is run, as a person would: what the demo shows is what
	// people get.
	self, err := os.Executable()
	if err != nil {
		return err
	}

	command := exec.CommandContext(ctx, self, args...)
	command.Dir = t.project
	command.Env = t.environment()
	command.Stdout, command.Stderr = os.Stdout, os.Stderr
	if err := process.Run(command); err != nil {
		return fault.New(fault.Failed, "demo", "this step of the demo failed: orilla %s",
			strings.Join(args, " ")).Because(err).Then("orilla doctor")
	}

	return nil
}

// environment is what this program is told when the demo
// runs it: its own folder, and how to paint.
func (t *tale) environment() []string {
	return append(process.Environment("NO_COLOR", "COLORTERM", "CLICOLOR*"),
		"ORILLA_HOME="+filepath.Dir(t.project))
}

// announce shows a command as it would be typed.
func (t *tale) announce(args []string) {
	shown := make([]string, len(args))
	for i, arg := range args {
		shown[i] = arg
		if strings.Contains(arg, " ") {
			shown[i] = `"` + arg + `"`
		}
	}
	t.Note("\n%s %s\n", console.Faint("corvane $"), console.Accent("orilla "+strings.Join(shown, " ")))
}

// within reports whether something becomes so within a few moments.
func (t *tale) within(holds func() bool) bool {
	for deadline := time.Now().Add(5 * time.Second); time.Now().
		Before(deadline); time.Sleep(10 * time.Millisecond) {
		if holds() {
			return true
		}
	}
	return false
}

// check asks the edge node for a page and looks for a text in it.
func (t *tale) check(ctx context.Context, what, path string, status int, text string) {
	if !t.once {
		return
	}
	deadline := time.Now().Add(5 * time.Second)
	for {
		got, body, err := get(ctx, t, path)
		good := err == nil && got == status && strings.Contains(body, text)
		if good || time.Now().After(deadline) {
			t.claim(ctx, fmt.Sprintf("%s (%s: %d)", what, path, got), good)
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// get asks the edge for a path of production.
func get(ctx context.Context, t *tale, path string) (int, string, error) {
	return getFrom(ctx, t, "corvane.localhost", path)
}

// getFrom asks for a page of a host. An environment that
// is new is known to the edge node within moments.
func getFrom(ctx context.Context, t *tale, host, path string) (status int, body string, err error) {
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		status, body, err = getOnce(ctx, t, host, path)
		if err != nil || status == http.StatusOK || host == "corvane.localhost" || time.Now().
			After(deadline) {
			return status, body, err
		}
	}
}

// getOnce sends one request, with the host in its field and the edge's address
// on the wire: names below .localhost do not resolve on every system.
func getOnce(ctx context.Context, t *tale, host, path string) (int, string, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+t.address+path, nil)
	if err != nil {
		return 0, "", err
	}
	request.Host = host
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return 0, "", err
	}
	defer response.Body.Close() //nolint:errcheck // read already
	body, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return response.StatusCode, string(body), err
}

// claim notes whether a sentence of the story holds, and prints it. Only a demo
// that runs once checks: to a person who reads, each would be noise.
func (t *tale) claim(_ context.Context, what string, holds bool) {
	if !t.once {
		return
	}
	t.checked++
	if holds {
		t.Print("%s %s", console.Good("holds:"), what)
		return
	}
	t.failed = append(t.failed, what)
	t.Print("%s %s", console.Bad("does not hold:"), what)
}

// verdict makes the failed claims the error of the demo, so that its exit
// status says whether it told the truth.
func (t *tale) verdict() error {
	if len(t.failed) > 0 {
		return fault.New(fault.Findings, "demo", "%d of %d claims of the demo do not hold", len(t.failed),
			t.checked).With(t.failed...)
	}
	t.Print("\n%s", console.Good(fmt.Sprintf("all %d claims hold", t.checked)))
	return nil
}

// changedPages compares the releases of two entries.
func changedPages(ctx context.Context, t *tale, before, after int64) int {
	s := &session{store: t.store, site: "corvane"}
	var readers []*release.Reader
	for _, n := range []int64{before, after} {
		entry, err := s.journal("production").Get(ctx, n)
		if err != nil {
			return -1
		}
		reader, err := release.Read(ctx, t.store, "corvane", entry.Release)
		if err != nil {
			return -1
		}
		readers = append(readers, reader)
	}

	changes, err := release.Compare(ctx, readers[0], readers[1])
	if err != nil {
		return -1
	}
	return len(changes)
}

// countObjects returns how many objects the store holds, -1 if it cannot be
// read: what a deploy uploaded is the difference of two counts, and not what
// the deploy says of itself.
func countObjects(ctx context.Context, t *tale) int {
	count := 0
	for folder, err := range t.store.List(ctx, "objects") {
		if err != nil {
			return -1
		}
		for _, err := range t.store.List(ctx, folder.Key) {
			if err != nil {
				return -1
			}
			count++
		}
	}
	return count
}
