package cli

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/url"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/net/publicsuffix"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/view"
)

// doctorCmd looks at what a project needs on this machine.
type doctorCmd struct{ *app }

func newDoctorCommand(a *app) *cobra.Command {
	c := &doctorCmd{app: a}
	cmd := &cobra.Command{
		Example: "orilla doctor",
		Use:     "doctor", Short: "Check the setup and suggest fixes",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return c.doctor(cmd.Context()) },
	}
	return a.jsonFlag(cmd)
}

// doctor is orilla doctor: it looks at all that a deploy needs before the last
// step needs it, and tells everything it found, not just the first. A
// configuration that cannot be read is one finding among others; what depends
// on it is left out.
func (a *doctorCmd) doctor(ctx context.Context) error {
	p, err := a.load(ctx)
	var findings []view.Finding
	if err != nil {
		problem, ok := errors.AsType[*fault.Error](err)
		if !ok {
			return err
		}
		findings = append(findings, view.Bad("configuration", problem.Error(),
			strings.Join(problem.Next, "; ")))
	} else {
		findings = append(findings, checkGit(ctx, p)...)
		findings = append(findings, checkConfiguration(p))
		findings = append(findings, checkBuild(ctx, p)...)
		findings = append(findings, checkTrust(ctx, p)...)
		findings = append(findings, a.checkStore(ctx, p)...)
		findings = append(findings, checkNotices(p)...)
		findings = append(findings, checkPictures(p)...)
	}

	findings = append(findings, checkNames(ctx), checkPort(ctx, findings, "edge", view.DefaultEdge),
		checkPort(ctx, findings, "serve", defaultServe), checkCache(a.places))

	if a.JSON {
		if err := a.Document(findings); err != nil {
			return err
		}
	} else {
		view.PrintDoctor(a.Console, findings)
	}

	if slices.ContainsFunc(findings, func(f view.Finding) bool { return f.State == "bad" }) {
		return &exitError{int(fault.Findings)}
	}
	return nil
}

// Pictures are a thing of some people and machines. Who says in orilla.yaml how they are to be wants them.

// checkPictures tells whether there is a browser to take pictures with, where the project wants any.
func checkPictures(p *site.Project) []view.Finding {
	const about = "pictures"
	wanted := p.LocalConfig.Pictures
	if len(wanted.Pages)+len(wanted.Widths)+len(wanted.Schemes)+len(wanted.Ignore) == 0 {
		return nil
	}
	program, err := browserNamed(os.Getenv(browserVariable))
	if err != nil {
		return []view.Finding{view.Remark(about, "no Chromium or Chrome was found",
			"install one, or name it in "+browserVariable)}
	}
	findings := []view.Finding{view.Good(about, "taken by "+strings.Join(program, " "))}
	if _, err := exec.LookPath("bwrap"); err != nil && runtime.GOOS == "linux" {
		findings = append(findings, view.Remark(about,
			"bubblewrap is not installed, so there are none of untrusted builds",
			"apt-get install bubblewrap"))
	}
	return findings
}

// checkGit tells whether Git is there and new enough for what is asked of it.
func checkGit(ctx context.Context, p *site.Project) []view.Finding {
	asked := exec.CommandContext(ctx, "git", "--version")
	asked.Env = process.Environment()
	out, err := asked.Output()
	if err != nil {
		return []view.Finding{view.Remark("git",
			"git is not installed: only folders and archives can be deployed", "install Git")}
	}

	findings := []view.Finding{view.Good("git", strings.TrimSpace(string(out)))}
	if p.Repository == nil {
		return append(findings, view.Remark("repository",
			"not in a Git repository: only folders and archives can be deployed",
			"git init, git add ., git commit"))
	}

	if _, err := p.Repository.Commit(ctx, "HEAD"); err != nil {
		return append(findings, view.Bad("repository", "the repository has no commit yet",
			"git add . && git commit"))
	}
	if _, err := p.Repository.Roots(ctx); err != nil {
		return append(findings, view.Remark("repository",
			"the clone is shallow: a deploy fetches the history it needs",
			"git fetch --unshallow, if the remote is not reachable then"))
	}

	branch := p.Repository.Branch(ctx)
	if branch == "" {
		return append(findings, view.Remark("repository",
			"HEAD is detached: a deploy needs --to or --branch", ""))
	}

	target, err := p.Target("", branch)
	text := "on branch " + branch
	if err == nil {
		text += ", which goes to " + strings.Replace(target, "preview.", "preview/", 1)
	}
	return append(findings, view.Good("repository", text))
}

// checkNotices tells what this machine lacks to tell people: known before a deploy, and not found
// out by who hears nothing.
func checkNotices(p *site.Project) (findings []view.Finding) {
	options := courier.Options{Config: p.ProductionConfig}
	told := courier.Recipients(options)
	for _, text := range lackingForNotices(told) {
		findings = append(findings, view.Remark("notices", text, "set it where orilla deploy runs"))
	}
	if len(findings) == 0 && len(told) > 0 {
		count := console.Count(int64(len(told)), "recipient", "recipients")
		findings = append(findings, view.Good("notices", count+"; try: orilla notices test"))
	}
	return findings
}

// checkConfiguration tells whether there is an orilla.yaml; that it parses is
// known by then.
func checkConfiguration(p *site.Project) view.Finding {
	if !p.Configured {
		return view.Bad("configuration", "no orilla.yaml", "orilla init")
	}
	return view.Good("configuration", "orilla.yaml of site "+p.LocalConfig.Site)
}

// checkBuild tells whether the tools that the steps begin with can be found, in
// the versions that were asked for, without running a step.
func checkBuild(ctx context.Context, p *site.Project) []view.Finding {
	commands := p.LocalConfig.Build.Steps()
	if len(commands) == 0 && !p.Configured {
		return nil // nobody said yet how it is built
	}
	if len(commands) == 0 {
		return []view.Finding{view.Good("build", "no build steps: the files are published as they are")}
	}
	build := p.LocalConfig.Build
	_, err := steps.Prepare(ctx, steps.Wanted{Steps: commands, Variables: build.Variables,
		Secrets: build.Secrets, Needs: build.Needs})

	if problem, ok := errors.AsType[*fault.Error](err); ok {
		about := "build"
		if problem.Code == "secret-missing" {
			about = "secrets"
		}
		return []view.Finding{view.Bad(about, strings.Join(append([]string{problem.What}, problem.Detail...),
			"; "), strings.Join(problem.Next, "; "))}
	}

	return []view.Finding{view.Good("build", strings.Join(commands, "; "))}
}

// checkTrust says how builds of branches that nobody trusts are held here, and
// what their previews could reach.
func checkTrust(ctx context.Context, p *site.Project) []view.Finding {
	if p.Repository == nil {
		return nil
	}
	standing := p.ProductionConfig
	var findings []view.Finding
	outside := len(standing.Previews.Refs) > 0
	means := steps.Means{}
	if outside || !standing.TrustsAll() {
		means = build.NewMachine(p.Places.Cache).Means(ctx)
	}

	switch {
	case !outside && standing.TrustsAll():
		findings = append(findings,
			view.Good("trust", "every branch is trusted, and changes from outside are not built"))
	case standing.Build.Isolation == project.IsolateOff:
		findings = append(findings,
			view.Remark("trust", "builds of untrusted branches are not isolated: build.isolation is off",
				"build.isolation: auto"))
	case means.Bubblewrap == "" && standing.Build.Isolation == project.IsolateRequired:
		findings = append(findings, view.Remark("trust", "Orilla refuses untrusted builds here: "+means.Why,
			means.Hint))
	case means.Bubblewrap == "" && outside && standing.TrustsAll():
		findings = append(findings, view.Remark("trust", "Orilla refuses changes from "+
			"outside here: "+means.Why,
			means.Hint))
	case means.Bubblewrap == "" && outside:
		findings = append(findings,
			view.Remark("trust", "Orilla refuses changes from outside here, and untrusted builds "+
				"can read and change whatever this user can: "+means.Why, means.Hint))
	case means.Bubblewrap == "":
		findings = append(findings,
			view.Remark("trust", "untrusted builds can read and change whatever this user can: "+means.Why,
				means.Hint))
	case means.Pasta == "" && standing.Build.Network == project.NetworkOutside:
		findings = append(findings, view.Remark("trust", means.Why, means.Hint))
	default:
		findings = append(findings,
			view.Good("trust", "untrusted builds are isolated with bubblewrap; network: "+
				standing.Build.Network))
	}

	return append(findings, checkCookies(standing)...)
}

// checkCookies finds previews that share the registrable domain of production:
// a script there can set cookies for all of it (RFC 6265, 5.3; what is
// registrable, the Public Suffix List says).
func checkCookies(standing project.Config) []view.Finding {
	// Cookies know no more than the registrable domain (RFC 6265, section 5.3):
	// whoever can run a script on one name below it can set cookies for all.
	domains := map[string]bool{}
	for _, address := range standing.Environments[project.Production].Addresses {
		if domain := registrable(address); domain != "" {
			domains[domain] = true
		}
	}

	for _, address := range standing.Previews.Addresses {
		if domain := registrable(strings.ReplaceAll(address, project.LabelPlace, "label")); domains[domain] {
			return []view.Finding{view.Remark("cookies", "previews and production share "+domain+
				": a script in a preview can set cookies for production, and may be sent its",
				"give previews a domain of their own")}
		}
	}
	return nil
}

// registrable returns the part of a host under which anybody may set cookies
// (publicsuffix.org), "" for an address without one: previews below it can read
// and set the cookies of production.
func registrable(address string) string {
	at, err := url.Parse(address)
	if err != nil {
		return ""
	}
	domain, err := publicsuffix.EffectiveTLDPlusOne(at.Hostname())
	if err != nil {
		return ""
	}
	return domain
}

// checkStore tells whether the store can be read and written, by taking a pin
// in it as every deploy does: a right that is missing shows in no other way.
// Then it asks the edge nodes.
func (a *doctorCmd) checkStore(ctx context.Context, p *site.Project) []view.Finding {
	store, err := a.openStore(ctx, p, false)
	if address, _ := a.storeAddress(p); errors.Is(err, storage.ErrNone) &&
		(!strings.Contains(address, "://") || strings.HasPrefix(address, "file:")) {
		return []view.Finding{view.Good("store", "not there yet; the first deploy creates it")}
	}

	if problem, ok := errors.AsType[*fault.Error](err); ok {
		return []view.Finding{view.Bad("store", problem.Error(), strings.Join(problem.Next, "; "))}
	}
	// The very first thing that a deploy does: it writes, reads the store's
	// clock, and removes.
	hold, err := p.Pin(ctx, store, p.Site(), "doctor")
	if hold.Drop(ctx); err != nil {
		mend, err := "", a.message(err)
		if problem, ok := errors.AsType[*fault.Error](err); ok {
			mend = strings.Join(problem.Next, "; ")
		}
		return []view.Finding{view.Bad("store", err.Error(), mend)}
	}

	findings := []view.Finding{view.Good("store", store.Address()+" is readable and writable")}
	if readableByStrangers(ctx, store) {
		findings = []view.Finding{view.Bad("store", "anyone can read "+store.Address()+
			" without credentials, even password-protected sites", "disable public access of the bucket")}
	}
	findings = append(findings, a.checkDomains(ctx)...)
	nodes, err := edge.Reached(ctx, store, storage.KnownAhead(store))
	if err != nil || len(nodes) == 0 {
		return append(findings, view.Remark("edge nodes", "none is running on this store", "orilla edge"))
	}

	for _, node := range nodes {
		if _, _, err := node.Serves(ctx, "localhost"); err != nil {
			findings = append(findings, view.Remark("edge nodes", node.Node+" at "+node.Address+
				" does not answer", "check that machine"))
			continue
		}
		findings = append(findings, view.Good("edge nodes", node.Node+" answers at "+node.Address))
	}
	// What nodes know and nobody else does: certificates that they cannot renew.
	if asked, err := edge.Asked(ctx, store, storage.KnownAhead(store)); err == nil {
		for _, alarm := range view.Alarms(asked) {
			findings = append(findings, view.Bad("certificates", alarm, "orilla domains"))
		}
	}

	return findings
}

// domainsTime is how long doctor looks at names: orilla domains takes as long as they need.
const domainsTime = 8 * time.Second

// checkDomains looks once at the names of the site. None is a reason not to deploy, so what
// is wrong is a remark, with the command that tells all of it.
func (a *doctorCmd) checkDomains(ctx context.Context) []view.Finding {
	d := &domainsCmd{app: a.app}
	n, err := d.named(ctx, "")
	if err != nil || len(n.hosts) == 0 {
		return nil // there are none, or it was told already what is wrong
	}
	looker, err := lookerOf(ctx, a.app, lookOptions{}, n.store)
	if err != nil {
		return []view.Finding{view.Remark("domains", err.Error(), "orilla domains --resolver ADDRESS")}
	}
	if looker == nil {
		return nil
	}
	// Where nobody answers at all, doctor says so soon, and goes on.
	limited, cancel := context.WithTimeout(ctx, domainsTime)
	defer cancel()
	plan := d.plan(limited, n, looker, "")
	needs := plan.Records()
	// What is wrong with many names at once is told once.
	var said []names.Finding
	hosts, well := map[string][]string{}, 0
	for _, seen := range looker.Look(limited, n.hosts, func(int) {}) {
		verdict := names.Judge(names.Case{Seen: seen, Needs: needs, Now: a.Now()})
		if verdict.State == names.Good {
			well++
			continue
		}
		for _, f := range verdict.Findings {
			if hosts[f.Text] == nil {
				said = append(said, f)
			}
			hosts[f.Text] = append(hosts[f.Text], seen.Host.Name)
		}
	}
	if limited.Err() != nil && ctx.Err() == nil {
		return []view.Finding{view.Remark("domains", "names were not looked at in time", "orilla domains")}
	}
	var findings []view.Finding
	for _, f := range said {
		findings = append(findings, view.Remark("domains", strings.Join(hosts[f.Text], ", ")+": "+f.Text,
			cmp.Or(f.Next, "orilla domains")))
	}
	if well > 0 {
		findings = append(findings, view.Good("domains",
			console.Count(int64(well), "name leads", "names lead")+" to edge nodes of this store"))
	}
	return findings
}

// checkNames tests what RFC 6761 asks of resolvers: names
// below localhost lead to this machine.
func checkNames(ctx context.Context) view.Finding {
	// A resolver that does not answer is not a reason for doctor to take half a
	// minute.
	limited, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	addresses, err := net.DefaultResolver.LookupHost(limited, "corvane.localhost")
	if err != nil || len(addresses) == 0 || !net.ParseIP(addresses[0]).IsLoopback() {
		return view.Remark("names",
			"this machine does not resolve names below .localhost; browsers and curl do so themselves",
			"for other programs, add a line to the hosts file: 127.0.0.1 SITE.localhost")
	}
	return view.Good("names", "names below .localhost lead to "+addresses[0])
}

// answersHere reports whether an edge node was found to answer at an address.
func answersHere(findings []view.Finding, address string) bool {
	return slices.ContainsFunc(findings, func(f view.Finding) bool {
		return f.About == "edge nodes" && f.State == "good" && strings.HasSuffix(f.Text, " "+address)
	})
}

// checkPort tells whether a port is free. One where an edge node of this same
// store answers is as good.
func checkPort(ctx context.Context, findings []view.Finding, what, address string) view.Finding {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil && answersHere(findings, address) {
		return view.Good("port", address+" is used by an edge node of this store")
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		return view.Remark("port", address+" for orilla "+what+" is in use",
			"fine if it is Orilla's own; else --listen another one")
	}
	if err != nil {
		return view.Remark("port", address+" for orilla "+what+": "+err.Error(), "--listen another address")
	}
	listener.Close() //nolint:errcheck // it was only tried
	return view.Good("port", address+" is free for orilla "+what)
}

// checkCache makes sure that there is a folder for builds, with room.
func checkCache(places site.Places) view.Finding {
	if err := os.MkdirAll(places.Cache, 0o700); err != nil {
		return view.Bad("disk", "cannot create the folder for builds: "+err.Error(),
			"set ORILLA_HOME to a folder of your own")
	}
	free, ok := steps.FreeSpace(places.Cache)
	switch {
	case !ok:
		return view.Good("disk", places.Cache)
	case free < 500_000_000:
		return view.Remark("disk", "only "+console.Size(free)+" free for builds in "+places.Cache,
			"free some disk space")
	}
	return view.Good("disk", console.Size(free)+" free for builds in "+places.Cache)
}
