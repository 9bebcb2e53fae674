package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/view"
)

const defaultServe = "127.0.0.1:7430"

// serveOptions are the flags of serve.
type serveOptions struct {
	folder, listen, environment, under, front, run, at string
	upstreams                                          []string
	noReload, noBuild, lan, open, tls                  bool
}

// serveCmd serves the project while it is worked on.
type serveCmd struct{ *app }

func newServeCommand(a *app) *cobra.Command {
	c := &serveCmd{app: a}
	o := &serveOptions{}
	cmd := &cobra.Command{
		Use: "serve [FOLDER|ARCHIVE]", Short: "Preview the site on this machine, rebuilt on save",
		Args: cobra.MaximumNArgs(1),
		Long: "Serve builds the working tree and answers from its output like an edge node: same " +
			"addresses, redirects, headers and errors. It rebuilds when you save, and open pages " +
			"reload. Errors appear in the terminal and in the page, and the last good build stays. " +
			"A FOLDER or ARCHIVE is served as it is.\n" +
			"\n" +
			"With --in-front-of, files come from your development server, behind the site's rules " +
			"and headers.",
		Example: "orilla serve\n" +
			"orilla serve dist\n" +
			"orilla serve --environment staging\n" +
			"orilla serve --in-front-of http://localhost:5173 --run \"npm run dev\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			o.folder = argument(args, 0)
			return c.serve(cmd.Context(), o)
		},
	}

	flags := cmd.Flags()
	flags.StringVar(&o.listen, "listen", defaultServe, "the `ADDRESS` to answer on")
	flags.BoolVar(&o.lan, "lan", false, "let other devices on this network in, such as a phone")
	flags.BoolVar(&o.tls, "tls", false, "answer over HTTPS, with a certificate of this machine's own")
	flags.StringVar(&o.environment, "environment", project.Production,
		"answer as this `ENVIRONMENT`, with its conditions and upstreams")

	flags.StringVar(&o.at, "at", "",
		"answer as at this `TIME`, such as 2026-12-24T12:00Z")
	flags.StringArrayVar(&o.upstreams, "upstream", nil,
		"use another URL for an upstream, `NAME=URL`")
	flags.StringVar(&o.under, "under", "",
		"serve below this base `PATH` (default: that of the first address)")
	flags.StringVar(&o.front, "in-front-of", "", "take files from the development server at `URL`")
	flags.StringVar(&o.run, "run", "",
		"with --in-front-of: start that server with this `COMMAND`")

	flags.BoolVar(&o.noBuild, "no-build", false, "do not build: serve the output as it is")
	flags.BoolVar(&o.noReload, "no-reload", false, "do not reload pages: send exactly the edge's bytes")
	flags.BoolVar(&o.open, "open", false, "open the URL in the browser")

	//nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("environment", completion{a}.environments)
	return a.jsonFlag(cmd)
}

// serve is orilla serve: it shows the project as the edge would, rebuilds when
// something is saved, and reloads the browsers.
func (a *serveCmd) serve(ctx context.Context, o *serveOptions) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	lasting()
	bench, local, err := a.bench(ctx, p, o)
	if err != nil {
		return err
	}

	// Other machines are let in only when asked for: an unfinished site is
	// nobody's business.
	if _, port, err := net.SplitHostPort(o.listen); err == nil && o.lan {
		o.listen = net.JoinHostPort("0.0.0.0", port)
	}
	// The port before the build: whether it is free is known in no time.
	listener, err := a.listen(ctx, "--listen", o.listen)
	if err != nil {
		return err
	}

	scheme, trust := "http://", ""
	if o.tls {
		plain := listener
		if listener, trust, err = a.secured(plain); err != nil {
			plain.Close() //nolint:errcheck // not used
			return err
		}
		scheme = "https://"
	}

	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	// Whatever is started here has ended when serve returns.
	var owned sync.WaitGroup
	defer owned.Wait()

	var server *devserver.Server
	if o.run != "" {
		if server, err = a.startFront(ctx, cancel, &owned, p, o); err != nil {
			listener.Close() //nolint:errcheck // not used
			return err
		}
	}
	again := bench.Rebuild
	if server != nil {
		again = server.Restart
	}

	// localhost and not 127.0.0.1: browsers treat it as a secure context, in
	// which service workers run.
	address := scheme + strings.Replace(edge.Reachable(listener.Addr()), "127.0.0.1:", "localhost:", 1) +
		o.under + "/"
	owned.Go(func() {
		bench.Run(ctx, func() {
			a.serving(ctx, bench, listener, address, o)
			a.noteTrust(trust)
		})
	})

	if a.Asks && !a.JSON && console.HasKeys() {
		owned.Go(func() { a.keys(ctx, cancel, again, address) })
	}
	err = connections.Serve(ctx, listener, local)
	cancel()
	return err
}

// bench makes what keeps the working tree served.
func (a *serveCmd) bench(ctx context.Context, p *site.Project, o *serveOptions,
) (*devserver.Bench, *devserver.Local, error) {
	options := devserver.Options{Project: p, Build: !o.noBuild && o.folder == "", OnlyRules: o.front != "",
		Keys:        a.Asks && !a.JSON && console.HasKeys(),
		Environment: o.environment,
		Report:      &benchReport{app: a.app}, Upstreams: map[string]string{}}
	if o.folder != "" {
		var err error
		if options.Folder, err = given(ctx, a.app, p, o.folder); err != nil {
			return nil, nil, err
		}
	}

	if err := checkServe(p, o); err != nil {
		return nil, nil, err
	}
	for _, text := range o.upstreams {
		name, address, ok := strings.Cut(text, "=")
		if u, err := url.Parse(address); !ok || err != nil || u.Host == "" {
			return nil, nil, fault.New(fault.Usage, "usage",
				"--upstream %s: write NAME=URL, such as harbour=http://localhost:9000", text)
		}
		options.Upstreams[name] = strings.TrimSuffix(address, "/")
	}

	local := devserver.LocalOptions{Base: o.under, Environment: o.environment,
		Reload: !o.noReload, Tell: a.tell, Notice: a.Notice}
	if o.at != "" {
		at, err := readTime(o.at, p.LocalConfig.Zone())
		if err != nil {
			return nil, nil, err
		}
		// The clock begins there and goes on.
		began := time.Now()
		local.Now = func() time.Time { return at.Add(time.Since(began)) }
	}
	if o.front != "" {
		options.Build = false
		server, err := url.Parse(o.front)
		if err != nil || server.Host == "" || server.Scheme != "http" && server.Scheme != "https" {
			return nil, nil, fault.New(fault.Usage, "usage",
				"--in-front-of %s: write the development server's address, such as http://localhost:5173",
				o.front)
		}

		local.Front = devserver.NewFront(server)
		if o.run == "" && !local.Front.Answers(ctx) {
			return nil, nil, fault.New(fault.Failed, "no-server", "no server answers at %s", o.front).
				Then("start the development server, or add --run \"npm run dev\"")
		}
	}
	served := devserver.NewLocal(local)
	return devserver.New(options, served), served, nil
}

// checkServe refuses what could not be served before a port is opened or a
// build begins.
func checkServe(p *site.Project, o *serveOptions) error {
	if _, ok := p.ProductionConfig.Environments[o.environment]; !ok &&
		!strings.HasPrefix(o.environment, "preview/") {
		return fault.New(fault.Usage, "unknown-environment", "unknown environment %q", o.environment).
			Then("use one of %s, or preview/NAME", strings.Join(p.EnvironmentNames(), ", "))
	}

	if o.under == "" {
		if addresses := p.ProductionConfig.Environments[o.environment].Addresses; len(addresses) > 0 {
			o.under = view.BasePath(addresses[0])
		}
	}

	o.under = strings.TrimSuffix(o.under, "/")
	if o.under != "" && !strings.HasPrefix(o.under, "/") {
		o.under = "/" + o.under
	}
	// Its certificates are for this machine's names, and nobody else trusts them.
	if o.tls && o.lan {
		return fault.New(fault.Usage, "usage", "--tls is for this machine only, so --lan cannot go with it").
			Then("leave one of them out")
	}
	if o.run != "" && o.front == "" {
		return fault.New(fault.Usage, "usage",
			"--run needs --in-front-of").
			Then("add --in-front-of http://localhost:PORT")
	}

	return nil
}

// serving says where the site answers.
func (a *serveCmd) serving(ctx context.Context, bench *devserver.Bench, listener net.Listener, address string,
	o *serveOptions,
) {
	files, rules := bench.Counts()
	if a.JSON {
		//nolint:errcheck // nobody to tell
		a.Line(view.ServeEvent{Kind: "serving", Address: address, Files: &files, Rules: rules,
			Environment: o.environment})
	} else {
		about := []string{console.Count(int64(files), "file", "files"),
			console.Count(int64(rules), "rule", "rules")}
		if o.front != "" {
			about = []string{"files from " + o.front, about[1]}
		}
		if o.environment != project.Production {
			about = append(about, "as "+o.environment)
		}
		if o.at != "" {
			about = append(about, "as at "+o.at)
		}
		a.Note("%s %s  %s", console.Strong("serving"), console.Accent(address),
			console.Faint(strings.Join(about, ", ")))
		if o.lan {
			for _, at := range lanAddresses(listener) {
				a.Note("%s %s", console.Faint("on this network"), console.Accent(at+o.under+"/"))
			}
		}
		if a.Asks && console.HasKeys() {
			again := "rebuild"
			if o.run != "" {
				again = "restart the development server"
			}
			a.Note("%s", console.Faint("keys: o open in the browser, r "+again+", q quit"))
		}
	}

	if o.open {
		if err := openBrowser(ctx, address); err != nil {
			a.Problem(err)
		}
	}
}

// lanAddresses lists the addresses at which other machines reach a listener.
func lanAddresses(listener net.Listener) []string {
	_, port, _ := net.SplitHostPort(listener.Addr().String())
	addresses, _ := net.InterfaceAddrs()
	var list []string
	for _, address := range addresses {
		if network, ok := address.(*net.IPNet); ok && network.IP.To4() != nil && !network.IP.IsLoopback() {
			list = append(list, "http://"+net.JoinHostPort(network.IP.String(), port))
		}
	}
	return list
}

// startFront starts the development server unless it answers already, waits until
// it does, and has it kept running. It returns nil of one that somebody else runs.
func (a *serveCmd) startFront(ctx context.Context, cancel func(), owned *sync.WaitGroup, p *site.Project,
	o *serveOptions,
) (*devserver.Server, error) {
	address, _ := url.Parse(o.front)
	front := devserver.NewFront(address)
	if front.Answers(ctx) {
		a.Note("%s", console.Faint(o.front+" is already running; not started again"))
		return nil, nil
	}
	ready, err := steps.Environment(steps.Wanted{Variables: p.LocalConfig.Build.Variables})
	if err != nil {
		return nil, err
	}

	a.Note("%s %s", console.Strong("starting"), o.run)
	environment := append(ready.Environment, "CI=") // it is no build
	server := devserver.NewServer(o.run, site.Folder(p), environment, front)
	server.Line = func(line string) { a.Note("  %s", console.Faint("| "+line)) }
	server.Ended = func(err error, pause time.Duration) {
		a.Problem(withoutDetail(err)) // it was streamed
		a.Note("%s", console.Faint("Orilla restarts it in "+console.Took(pause)))
	}
	ended := make(chan error, 1)
	owned.Go(func() { ended <- server.Run(ctx) })

	for wait := time.Now(); time.Since(wait) < time.Minute; {
		select {
		case err := <-ended:
			cancel()
			if err == nil {
				err = ctx.Err()
			}
			return nil, withoutDetail(err)
		case <-time.After(50 * time.Millisecond):
		}
		if server.Answered() {
			return server, nil
		}
	}

	cancel()
	return nil, fault.New(fault.Failed, "no-server",
		"the development server started, but does not answer at %s after a minute", o.front).
		Then("see its output above; does it listen on another port?")
}

// withoutDetail leaves out the lines of an error that are on the screen already.
func withoutDetail(err error) error {
	problem, ok := errors.AsType[*fault.Error](err)
	if !ok {
		return err
	}
	short := *problem
	short.Detail = nil
	return &short
}

// keys does what single keys ask for, until the context ends.
func (a *serveCmd) keys(ctx context.Context, quit, again func(), address string) {
	pressed, restore := console.Keys(ctx)
	defer restore()
	for key := range pressed {
		switch key {
		case 'o':
			if err := openBrowser(ctx, address); err != nil {
				a.Problem(err)
			}
		case 'r':
			again()
		case 'q':
			quit()
			return
		}
	}
}

// benchReport shows what happens at the bench.
type benchReport struct {
	app      *app
	progress *console.Progress
	why      string // of the build that runs
	started  bool
}

// Building implements devserver.Reporter.
func (r *benchReport) Building(why string) {
	if why != "" && why != devserver.AskedFor {
		why = why + " changed"
	}
	r.why = why
	r.say(view.ServeEvent{Kind: "building", Why: why})
	if !r.app.ErrTerm && !r.app.JSON {
		r.app.Note("%s %s", console.Strong("building"), console.Faint(why))
	}
	r.progress = r.app.Busy("building", why)
}

// Line implements devserver.Reporter: what a step prints folds into the
// progress line; without a terminal it streams.
func (r *benchReport) Line(text string) {
	if r.app.ErrTerm {
		r.progress.Text(text)
	} else if !r.app.JSON {
		r.app.Note("  | %s", text)
	}
}

// Built implements devserver.Reporter.
func (r *benchReport) Built(took time.Duration) {
	r.progress.End()
	milliseconds := took.Milliseconds()
	r.say(view.ServeEvent{Kind: "built", Milliseconds: &milliseconds})
	if !r.app.JSON {
		r.app.Note("%s in %s  %s", console.Good("built"), console.Took(took), console.Faint(r.why))
	}
}

// Shown implements devserver.Reporter.
func (r *benchReport) Shown(changed []string, ruled bool) {
	if first := !r.started; first {
		r.started = true
		return
	}
	r.say(view.ServeEvent{Kind: "shown", Changed: changed, Rules: ruled})
	if r.app.JSON {
		return
	}

	var parts []string
	switch {
	case len(changed) == 1:
		parts = append(parts, changed[0])
	case len(changed) > 1:
		parts = append(parts, fmt.Sprintf("%s and %d more", changed[0], len(changed)-1))
	}

	if ruled {
		parts = append(parts, "rules")
	}
	if len(parts) == 0 {
		r.app.Note("%s", console.Good("fixed"))
		return
	}
	r.app.Note("%s %s", console.Accent("changed"), strings.Join(parts, ", "))
}

// Refused implements devserver.Reporter.
func (r *benchReport) Refused(found finding.List) {
	if r.app.JSON {
		if found == nil {
			found = finding.List{}
		}
		r.say(view.ServeEvent{Kind: "refused", Findings: &found})
		return
	}

	if len(found) == 0 {
		r.app.Note("%s", console.Good("fixed: a deploy would accept it again"))
		return
	}
	r.app.Note("%s", console.Warn("a deploy would refuse this:"))

	for _, f := range found {
		r.app.Note("  %s: %s %s", f.Position, f.What, console.Faint("["+f.Code+"]"))
		if f.Next != "" {
			r.app.Note("  %s %s", console.Accent("next:"), f.Next)
		}
	}
}

// Failed implements devserver.Reporter.
func (r *benchReport) Failed(err error) {
	if r.progress != nil {
		r.progress.End()
	}
	r.say(view.ServeEvent{Kind: "failed", Text: err.Error(), Code: fault.Code(err)})
	if r.app.JSON {
		return
	}

	shown := err
	if errors.Is(err, steps.ErrStepFailed) && !r.app.ErrTerm {
		shown = withoutDetail(err) // it was streamed
	}
	r.app.Problem(shown)
	if r.started {
		r.app.Note("%s", console.Warn("still serving the last good build"))
	}
	r.started = true
}

// Notice implements devserver.Reporter.
func (r *benchReport) Notice(notice fault.Notice) { r.app.Notice(notice) }

// say writes a line of JSON.
func (r *benchReport) say(event view.ServeEvent) {
	if r.app.JSON {
		r.app.Line(event) //nolint:errcheck // nobody to tell
	}
}
