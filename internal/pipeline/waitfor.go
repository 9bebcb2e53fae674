package pipeline

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/process"
)

// How long it is waited.
const (
	lookWait    = 40 * time.Second // for nodes and addresses to answer well: longer than a node that was killed counts as there (edge.Gone)
	cacheWait   = 10 * time.Second // for what stands in front of an address to forget
	requestWait = 20 * time.Second // for one answer
	lookPause   = 50 * time.Millisecond
	lookPauses  = 1 * time.Second // the longest
	commandWait = 10 * time.Minute
)

// isAddress tells what is requested from what is run.
func isAddress(what string) bool {
	return !strings.ContainsAny(what, " \t\n") && (strings.HasPrefix(what, "/") || strings.HasPrefix(what, "http://") || strings.HasPrefix(what, "https://"))
}

// WaitList turns what was asked for into what is looked at: @FILE stands for the lines of a file, without empty ones and comments.
func WaitList(asked []string, read func(string) ([]byte, error)) ([]string, error) {
	var list []string
	for _, what := range asked {
		name, isFile := strings.CutPrefix(what, "@")
		if !isFile {
			list = append(list, what)
			continue
		}
		data, err := read(name)
		if err != nil {
			return nil, fault.New(fault.Usage, "no-list", "the list of what to wait for cannot be read").At("%s", name).Because(err)
		}
		for line := range strings.Lines(string(data)) {
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				list = append(list, line)
			}
		}
	}
	return list, nil
}

// ready makes sure, before anything changes, that what is waited for can be looked at.
func (r *Run) ready(ctx context.Context) error {
	for _, what := range r.WaitFor {
		if !strings.HasPrefix(what, "/") || !isAddress(what) {
			continue
		}
		nodes, err := r.nodes(ctx)
		if err == nil && len(nodes) == 0 {
			err = fault.New(fault.Refused, "no-edge", "%s is waited for, and no edge node runs that could be asked", what).
				Then("orilla edge, then try again").Then("or look at nothing this time: --wait-for nothing")
		}
		return err
	}
	return nil
}

// nodes returns the edge nodes that are there by the store's clock, and can be asked from here.
func (r *Run) nodes(ctx context.Context) ([]edge.Presence, error) {
	ahead := storage.KnownAhead(r.Store)
	if r.hold != nil {
		ahead = r.hold.Ahead
	}
	return edge.Reached(ctx, r.Store, ahead)
}

// nodesKnow refuses what an edge node could not read: it would stay where it is.
func (r *Run) nodesKnow(ctx context.Context, needed storage.Formats) error {
	if (storage.Formats{Document: 1, Entry: 1, Semantics: 1}).Lacks(needed) == "" {
		return nil // every version does
	}
	nodes, err := edge.Nodes(ctx, r.Store, r.now().Sub(r.Now()))
	if err != nil {
		return err
	}
	for _, node := range nodes {
		if lacks := node.Knows.Lacks(needed); lacks != "" {
			return fault.New(fault.Refused, "node-too-old", "the edge node %s does not know %s", node.Node, lacks).At("%s", node.Address).
				With("its version: " + cmp.Or(node.Version, "unknown, an early one")).Then("upgrade orilla on that machine and restart the node, then try again")
		}
	}
	return nil
}

// waiter looks at what an activation is waited for.
type waiter struct {
	*Run
	entry   journal.Entry
	pass    string
	address string
}

// Wait looks at what the activation is waited for, and goes back if any of it fails. told is called for each look. The error is a
// fault.Error of kind Findings if it failed. What came of it is in the result.
func (r *Run) Wait(ctx context.Context, told func(Look)) error {
	if len(r.WaitFor) == 0 || r.result.Entry == nil || r.result.Same {
		return nil
	}
	w := &waiter{Run: r, entry: *r.result.Entry}
	var err error
	claim, err := ReadClaim(ctx, r.Store, r.Plan.Site)
	if err != nil {
		return StoreTrouble(r.Store, err)
	}
	w.pass = access.Pass(claim.Incarnation, r.Plan.Environment, r.now())
	if w.address, err = w.find(ctx); err != nil {
		return StoreTrouble(r.Store, err)
	}
	outcome := &Outcome{Format: outcomeFormat, Entry: w.entry.Number, Attempt: w.entry.Attempt, Passed: true}
	r.result.Outcome = outcome
	var failed []string
	for _, what := range r.WaitFor {
		began := time.Now()
		look := w.look(ctx, what)
		if ctx.Err() != nil {
			look.Passed, look.Text = false, "was interrupted"
		}
		look.What, look.Milliseconds = what, time.Since(began).Milliseconds()
		outcome.Looks = append(outcome.Looks, look)
		told(look)
		outcome.Passed = outcome.Passed && look.Passed
		if look.Unchecked {
			outcome.Format = outcomeFormatUnchecked
		} else if !look.Passed {
			failed = append(failed, what+": "+look.Text)
			break
		}
	}
	outcome.When = r.now().UTC().Truncate(time.Millisecond)
	return w.conclude(context.WithoutCancel(ctx), outcome, failed)
}

// conclude keeps the outcome, after it went back if anything failed.
func (w *waiter) conclude(ctx context.Context, outcome *Outcome, failed []string) error {
	var problem *fault.Error
	if !outcome.Passed && len(failed) == 0 {
		w.Report.Notice(fault.Notice{Code: "not-checked", What: w.entry.Label() + " is live but was not checked: " + outcome.Looks[len(outcome.Looks)-1].Text,
			Next: "start one with orilla edge and check it; nothing was rolled back"})
	}
	if len(failed) > 0 {
		problem = fault.New(fault.Findings, "wait-failed", "%s did not pass what it was waited for", w.entry.Label()).With(failed...)
		back, err := w.back(ctx, failed[0])
		switch {
		case err != nil:
			problem = problem.With("going back failed too, so it is still live").Because(err).Then("orilla rollback %s", journal.DisplayName(w.entry.Environment))
		case back == nil:
			problem = problem.With("there was nothing live before it to go back to, so it is still live, or somebody has moved it on since")
		default:
			outcome.Back = back.Number
			w.result.Back = back
			problem = problem.With(back.Label()+" went back to "+back.Release.Short()+", and froze "+journal.DisplayName(back.Environment)).
				Then("correct it; then orilla thaw %s", journal.DisplayName(back.Environment))
		}
	}
	data, err := record.Encode(outcome)
	if err == nil {
		err = w.Store.Create(ctx, storage.OutcomeKey(w.Plan.Site, w.entry.Environment, w.entry.Number), data)
	}
	if problem != nil {
		return problem
	}
	return StoreTrouble(w.Store, err)
}

// errMovedOn: somebody has moved the environment since.
var errMovedOn = errors.New("moved on")

// back returns to what was live before, unless nothing was or somebody has moved the environment since: then it returns nil.
func (w *waiter) back(ctx context.Context, why string) (*journal.Entry, error) {
	before := w.result.Before
	if before == nil || before.Release.IsZero() || before.Release == w.entry.Release {
		return nil, nil
	}
	j := w.journal()
	decide := j.Return(ctx, journal.Back{Cause: w.Cause, Who: w.Plan.Project.Person(ctx), Why: "did not pass: " + why,
		To: func(e journal.Entry) bool { return e.Number < w.entry.Number && e.Release == before.Release }})
	entry, err := j.Append(ctx, w.entry, func(head *journal.Entry) (journal.Entry, error) {
		if head == nil || head.Attempt != w.entry.Attempt {
			return journal.Entry{}, errMovedOn
		}
		return decide(head)
	})
	if errors.Is(err, errMovedOn) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	w.hints.Pulse(ctx, w.Store, entry)
	return &entry, nil
}

// find returns the environment's address: its canonical one, or its name at the first edge node.
func (w *waiter) find(ctx context.Context) (string, error) {
	content, err := documentOf(ctx, w.Store, w.entry)
	if err != nil {
		return "", err
	}
	if len(content.Addresses) > 0 {
		return content.Addresses[0], nil
	}
	host := edge.LocalName(w.Plan.Site, w.entry.Environment)
	nodes, err := w.Run.nodes(ctx)
	if err != nil {
		return "", err
	}
	if len(nodes) > 0 {
		host += nodes[0].Address[strings.LastIndexByte(nodes[0].Address, ':'):]
	}
	return "http://" + host + "/", nil
}

func (w *waiter) look(ctx context.Context, what string) Look {
	switch {
	case !isAddress(what):
		return w.run(ctx, what)
	case strings.HasPrefix(what, "/"):
		return w.askNodes(ctx, what)
	}
	var last answered
	began := time.Now()
	w.until(ctx, func() bool {
		last = w.request(ctx, what, "", "")
		return last.passed || last.final && time.Since(began) > cacheWait
	})
	return Look{Passed: last.passed, Text: last.text}
}

// until repeats something until it is done, or the time for one look is over.
func (w *waiter) until(ctx context.Context, done func() bool) {
	deadline := time.Now().Add(lookWait)
	for pause := lookPause; !done() && ctx.Err() == nil && time.Now().Before(deadline); pause = min(2*pause, lookPauses) {
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// askNodes requests a path at each edge node, again and again, until all that are there answer well. A node that is not there any more drops
// out; what answers badly from the entry itself has answered.
func (w *waiter) askNodes(ctx context.Context, path string) Look {
	at, err := url.Parse(w.address)
	if err != nil {
		return Look{Text: err.Error()}
	}
	path = strings.TrimSuffix(at.EscapedPath(), "/") + path
	passed := map[string]string{} // what nodes answered that need not be asked again
	var failed string             // the last answer that was not good
	left := 0
	var unknown error // which nodes there are cannot be learnt: that says nothing of the release
	w.until(ctx, func() bool {
		var nodes []edge.Presence
		if nodes, unknown = w.Run.nodes(ctx); unknown != nil {
			return false
		}
		failed, left = "", len(nodes)
		for _, node := range nodes {
			if passed[node.Node] != "" {
				continue
			}
			answer := w.request(ctx, "http://"+node.Address+path, edge.LocalName(w.Plan.Site, w.entry.Environment), w.entry.Label())
			if answer.passed {
				passed[node.Node] = answer.text
				continue
			}
			if failed = answer.text + " at " + node.Node; answer.final {
				return true
			}
		}
		return failed == ""
	})
	switch {
	case unknown != nil && len(passed) == 0:
		return Look{Unchecked: true, Text: "the store does not say which edge nodes run: " + unknown.Error()}
	case failed != "":
		return Look{Text: failed}
	case left == 0 && len(passed) == 0:
		return Look{Unchecked: true, Text: "no edge node is running"}
	}
	text := ""
	for _, one := range passed {
		text = one
	}
	if len(passed) > 1 {
		text += fmt.Sprintf(" at %d edge nodes", len(passed))
	}
	return Look{Passed: true, Text: text}
}

// answered is what came of one request.
type answered struct {
	text   string
	passed bool
	final  bool // asking again would not change it
}

// request asks for an address and reports what the answer was: it passes if it is one of 200 to 299 and, where an entry is given, comes from
// that. Redirects on the same host are followed.
func (w *waiter) request(ctx context.Context, address, host, label string) answered {
	client := http.Client{Timeout: requestWait, CheckRedirect: func(next *http.Request, via []*http.Request) error {
		if len(via) > 5 || next.URL.Host != via[0].URL.Host && next.URL.Host != host {
			return http.ErrUseLastResponse
		}
		if host != "" {
			next.URL.Host, next.Host = via[0].URL.Host, host
		}
		w.admit(next)
		return nil
	}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return answered{text: err.Error(), final: true}
	}
	request.Host = host
	w.admit(request)
	response, err := client.Do(request)
	if err != nil {
		return answered{text: err.Error()}
	}
	_, err = io.Copy(io.Discard, response.Body)
	response.Body.Close() //nolint:errcheck // it was read
	if err != nil {
		return answered{text: "cut short: " + err.Error()}
	}
	if from := response.Header.Get(edge.ReleaseField); label != "" && !strings.Contains(from+";", "entry="+label+";") {
		return answered{text: "not answered from " + label + " after " + lookWait.String()}
	}
	status := response.StatusCode
	return answered{text: fmt.Sprint(status), passed: status >= 200 && status < 300, final: status < 500}
}

// admit lets a request in where a password is asked for.
func (w *waiter) admit(request *http.Request) {
	request.Header.Del("Cookie")
	request.AddCookie(&http.Cookie{Name: access.Cookie, Value: w.pass})
}

// run runs a command, which learns from its environment what is live where.
func (w *waiter) run(ctx context.Context, command string) Look {
	environment := append(process.Environment(process.Network...),
		"ORILLA_ADDRESS="+w.address, "ORILLA_OPEN_ADDRESS="+strings.TrimSuffix(w.address, "/")+access.LinkPath+w.pass+"/", "ORILLA_SITE="+w.Plan.Site,
		"ORILLA_ENVIRONMENT="+journal.DisplayName(w.entry.Environment), "ORILLA_ENTRY="+w.entry.Label(),
		"ORILLA_RELEASE="+w.entry.Release.Short(), "ORILLA_COMMIT="+w.entry.Commit)
	last := ""
	steps, err := builder.Run(ctx, builder.Spec{
		Folder: w.Plan.Project.Root, Steps: []string{command}, Environment: environment, TimeLimit: commandWait, Log: io.Discard,
		Line: func(line string) {
			w.Report.Line(line)
			if strings.TrimSpace(line) != "" {
				last = line
			}
		},
	})
	look := Look{Passed: err == nil, Text: "done"}
	if err != nil {
		look.Text = "could not be run"
		if fault.Code(err) == "time-limit" {
			look.Text = "took longer than " + commandWait.String()
		} else if len(steps) > 0 {
			look.Text = fmt.Sprintf("ended with status %d", steps[len(steps)-1].Exit)
		}
		if last != "" {
			look.Text += ": " + last
		}
	}
	return look
}
