package cli

import (
	"context"
	"errors"
	"net"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/net/publicsuffix"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/site"
)

// examined is one thing that doctor looked at.
type examined struct {
	About string `json:"about"`
	State string `json:"state"` // "good", "remark", "bad"
	Text  string `json:"text"`
	Mend  string `json:"mend,omitempty"`
}

func (a *app) doctorCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "doctor", Short: "Whether what this project needs is here, and how to mend what is not", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.doctor(cmd.Context()) },
	}
	return a.jsonFlag(cmd)
}

func (a *app) doctor(ctx context.Context) error {
	p, err := a.load(ctx)
	var findings []examined
	add := func(about, state, text, mend string) { findings = append(findings, examined{about, state, text, mend}) }
	if err != nil {
		problem, ok := errors.AsType[*fault.Error](err)
		if !ok {
			return err
		}
		add("configuration", "bad", problem.Error(), strings.Join(problem.Next, "; "))
	} else {
		findings = append(findings, checkGit(ctx, p)...)
		findings = append(findings, checkConfiguration(p))
		findings = append(findings, checkBuild(ctx, p)...)
		findings = append(findings, checkTrust(ctx, p)...)
		findings = append(findings, a.checkStore(ctx, p)...)
	}
	findings = append(findings, checkNames(ctx), checkPort(findings, "edge", defaultEdge), checkPort(findings, "serve", defaultServe), checkCache(a.places))
	trouble := 0
	for _, f := range findings {
		if f.State == "bad" {
			trouble++
		}
	}
	if a.JSON {
		if err := a.Document(findings); err != nil {
			return err
		}
	} else {
		a.printFindings(findings, trouble)
	}
	if trouble > 0 {
		return &exitError{int(fault.Findings)}
	}
	return nil
}

func (a *app) printFindings(findings []examined, trouble int) {
	for _, f := range findings {
		sign := map[string]string{"good": console.Good("ok  "), "remark": console.Warn("look"), "bad": console.Bad("bad ")}[f.State]
		a.Print("%s  %-14s %s", sign, f.About, f.Text)
		if f.Mend != "" {
			a.Print("      %-14s %s %s", "", console.Accent("mend:"), f.Mend)
		}
	}
	if trouble == 0 {
		a.Print("%s", console.Good("everything that this project needs is here"))
	} else {
		a.Print("%s", console.Bad(console.Count(int64(trouble), "thing keeps", "things keep")+" this project from being deployed"))
	}
}

func checkGit(ctx context.Context, p *site.Project) []examined {
	asked := exec.CommandContext(ctx, "git", "--version")
	asked.Env = process.Environment()
	out, err := asked.Output()
	if err != nil {
		return []examined{{"git", "remark", "there is no git command: only folders and archives can be deployed", "install Git"}}
	}
	findings := []examined{{"git", "good", strings.TrimSpace(string(out)), ""}}
	if p.Repository == nil {
		return append(findings, examined{"repository", "remark", "not in a Git repository: only folders and archives can be deployed", "git init, git add ., git commit"})
	}
	if _, err := p.Repository.Commit(ctx, "HEAD"); err != nil {
		return append(findings, examined{"repository", "bad", "the repository has no commit yet", "git add . && git commit"})
	}
	if _, err := p.Repository.Roots(ctx); err != nil {
		return append(findings, examined{"repository", "remark", "the clone is shallow: what a deploy needs of its history is fetched", "git fetch --unshallow, if the remote cannot be reached then"})
	}
	branch := p.Repository.Branch(ctx)
	if branch == "" {
		return append(findings, examined{"repository", "remark", "HEAD is detached: a deploy must be told --to or --branch", ""})
	}
	target, err := p.Target("", branch)
	text := "on branch " + branch
	if err == nil {
		text += ", which goes to " + strings.Replace(target, "preview.", "preview/", 1)
	}
	return append(findings, examined{"repository", "good", text, ""})
}

func checkConfiguration(p *site.Project) examined {
	if !p.Configured {
		return examined{"configuration", "bad", "there is no orilla.yaml", "orilla init"}
	}
	return examined{"configuration", "good", "orilla.yaml of site " + p.LocalConfig.Site, ""}
}

func checkBuild(ctx context.Context, p *site.Project) []examined {
	steps := p.LocalConfig.Build.Steps()
	if len(steps) == 0 {
		return []examined{{"build", "good", "no steps: the files are published as they are", ""}}
	}
	build := p.LocalConfig.Build
	_, err := builder.Prepare(ctx, builder.Wanted{Steps: steps, Variables: build.Variables, Secrets: build.Secrets, Needs: build.Needs})
	if problem, ok := errors.AsType[*fault.Error](err); ok {
		about := "build"
		if problem.Code == "secret-missing" {
			about = "secrets"
		}
		return []examined{{about, "bad", strings.Join(append([]string{problem.What}, problem.Detail...), "; "), strings.Join(problem.Next, "; ")}}
	}
	return []examined{{"build", "good", strings.Join(steps, "; "), ""}}
}

// checkTrust says how builds of branches that nobody trusts are held here, and what their previews could reach.
func checkTrust(ctx context.Context, p *site.Project) []examined {
	if p.Repository == nil {
		return nil
	}
	standing := p.ProductionConfig
	var findings []examined
	outside := len(standing.Previews.Refs) > 0
	means := builder.Means{}
	if outside || !standing.TrustsAll() {
		means = build.NewMachine(p.Places.Cache).Means(ctx)
	}
	switch {
	case !outside && standing.TrustsAll():
		findings = append(findings, examined{"trust", "good", "every branch is trusted, and no changes from outside are built", ""})
	case standing.Build.Isolation == project.IsolateOff:
		findings = append(findings, examined{"trust", "remark", "builds of untrusted branches are not isolated: build.isolation is off", "build.isolation: auto"})
	case means.Bubblewrap == "" && standing.Build.Isolation == project.IsolateRequired:
		findings = append(findings, examined{"trust", "remark", "untrusted builds are refused here: " + means.Why, means.Hint})
	case means.Bubblewrap == "" && outside && standing.TrustsAll():
		findings = append(findings, examined{"trust", "remark", "changes from outside are refused here: " + means.Why, means.Hint})
	case means.Bubblewrap == "" && outside:
		findings = append(findings, examined{"trust", "remark", "changes from outside are refused here, and untrusted builds can read and change what this user can: " + means.Why, means.Hint})
	case means.Bubblewrap == "":
		findings = append(findings, examined{"trust", "remark", "untrusted builds can read and change what this user can: " + means.Why, means.Hint})
	case means.Pasta == "" && standing.Build.Network == project.NetworkOutside:
		findings = append(findings, examined{"trust", "remark", means.Why, means.Hint})
	default:
		findings = append(findings, examined{"trust", "good", "untrusted builds are isolated with bubblewrap; network: " + standing.Build.Network, ""})
	}
	return append(findings, checkCookies(standing)...)
}

// checkCookies finds previews that share the registrable domain of production: a script there can set cookies for all of it (RFC 6265,
// 5.3; what is registrable, the Public Suffix List says).
func checkCookies(standing project.Config) []examined {
	domains := map[string]bool{}
	for _, address := range standing.Environments[project.Production].Addresses {
		if domain := registrable(address); domain != "" {
			domains[domain] = true
		}
	}
	for _, address := range standing.Previews.Addresses {
		if domain := registrable(strings.ReplaceAll(address, project.LabelPlace, "label")); domains[domain] {
			return []examined{{"cookies", "remark", "previews and production share " + domain + ": a script in a preview can set cookies for production, and may be sent its",
				"give previews a domain of their own"}}
		}
	}
	return nil
}

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

func (a *app) checkStore(ctx context.Context, p *site.Project) []examined {
	store, err := a.openStore(ctx, p, false)
	if address, _ := a.storeAddress(p); errors.Is(err, storage.ErrNone) && (!strings.Contains(address, "://") || strings.HasPrefix(address, "file:")) {
		return []examined{{"store", "good", "not there yet; the first deploy makes it", ""}}
	}
	if problem, ok := errors.AsType[*fault.Error](err); ok {
		return []examined{{"store", "bad", problem.Error(), strings.Join(problem.Next, "; ")}}
	}
	hold, err := p.Pin(ctx, store, p.Site(), "doctor")
	if hold.Drop(ctx); err != nil {
		mend, err := "", a.message(err)
		if problem, ok := errors.AsType[*fault.Error](err); ok {
			mend = strings.Join(problem.Next, "; ")
		}
		return []examined{{"store", "bad", err.Error(), mend}}
	}
	findings := []examined{{"store", "good", store.Address() + " can be read and written", ""}}
	nodes, err := edge.Reached(ctx, store, storage.KnownAhead(store))
	if err != nil || len(nodes) == 0 {
		return append(findings, examined{"edge nodes", "remark", "none runs on this store", "orilla edge"})
	}
	for _, node := range nodes {
		if _, _, err := node.Serves(ctx, "localhost"); err != nil {
			findings = append(findings, examined{"edge nodes", "remark", node.Node + " at " + node.Address + " does not answer", "look at that machine"})
			continue
		}
		findings = append(findings, examined{"edge nodes", "good", node.Node + " answers at " + node.Address, ""})
	}
	return findings
}

// checkNames tests what RFC 6761 asks of resolvers: names below localhost lead to this machine.
func checkNames(ctx context.Context) examined {
	limited, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	addresses, err := net.DefaultResolver.LookupHost(limited, "corvane.localhost")
	if err != nil || len(addresses) == 0 || !net.ParseIP(addresses[0]).IsLoopback() {
		return examined{"names", "remark", "this machine does not resolve names below .localhost; browsers and curl do so themselves",
			"other programs need a line in the hosts file: 127.0.0.1 SITE.localhost"}
	}
	return examined{"names", "good", "names below .localhost lead to " + addresses[0], ""}
}

// answersHere reports whether an edge node was found to answer at an address.
func answersHere(findings []examined, address string) bool {
	return slices.ContainsFunc(findings, func(f examined) bool {
		return f.About == "edge nodes" && f.State == "good" && strings.HasSuffix(f.Text, " "+address)
	})
}

func checkPort(findings []examined, what, address string) examined {
	listener, err := net.Listen("tcp", address)
	if err != nil && answersHere(findings, address) {
		return examined{"port", "good", address + " is where an edge node of this store answers", ""}
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		return examined{"port", "remark", address + " for orilla " + what + " is in use", "fine if it is Orilla's own; else --listen another one"}
	}
	if err != nil {
		return examined{"port", "remark", address + " for orilla " + what + ": " + err.Error(), "--listen another address"}
	}
	listener.Close() //nolint:errcheck // it was only tried
	return examined{"port", "good", address + " is free for orilla " + what, ""}
}

// checkCache makes sure that there is a folder for builds, with room.
func checkCache(places site.Places) examined {
	if err := os.MkdirAll(places.Cache, 0o700); err != nil {
		return examined{"disk", "bad", "the folder for builds cannot be made: " + err.Error(), "set ORILLA_HOME to a folder of your own"}
	}
	free, ok := builder.FreeSpace(places.Cache)
	switch {
	case !ok:
		return examined{"disk", "good", places.Cache, ""}
	case free < 500_000_000:
		return examined{"disk", "remark", "only " + console.Size(free) + " free for builds in " + places.Cache, "make room"}
	}
	return examined{"disk", "good", console.Size(free) + " free for builds in " + places.Cache, ""}
}
