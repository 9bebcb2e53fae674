package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// edgeCmd runs an edge node in this process.
type edgeCmd struct{ *app }

func newEdgeCommand(a *app) *cobra.Command {
	c := &edgeCmd{app: a}
	var listen, announce string
	var requests bool
	var memory string
	var networks []string

	cmd := &cobra.Command{
		Example: "orilla edge\n" +
			"orilla edge --listen 127.0.0.1:8080 " +
			"--requests\n" +
			"orilla edge --store " +
			"sftp://edge@store.corvane.example/srv/orilla",
		Use: "edge", Short: "Run an edge node, which serves visitors from the store", Args: cobra.NoArgs,
		Long: "Edge serves every environment in the store, at its configured addresses and at " +
			"names below .localhost, and switches to new releases without a restart. It speaks " +
			"plain HTTP; put a server that terminates TLS in front of it.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			size, err := project.ParseSize(memory)
			if err != nil {
				return fault.New(fault.Usage, "usage", "--memory: %s", err)
			}
			reach, err := reachOf(networks)
			if err != nil {
				return err
			}

			if announce != "" {
				if announce, err = announced(announce); err != nil {
					return err
				}
			}
			return c.edge(cmd.Context(), listen, announce,
				edge.Options{Requests: requests, Memory: int64(size), Reach: reach})
		},
	}

	cmd.Flags().StringVar(&listen, "listen", view.DefaultEdge, "the `ADDRESS` to answer on")
	cmd.Flags().StringVar(&announce, "announce", "",
		"the `ADDRESS` (HOST:PORT) where others reach the node (default: this machine's own)")
	cmd.Flags().BoolVar(&requests, "requests", false, "log each request")
	cmd.Flags().StringVar(&memory, "memory", "128MB", "cache this `SIZE` of content in memory")
	cmd.Flags().StringArrayVar(&networks, "reach", nil,
		"let proxy rules reach this private `NETWORK`, such as 10.1.0.0/16; \"all\" for any")

	return a.jsonFlag(cmd)
}

// announced reads an address that a node is to announce.
func announced(text string) (string, error) {
	host, port, err := net.SplitHostPort(text)
	if err != nil {
		return "", fault.New(fault.Usage, "usage", "--announce %s: write HOST:PORT, such as 10.1.2.3:7420",
			text)
	}

	if ip := net.ParseIP(host); host == "" || port == "" || ip != nil && ip.IsUnspecified() {
		return "", fault.New(fault.Usage, "usage",
			"--announce %s: others cannot reach this address; name one of this machine, with the port",
			text)
	}
	return text, nil
}

// reachOf reads the networks that upstreams may be in.
func reachOf(networks []string) (httpanswer.Reach, error) {
	reach, err := httpanswer.ParseReach(networks)
	if err != nil {
		return reach, fault.New(fault.Usage, "usage", "--reach: %s", err).
			Then("write a network such as 10.1.0.0/16, an address, or all")
	}
	return reach, nil
}

// edge is orilla edge: it serves all sites of a store until it is ended. listen
// is where it answers, announce where others reach it.
func (a *edgeCmd) edge(ctx context.Context, listen, announce string, options edge.Options) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	// A store that was named on purpose is there: a name that is mistyped makes no new
	// one, at which nothing would ever arrive.
	store, err := a.openStore(ctx, p, a.store == "")
	if err != nil {
		return err
	}

	listener, err := a.listen(ctx, listen)
	if err != nil {
		return err
	}
	return a.runEdge(ctx, store, listener, announce, options)
}

// firstLook shows what a node finds when it begins: a store of thousands of previews
// is no news, so it is counted. What goes wrong is told at once.
type firstLook struct {
	*app
	began time.Time
	mutex sync.Mutex
	ended bool
	held  []httpanswer.Event
}

// shownFirst is up to how many environments are shown one by one.
const shownFirst = 8

// tell shows an event, or keeps it until the first look has ended.
func (f *firstLook) tell(event httpanswer.Event) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if !f.ended && !f.JSON && event.Kind == "flip" {
		f.held = append(f.held, event)
		return
	}
	f.app.tell(event)
}

// end shows what was found: a few environments one by one, as later flips are, and of
// more only how many. Programs read each of them, with --json.
func (f *firstLook) end() {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.ended = true
	if len(f.held) <= shownFirst {
		for _, event := range f.held {
			f.app.tell(event)
		}
		return
	}
	sites, live := map[string]bool{}, 0
	for _, event := range f.held {
		sites[event.Site] = true
		if !event.Release.IsZero() {
			live++
		}
	}
	f.Print("%s  %s of %s %s  %s", console.Faint(time.Now().Format("15:04:05")),
		console.Count(int64(live), "environment", "environments"),
		console.Count(int64(len(sites)), "site", "sites"), console.Good("live"),
		console.Faint("loaded in "+console.Took(time.Since(f.began))))
}

// portOf returns the number that was typed where an address is expected, else the
// usual port.
func portOf(address string) int {
	if port, err := strconv.Atoi(strings.TrimPrefix(address, ":")); err == nil && port > 0 && port < 1<<16 {
		return port
	}
	return 7420
}

// listen takes an address, and says who has it if it is taken.
func (a *app) listen(ctx context.Context, address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil || port == "" || strings.Contains(host, "/") {
		return nil, fault.New(fault.Usage, "usage", "--listen %s: not an address with a port", address).
			Then("write HOST:PORT, such as 127.0.0.1:%d", portOf(address))
	}
	var listener net.Listener
	listener, err = (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err == nil {
		return listener, nil
	}
	problem := fault.New(fault.Failed, "address-taken", "cannot listen there").At("%s", address).
		Because(err)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		problem.What = "this address is already in use"
		problem = problem.Then("stop the other program, or use a free port: --listen 127.0.0.1:0")
	case errors.Is(err, syscall.EACCES):
		problem = problem.Then("ports below 1024 need extra rights; use a higher one")
	}

	return nil, problem
}

// runEdge serves until the context ends. announce is the address that others
// call it at; "" for the one it listens on.
func (a *edgeCmd) runEdge(ctx context.Context, store storage.Store, listener net.Listener, announce string,
	options edge.Options,
) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	first := &firstLook{app: a.app, began: time.Now()}
	options.Tell = first.tell
	// The node is ready to answer before it is announced: who reads that it is
	// there may ask at once.
	node := edge.New(store, options)
	address := edge.Reachable(listener.Addr())
	_, port, _ := net.SplitHostPort(address)
	presence := edge.Presence{Node: edge.NodeName(port),
		Address: cmp.Or(announce, edge.Announced(listener.Addr())), Version: version,
		Reach: options.Reach.String()}

	var owned sync.WaitGroup
	defer owned.Wait()
	if !a.JSON {
		a.Note("%s %s  %s", console.Strong("edge node at"), console.Accent("http://"+address),
			console.Faint("store "+store.Address()))
		a.Note("%s", console.Faint("sites answer at http://SITE.localhost:"+port+
			"/ and at their configured addresses; press Ctrl-C to stop"))
	}

	looked := make(chan struct{})
	owned.Go(func() {
		node.Follow(ctx, func() {
			first.end()
			close(looked)
		})
	})
	// Announcing itself also tells the node the store's clock. Who reads that it is
	// there may ask at once, so it has looked before.
	owned.Go(func() {
		select {
		case <-looked:
			edge.Announce(ctx, store, presence, node.SetAhead)
		case <-ctx.Done():
		}
	})
	err := httpanswer.Serve(ctx, listener, node)
	cancel()
	return err
}

// tell prints what an edge node tells.
func (a *app) tell(event httpanswer.Event) {
	if a.JSON {
		a.Line(event) //nolint:errcheck // nobody to tell
		return
	}
	when := console.Faint(event.Time.Format("15:04:05"))
	place := event.Site
	if event.Environment != "" {
		place += " " + journal.DisplayName(event.Environment)
	}

	switch event.Kind {
	case "flip":
		if event.Environment == journal.Previews {
			a.Print("%s  %s  %s", when, place, console.Faint("access changed"))
			return
		}
		if event.Release.IsZero() {
			a.Print("%s  %s:%d  %s %s", when, place, event.Entry, console.Warn("serves nothing"),
				console.Faint("("+event.Text+")"))
			return
		}
		a.Print("%s  %s:%d  %s  %s %s", when, place, event.Entry, console.Good("live"), event.Release.Short(),
			console.Faint("("+strings.TrimSpace(event.Text+" "+source.Short(event.Commit))+")"))
	case "trouble":
		where := place
		if event.Path != "" {
			where = fmt.Sprintf("%d %s %s%s", event.Status, event.Method, event.Host, event.Path)
		}
		a.Note("%s  %s  %s  %s", when, where, console.Bad("trouble"), event.Text)
	case "request":
		by := console.Faint(event.By)
		if event.Rule != "" {
			by += "   " + console.Accent(event.Rule)
		}
		method := ""
		if event.Method != http.MethodGet {
			method = event.Method + " "
		}
		a.Print("%s  %s %s%s%s  %s", when, view.StatusText(event.Status), method, event.Host, event.Path, by)
	}
}
