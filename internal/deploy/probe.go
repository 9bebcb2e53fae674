package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/steps"
)

// How long a probe may take.
const (
	// for nodes and addresses to answer well: longer than a node that was
	// killed counts as there (edge.Gone)
	probeTimeout   = 40 * time.Second
	cacheTimeout   = 10 * time.Second // for what stands in front of an address to forget
	requestTimeout = 20 * time.Second // for one answer
	commandTimeout = 10 * time.Minute

	// A probe is repeated after pauses that double.
	firstPause   = 50 * time.Millisecond
	longestPause = 1 * time.Second
)

// isAddress tells what is requested from what is run.
func isAddress(what string) bool {
	return !strings.ContainsAny(what, " \t\n") &&
		(strings.HasPrefix(what, "/") || strings.HasPrefix(what, "http://") ||
			strings.HasPrefix(what, "https://"))
}

// ReadProbes turns what was asked for into what is probed:
// @FILE stands for the lines of a file, without empty ones
// and comments. read reads a file by the name that was typed.
func ReadProbes(asked []string, read func(file string) ([]byte, error)) ([]string, error) {
	var list []string
	for _, what := range asked {
		name, isFile := strings.CutPrefix(what, "@")
		if !isFile {
			list = append(list, what)
			continue
		}

		data, err := read(name)
		if err != nil {
			return nil, fault.New(fault.Usage, "no-list", "cannot read the list of checks").
				At("%s", name).Because(err)
		}

		for line := range strings.Lines(string(data)) {
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				list = append(list, line)
			}
		}
	}

	return list, nil
}

// findAddress returns the environment's address: its
// canonical one, or its name at the first edge node.
func (v *verifier) findAddress(ctx context.Context) (string, error) {
	content, err := environments.DocumentOf(ctx, v.Store, v.entry)
	if err != nil {
		return "", err
	}
	if len(content.Addresses) > 0 {
		return content.Addresses[0], nil
	}

	host := project.LocalName(v.Plan.Site, v.entry.Environment)
	nodes, err := v.nodes(ctx)
	if err != nil {
		return "", err
	}

	if len(nodes) > 0 {
		host += nodes[0].Address[strings.LastIndexByte(nodes[0].Address, ':'):]
	}
	return "http://" + host + "/", nil
}

// probe requests an address, at every edge node if it is a
// path, or runs a command.
func (v *verifier) probe(ctx context.Context, what string) environments.Probe {
	// It was checked before anything was live.
	if lasts, is, _ := parseVisitors(what); is {
		return v.visitors(ctx, lasts)
	}
	switch {
	case !isAddress(what):
		return v.run(ctx, what)
	case strings.HasPrefix(what, "/"):
		return v.askNodes(ctx, what)
	}

	// An address goes through whatever stands before the edge, which may
	// remember the last release for a while; so a bad answer is final only
	// after some time.
	var last reply
	began := time.Now()
	until(ctx, func() bool {
		last = v.request(ctx, what, "", "")
		return last.passed || last.final && time.Since(began) > cacheTimeout
	})
	return environments.Probe{Passed: last.passed, Text: last.text}
}

// until repeats something until it is done, or the time for one probe is over.
func until(ctx context.Context, done func() bool) {
	deadline := time.Now().Add(probeTimeout)
	for pause := firstPause; !done() && ctx.Err() == nil && time.Now().
		Before(deadline); pause = min(2*pause, longestPause) {
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// poll is the state of asking every edge node for a path.
type poll struct {
	passed  map[string]string // what nodes answered that need not be asked again
	failed  string            // the last answer that was not good, and whose; "" if all were
	left    int               // how many nodes there are
	unknown error             // which nodes there are cannot be learnt: that says nothing of the release
}

// askNodes requests a path at each edge node, again and again, until all that
// are there answer well. A node that is not there any more drops out; what
// answers badly from the entry itself has answered.
func (v *verifier) askNodes(ctx context.Context, path string) environments.Probe {
	at, err := url.Parse(v.address)
	if err != nil {
		return environments.Probe{Text: err.Error()}
	}
	// The path is below that of the environment's address: a site at /ferries/
	// is asked for /ferries/fares/.
	path = strings.TrimSuffix(at.EscapedPath(), "/") + path
	nodes := poll{passed: map[string]string{}}
	until(ctx, func() bool { return v.askOnce(ctx, path, &nodes) })
	return nodes.result()
}

// askOnce asks the nodes that have not passed yet, and
// reports whether it is over.
func (v *verifier) askOnce(ctx context.Context, path string, p *poll) (over bool) {
	var nodes []edge.Presence
	if nodes, p.unknown = v.nodes(ctx); p.unknown != nil {
		return false
	}
	p.failed, p.left = "", len(nodes)

	for _, node := range nodes {
		if p.passed[node.Node] != "" {
			continue
		}
		// Asked by the name that every node answers to, so that no name server
		// has a say in it.
		host := project.LocalName(v.Plan.Site, v.entry.Environment)
		reply := v.request(ctx, "http://"+node.Address+path, host, v.entry.Label())
		if reply.passed {
			p.passed[node.Node] = reply.text
			continue
		}

		// One node that answers badly from the very entry settles it; the
		// others would say the same.
		if p.failed = reply.text + " at " + node.Node; reply.final {
			return true
		}
	}

	return p.failed == ""
}

// result is what came of asking all nodes. That no node could be asked is
// neither a pass nor a failure: going back would take a good release away.
func (p *poll) result() environments.Probe {
	switch {
	case p.unknown != nil && len(p.passed) == 0:
		return environments.Probe{Unchecked: true, Text: "the store does not list its edge nodes: " +
			p.unknown.Error()}
	case p.failed != "":
		return environments.Probe{Text: p.failed}
	case p.left == 0 && len(p.passed) == 0:
		return environments.Probe{Unchecked: true, Text: "no edge node is running"}
	}

	text := ""
	for _, one := range p.passed {
		text = one
	}
	if len(p.passed) > 1 {
		text += fmt.Sprintf(" at %d edge nodes", len(p.passed))
	}
	return environments.Probe{Passed: true, Text: text}
}

// reply is what came of one request.
type reply struct {
	text   string
	passed bool
	final  bool // asking again would not change it
}

// request asks for an address and reports what the answer was: it
// passes if it is one of 200 to 299 and, where an entry is given,
// comes from that. host, if not empty, is asked for in the place
// of the address's own. Redirects on the same host are followed.
func (v *verifier) request(ctx context.Context, address, host, entry string) reply {
	// The transport's own redirects, but: a redirect to another host is the
	// answer, and on the same host the request goes on to the node that was
	// asked.
	client := http.Client{Timeout: requestTimeout, CheckRedirect: func(next *http.Request,
		via []*http.Request) error {
		if len(via) > 5 || next.URL.Host != via[0].URL.Host && next.URL.Host != host {
			return http.ErrUseLastResponse
		}
		if host != "" {
			next.URL.Host, next.Host = via[0].URL.Host, host
		}
		v.admit(next)
		return nil
	}}

	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return reply{text: err.Error(), final: true}
	}
	request.Host = host
	v.admit(request)
	response, err := client.Do(request)
	if err != nil {
		return reply{text: err.Error()}
	}

	// Read to its end: a file that is cut short has status 200 too.
	_, err = io.Copy(io.Discard, response.Body)
	response.Body.Close() //nolint:errcheck // it was read
	if err != nil {
		return reply{text: "cut short: " + err.Error()}
	}

	// A node that has not flipped yet answers well from the release before.
	// That is no answer about this one.
	from := response.Header.Get(httpanswer.ReleaseField)
	if entry != "" && !strings.Contains(from+";", "entry="+entry+";") {
		return reply{text: "not answered from " + entry + " after " + probeTimeout.String()}
	}
	status := response.StatusCode
	return reply{text: fmt.Sprint(status), passed: status >= 200 && status < 300, final: status < 500}
}

// admit lets a request in where a password is asked for.
func (v *verifier) admit(request *http.Request) {
	request.Header.Del("Cookie")
	request.AddCookie(&http.Cookie{Name: access.Cookie, Value: v.pass})
}

// A command may want to compare, so it is told what was live before, by the name under which everything
// else of Orilla finds it.

// run runs a command, which learns from its environment what is live where.
func (v *verifier) run(ctx context.Context, command string) environments.Probe {
	// A command gets what it needs to look at the site, also through a
	// password, and none of the deploy's own secrets.
	environment := append(process.Environment(process.Network...),
		"ORILLA_ADDRESS="+v.address, "ORILLA_OPEN_ADDRESS="+strings.TrimSuffix(v.address, "/")+
			access.LinkPath+v.pass+"/",
		"ORILLA_SITE="+v.Plan.Site, "ORILLA_ENVIRONMENT="+journal.DisplayName(v.entry.Environment),
		"ORILLA_ENTRY="+v.entry.Label(), "ORILLA_RELEASE="+v.entry.Release.Short(),
		"ORILLA_COMMIT="+v.entry.Commit)
	if before := v.entry; before.Number > 1 {
		before.Number--
		environment = append(environment, "ORILLA_BEFORE="+before.Label())
	}

	last := "" // line that says something
	ran, err := steps.Run(ctx, steps.Spec{
		Folder: v.Plan.Project.Root, Steps: []string{command}, Environment: environment,
		TimeLimit: commandTimeout, Log: io.Discard,
		Line: func(line string) {
			v.Report.Line(line)
			if strings.TrimSpace(line) != "" {
				last = line
			}
		},
	})
	if err == nil {
		return environments.Probe{Passed: true, Text: "done"}
	}

	text := "could not run"
	if errors.Is(err, steps.ErrTimeLimit) {
		text = "took longer than " + commandTimeout.String()
	} else if len(ran) > 0 {
		text = fmt.Sprintf("ended with status %d", ran[len(ran)-1].Exit)
	}

	if last != "" {
		text += ": " + last
	}
	return environments.Probe{Text: text}
}
