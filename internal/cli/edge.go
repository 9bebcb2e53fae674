package cli

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/view"
)

// edgeCmd runs an edge node in this process.
type edgeCmd struct {
	*app

	issuing *issuing // nil: certificates come from files, or there are none
}

// edgeFlags are the options of orilla edge, which edge.yaml can say too.
type edgeFlags struct {
	config, listen, announce, log, region string
	memory, cache, cacheSize, rate        string
	stale, staleProtected, drain          string
	tls, acme, secret                     string
	accessLog, accessForm, metrics        string
	certificates, trust, reach            []string
	connections, perClient, upstreams     int64
	requests, localNames, check, traffic  bool
}

func newEdgeCommand(a *app) *cobra.Command {
	c := &edgeCmd{app: a}
	flags := &edgeFlags{}
	cmd := &cobra.Command{
		Example: "orilla edge\n" +
			"orilla edge --listen 127.0.0.1:8080 --requests\n" +
			"orilla edge --store sftp://edge@store.corvane.example/srv/orilla\n" +
			"orilla edge --listen :80 --tls :443 --certificate corvane.pem,corvane.key\n" +
			"orilla edge --config /etc/orilla/edge.yaml --check",
		Use: "edge", Short: "Run an edge node, which serves visitors from the store", Args: cobra.NoArgs,
		Long: "Edge serves every environment in the store, at its configured addresses and at " +
			"names below .localhost, and switches to new releases without a restart. With a " +
			"certificate it speaks TLS too; without one, a server in front of it terminates TLS. " +
			"SIGTERM stops it once visitors are gone, SIGHUP reads the configuration again and " +
			"reopens the log.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return c.edge(cmd.Context(), func() (project.EdgeConfig, error) {
				return c.configured(cmd.Flags(), flags)
			}, flags.check)
		},
	}
	flags.define(cmd.Flags())
	cmd.AddCommand(newEdgeListCommand(a))
	return a.jsonFlag(cmd)
}

// define defines the options.
func (f *edgeFlags) define(flags *pflag.FlagSet) {
	flags.StringVar(&f.config, "config", "",
		"read options from this YAML `FILE`; those typed here come first")
	flags.BoolVar(&f.check, "check", false, "check the options and the store, and do not start")
	flags.StringVar(&f.listen, "listen", view.DefaultEdge, "the `ADDRESS` to answer on")
	flags.StringVar(&f.tls, "tls", usualTLS, "with a certificate: the `ADDRESS` to speak TLS on")
	flags.StringArrayVar(&f.certificates, "certificate", nil,
		"speak TLS with this certificate, `CHAIN[,KEY]`: files in PEM; may be repeated")
	flags.StringVar(&f.acme, "acme", "",
		"have certificates issued by the authority with this `DIRECTORY` (ACME); more in edge.yaml")
	flags.StringVar(&f.secret, "secret", "",
		"with --acme: the `FILE` with the secret of all nodes, made if it is not there")
	flags.StringVar(&f.announce, "announce", "",
		"the `ADDRESS` (HOST:PORT) where others reach the node (default: this machine's own)")
	flags.StringVar(&f.region, "region", "", "the `NAME` of the place where the node is")
	flags.StringVar(&f.log, "log", "", "write what happens to this `FILE` (default: standard output)")
	flags.BoolVar(&f.requests, "requests", false, "tell of each request, for people who watch")
	flags.StringVar(&f.accessLog, "access-log", "",
		"write a line for each request to this `FILE`; \"-\" for standard output")
	flags.StringVar(&f.accessForm, "access-log-format", string(visits.Combined),
		"the `FORMAT` of these lines: combined, or json")
	flags.StringVar(&f.metrics, "metrics", "", "answer with metrics (OpenMetrics) on this `ADDRESS`")
	flags.BoolVar(&f.traffic, "traffic", true,
		"count what visitors ask for, without addresses, for orilla traffic")
	flags.StringVar(&f.memory, "memory", usualMemory, "use this `SIZE` of memory at most")
	flags.StringVar(&f.cache, "cache", "",
		"keep what was read in this `FOLDER`, and serve it without the store")
	flags.StringVar(&f.cacheSize, "cache-size", usualCache, "use this `SIZE` of the cache's disk at most")
	flags.StringVar(&f.stale, "stale", project.Never,
		"without the store, close public environments after this `TIME`")
	flags.StringVar(&f.staleProtected, "stale-protected", "1h",
		"without the store, close protected ones and previews after this `TIME`")
	flags.Int64Var(&f.connections, "connections", 0,
		"have this `NUMBER` of connections at most (default: what memory allows)")
	flags.Int64Var(&f.perClient, "connections-per-client", usualPerClient,
		"have this `NUMBER` of one client at most")
	flags.StringVar(&f.rate, "rate", usualRate, "end connections that move less than this `SIZE` a second")
	flags.StringArrayVar(&f.trust, "trust", nil, "believe proxies in this `NETWORK` who asks")
	flags.StringArrayVar(&f.reach, "reach", nil,
		"let proxy rules reach this private `NETWORK`, such as 10.1.0.0/16; \"all\" for any")
	flags.Int64Var(&f.upstreams, "upstream-requests", usualUpstream,
		"pass this `NUMBER` of requests at once on to one upstream at most")
	flags.BoolVar(&f.localNames, "local-names", false,
		"answer names below .localhost from other machines too")
	flags.StringVar(&f.drain, "drain", usualDrain, "on SIGTERM, go on answering for this `TIME`")
}

// The usual values of options.
const (
	usualTLS       = "127.0.0.1:7443"
	usualMemory    = "256MB"
	usualCache     = "10GB"
	usualPerClient = 128
	usualRate      = "1kB"
	usualUpstream  = 256
	usualDrain     = "10s"
)

// configured returns what edge.yaml and the options say, options first.
func (a *edgeCmd) configured(typed *pflag.FlagSet, f *edgeFlags) (project.EdgeConfig, error) {
	// Paths in the file are relative to it, whatever folder the node is started in.
	var config project.EdgeConfig
	if f.config != "" {
		path := a.path(f.config)
		data, err := os.ReadFile(path)
		if err != nil {
			return config, fault.New(fault.Usage, "no-config", "cannot read the configuration").At("%s",
				path).
				Because(err)
		}
		if config, err = project.ParseEdge(data, path); err != nil {
			return config, err
		}
		files := []*string{&config.Log, &config.Cache.Folder}
		if config.AccessLog.File != standardOutput {
			files = append(files, &config.AccessLog.File)
		}
		acme := &config.TLS.ACME
		files = append(files, &config.Traffic.Secret, &acme.Secret, &acme.Authority, &acme.DNS.Key)
		for i := range config.TLS.Certificates {
			files = append(files, &config.TLS.Certificates[i].Chain, &config.TLS.Certificates[i].Key)
		}
		for _, file := range files {
			if *file != "" && !filepath.IsAbs(*file) {
				*file = filepath.Join(filepath.Dir(path), *file)
			}
		}
		if config.Store != "" && a.store == "" {
			a.store = config.Store
			if !strings.Contains(a.store, "://") && !filepath.IsAbs(a.store) {
				a.store = filepath.Join(filepath.Dir(path), a.store)
			}
		}
	}
	err := f.over(typed, &config)
	// What was typed is relative to the folder in which the command runs.
	if typed.Changed("certificate") {
		for i, c := range config.TLS.Certificates {
			if config.TLS.Certificates[i].Chain = a.path(c.Chain); c.Key != "" {
				config.TLS.Certificates[i].Key = a.path(c.Key)
			}
		}
	}
	return config, err
}

// over writes what was typed, or else the usual values, over what the file says.
func (f *edgeFlags) over(typed *pflag.FlagSet, c *project.EdgeConfig) error {
	// An option counts if it was typed, or where the file says nothing: its value is then
	// the usual one.
	text := func(name string, value string, to *string) {
		if typed.Changed(name) || *to == "" {
			*to = value
		}
	}
	text("listen", f.listen, &c.Listen)
	text("tls", f.tls, &c.TLS.Listen)
	text("acme", f.acme, &c.TLS.ACME.Directory)
	text("secret", f.secret, &c.TLS.ACME.Secret)
	text("announce", f.announce, &c.Announce)
	text("region", f.region, &c.Region)
	text("log", f.log, &c.Log)
	text("access-log", f.accessLog, &c.AccessLog.File)
	text("access-log-format", f.accessForm, &c.AccessLog.Format)
	text("metrics", f.metrics, &c.Metrics)
	text("cache", f.cache, &c.Cache.Folder)
	if typed.Changed("requests") {
		c.Requests = f.requests
	}
	if typed.Changed("traffic") {
		c.Traffic.Not = !f.traffic
	}
	if typed.Changed("local-names") {
		c.LocalNames = f.localNames
	}

	var mistakes []error
	size := func(name, value string, to *project.Size) {
		if typed.Changed(name) || *to == 0 {
			read, err := project.ParseSize(value)
			if err != nil {
				mistakes = append(mistakes, fault.New(fault.Usage, "usage", "--%s: %s", name, err))
			}
			*to = read
		}
	}
	size("memory", f.memory, &c.Memory)
	size("cache-size", f.cacheSize, &c.Cache.Size)
	size("rate", f.rate, &c.Connections.Rate)

	duration := func(name, value string, to **project.Duration) {
		if typed.Changed(name) || *to == nil {
			read, err := project.Duration(0), error(nil)
			if value != project.Never {
				read, err = project.ParseDuration(value)
			}
			if err != nil {
				mistakes = append(mistakes, fault.New(fault.Usage, "usage", "--%s: %s", name, err))
			}
			*to = &read
		}
	}
	duration("stale", f.stale, &c.Stale.Public)
	duration("stale-protected", f.staleProtected, &c.Stale.Protected)
	duration("drain", f.drain, &c.Drain)

	number := func(name string, value int64, to *int64) {
		if typed.Changed(name) || *to == 0 {
			*to = value
		}
	}
	number("connections", f.connections, &c.Connections.Most)
	number("connections-per-client", f.perClient, &c.Connections.PerClient)
	number("upstream-requests", f.upstreams, &c.Upstream.Most)
	return errors.Join(append(mistakes, f.lists(typed, c), checkEdge(c))...)
}

// lists writes what may be given several times over what the file says: all of it, or
// nothing.
func (f *edgeFlags) lists(typed *pflag.FlagSet, c *project.EdgeConfig) (err error) {
	if typed.Changed("trust") {
		c.Trust = f.trust
	}
	if typed.Changed("certificate") {
		c.TLS.Certificates = nil
		for _, pair := range f.certificates {
			chain, key, _ := strings.Cut(pair, ",")
			c.TLS.Certificates = append(c.TLS.Certificates, project.EdgeCertificate{Chain: chain, Key: key})
		}
	}
	if typed.Changed("reach") {
		c.Upstream.Reach = f.reach
	}
	if c.Region != "" && !project.IsLabel(c.Region) {
		return fault.New(fault.Usage, "usage", "--region %s: not a name", c.Region).
			Then("write --region %s", project.Label(c.Region))
	}
	if forms := []string{string(visits.Combined), string(visits.JSON)}; !slices.Contains(forms,
		c.AccessLog.Format) {
		return fault.New(fault.Usage, "usage", "--access-log-format takes combined or json, not %s",
			c.AccessLog.Format)
	}
	// Nobody can reach 0.0.0.0, and a node that said so would never be found.
	if c.Announce != "" {
		c.Announce, err = announced(c.Announce)
	}
	return err
}

// leastMemory is with how little memory a node can work.
const leastMemory = 64e6

// leastCache is the least size of a cache.
const leastCache = 100e6

// checkEdge says what cannot be.
func checkEdge(c *project.EdgeConfig) error {
	if c.Memory < leastMemory {
		return fault.New(fault.Usage, "usage", "--memory: a node needs 64MB or more")
	}
	// One object is up to 8 MiB, and of less than four nothing would stay.
	if c.Cache.Folder != "" && c.Cache.Size < leastCache {
		return fault.New(fault.Usage, "usage", "--cache-size: a cache needs 100MB or more")
	}
	if _, err := connections.ParseTrust(c.Trust); err != nil {
		return fault.New(fault.Usage, "usage", "--trust: %s", err).
			Then("write a network such as 10.1.0.0/16, or an address")
	}
	_, err := reachOf(c.Upstream.Reach)
	return err
}

// A node announces where deployers find it. An address that only the node itself can reach would have
// every deploy wait for it in vain.

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

// A node that begins meets everything at once. What it finds is held back until it has seen all, and told in
// order, so that two starts of the same store read the same.

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
	// They were looked at all at once, in no order.
	slices.SortStableFunc(f.held, func(a, b httpanswer.Event) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), strings.Compare(a.Environment, b.Environment))
	})
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
	of := console.Count(int64(live), "environment", "environments") + " of " +
		console.Count(int64(len(sites)), "site", "sites")
	if f.events != nil {
		f.events.Info(of+" live", slog.String("kind", "node"), slog.Duration("took", time.Since(f.began)))
		return
	}
	f.Print("%s  %s %s  %s", console.Faint(time.Now().Format("15:04:05")), of, console.Good("live"),
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

// listen takes an address, and says who has it if it is taken. option is what names
// the address.
func (a *app) listen(ctx context.Context, option, address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil || port == "" || strings.Contains(host, "/") {
		return nil, fault.New(fault.Usage, "usage", "%s %s: not an address with a port", option, address).
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
		problem = problem.Then("stop the other program, or use a free port: %s 127.0.0.1:0", option)
	case errors.Is(err, syscall.EACCES):
		problem = problem.Then("ports below 1024 need extra rights; use a higher one")
	}

	return nil, problem
}
