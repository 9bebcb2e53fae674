package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// explainOptions are the flags of explain.
type explainOptions struct {
	site, on, environment, host, method, language, at string
	cookies, headers                                  []string
	live, expect                                      bool
	// the addresses that are live, of the environment that is looked at
	served map[string][]string
}

// explainCmd asks what addresses are answered with; check borrows how it finds
// its subject.
type explainCmd struct{ *app }

func newExplainCommand(a *app) *cobra.Command {
	c := &explainCmd{app: a}
	o := &explainOptions{}
	cmd := &cobra.Command{
		Use:   "explain URL|PATH|-",
		Short: "What an address answers, and why: each rule that was considered, the file, the headers",
		Args:  cobra.ExactArgs(1),
		Long: "Explain asks the same function that edge nodes and serve ask, and shows each step that led " +
			"to the answer. Without --on it\n" +
			"looks at the working tree: its rules as they are now, and the output of the last build. " +
			"With - it reads addresses from\n" +
			"standard input, one a line, and says the answer to each in one line; the " +
			"status is 4 if any of them is 404.",
		Example: "  orilla explain /timetable/winter\n" +
			"  orilla explain / --language gl --on production --live\n" +
			"  orilla explain - --expect < addresses.txt",
		RunE: func(cmd *cobra.Command, args []string) error { return c.explain(cmd.Context(), args[0], o) },
	}

	flags := cmd.Flags()
	flags.StringVar(&o.on, "on", "",
		"explain a `COMMIT|RELEASE|ENVIRONMENT` in the place of the working tree")
	flags.StringVar(&o.environment, "environment", "",
		"as which `ENVIRONMENT` (default: as the address says, else production)")

	flags.StringVar(&o.host, "host", "", "the host that is asked for")
	flags.StringVar(&o.method, "method", http.MethodGet, "the method")
	flags.StringVar(&o.language, "language", "", "the visitor's languages, as in Accept-Language")
	flags.StringArrayVar(&o.cookies, "cookie", nil, "a cookie of the visitor, `NAME=VALUE`")
	flags.StringArrayVar(&o.headers, "header", nil,
		"a field of the request, `NAME: VALUE`; rules ask for Accept-Language and Cookie")

	flags.StringVar(&o.at, "at", "", "at which `TIME`, such as 2026-12-24T12:00Z (default: now)")
	flags.BoolVar(&o.live, "live", false, "ask an edge node too, and show both")
	flags.BoolVar(&o.expect, "expect", false, "print the answers as expectations for the rules file")
	siteFlag(flags, &o.site)

	//nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("on", completion{a}.releases)

	//nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("environment", completion{a}.environments)
	return a.jsonFlag(cmd)
}

// explain is orilla explain: what a URL is answered with and why, without
// sending a request unless --live asks for one. what is a URL, a path, or - for
// one a line on standard input.
func (a *explainCmd) explain(ctx context.Context, what string, o *explainOptions) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	if err := o.readHeaders(); err != nil {
		return err
	}

	// Whatever it is, what follows is the same question to the same function.
	subject, s, err := a.subject(ctx, p, o.site, o.on)
	if err != nil {
		return err
	}
	if o.environment != "" {
		subject.As(p, o.environment)
		// An environment is explained as itself: rules may ask which one it is.
	} else if s != nil {
		if environment, err := s.namedUnlessGit(ctx, o.on); err == nil && o.on != "" {
			o.environment = journal.DisplayName(environment) // what it serves is looked at as what it is
			if head, err := s.head(ctx, environment); err == nil {
				o.served = map[string][]string{o.environment: s.live(ctx, head.Document)}
			}
		}
	}

	// A rule with a mistake is no reason to explain nothing; it is a reason to
	// say so.
	if len(subject.Mistakes) > 0 {
		a.Note("%s %s", console.Warn("note:"), console.Count(int64(len(subject.Mistakes)),
			"rule has a mistake and is", "rules have mistakes and are")+" left out: orilla check shows them")
	}
	if o.live && s == nil {
		if s, err = a.session(ctx, o.site); err != nil {
			return err
		}
	}

	// One address is shown with all steps, a list with one line each.
	if what != "-" {
		report, err := a.explained(ctx, p, subject, s, what, o)
		if err != nil {
			return err
		}
		switch {
		case a.JSON:
			return a.Document(report)
		case o.expect:
			a.Print("%s", expectation(report, o))
		default:
			view.ShowExplained(a.Console, report, o.at)
		}
		return nil
	}

	return a.explainList(ctx, p, subject, s, o)
}

// explainList explains each address of a list on standard input, a line each.
func (a *explainCmd) explainList(ctx context.Context, p *site.Project, subject *inspect.Subject, s *session,
	o *explainOptions,
) error {
	missing := 0
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		report, err := a.explained(ctx, p, subject, s, line, o)
		if err != nil {
			return err
		}

		if report.Status == http.StatusNotFound {
			missing++
		}
		switch {
		case a.JSON:
			err = a.Line(report)
		case o.expect:
			a.Print("%s", expectation(report, o))
		default:
			a.Print("%s", view.OneLine(report))
		}

		if err != nil {
			return err
		}
	}

	if err := lines.Err(); err != nil {
		return fault.New(fault.Failed, "unreadable", "the list cannot be read").Because(err)
	}
	if missing > 0 {
		a.Note("%s", console.Warn(console.Count(int64(missing), "address is missing",
			"addresses are missing")))
		return &exitError{int(fault.Findings)}
	}

	return nil
}

// readHeaders takes what decides answers out of the header
// fields that were typed.
func (o *explainOptions) readHeaders() error {
	for _, header := range o.headers {
		name, value, ok := strings.Cut(header, ":")
		value = strings.TrimSpace(value)
		switch {
		case !ok:
			return fault.New(fault.Usage, "usage", "--header %q has no colon", header).
				Then(`--header "Accept-Language: gl"`)
		case strings.EqualFold(name, "Accept-Language"):
			o.language = value
		case strings.EqualFold(name, "Cookie"):
			o.cookies = append(o.cookies, value)
		case strings.EqualFold(name, "Host"):
			o.host = value
		}
	}
	return nil
}

// subject finds what is to be explained or checked. The
// session is set if the store was needed.
func (a *explainCmd) subject(ctx context.Context, p *site.Project, site, on string,
) (*inspect.Subject, *session, error) {
	if on == "" {
		subject, err := inspect.WorkingTree(ctx, p)
		return subject, nil, err
	}
	s, err := a.session(ctx, site)
	if err != nil {
		return nil, nil, err
	}

	if strings.HasPrefix(on, "r-") {
		id, err := s.findRelease(ctx, on)
		if err != nil {
			return nil, nil, err
		}
		subject, err := inspect.Release(ctx, p, s.store, s.site, id, buildOf(ctx, s, id))
		return subject, s, err
	}
	entry, is, err := findEntry(ctx, s, on)
	if !is && err == nil && strings.HasPrefix(on, "build:") {
		entry, is, err = findBuilt(ctx, s, on)
	}
	if is || err != nil {
		if err != nil {
			return nil, nil, err
		}
		subject, err := inspect.Release(ctx, p, s.store, s.site, entry.Release, entry.Build)
		return subject, s, err
	}

	environment, envErr := s.namedUnlessGit(ctx, on)
	if envErr == nil {
		subject, head, err := inspect.Live(ctx, p, s.store, s.journal(environment))
		if err == nil && subject != nil &&
			(head.Access.Protects() || journal.IsPreview(environment) && s.previewsProtected(ctx)) {
			subject.Site.Realm = s.site + " " + journal.DisplayName(environment)
			a.Note("%s", console.Faint(journal.DisplayName(environment)+
				" asks for a password; this is what whoever has it gets"))
		}
		if err == nil && subject == nil {
			err = fault.New(fault.Failed, "nothing-live", "%s serves nothing yet", on).
				Then("orilla deploy --to %s", on)
		}
		return subject, s, err
	}
	if p.Repository == nil || fault.Code(envErr) == "ambiguous-environment" {
		return nil, nil, envErr
	}
	subject, err := inspect.Commit(ctx, p, s.store, s.site, on)
	return subject, s, err
}

// buildOf returns the build that a release came from, as
// far as production's journal knows.
func buildOf(ctx context.Context, s *session, id fmt.Stringer) string {
	j := s.journal(project.Production)
	head, err := j.Head(ctx, 0)
	if err != nil {
		return ""
	}

	n := 0
	for entry, err := range j.Back(ctx, head.Number) {
		if n++; err != nil || n > 200 {
			return ""
		}
		if entry.Release.String() == id.String() && entry.Build != "" {
			return entry.Build
		}
	}

	return ""
}

// addressesOf returns the addresses of an environment: those that are live,
// where what is live is looked at; else those of orilla.yaml.
func (o *explainOptions) addressesOf(p *site.Project, environment string) []string {
	if addresses, ok := o.served[environment]; ok {
		return addresses
	}
	return p.ProductionConfig.Document(journal.StoredName(environment)).Addresses
}

// request reads what was typed: a path, or a URL whose
// host says the environment.
func (o *explainOptions) request(p *site.Project, what string,
) (req answer.Request, environment string, err error) {
	req = answer.Request{Admitted: true, Method: strings.ToUpper(o.method), Scheme: "https", Host: o.host,
		Now: time.Now(), AcceptLanguage: o.language, Cookie: strings.Join(o.cookies, "; ")}
	environment = o.environment
	rest := what

	if scheme, after, ok := strings.Cut(what, "://"); ok {
		u, parseErr := url.Parse(what)
		if parseErr != nil || u.Host == "" {
			return req, "", fault.New(fault.Usage, "usage", "%q is not an address", what).
				Then("orilla explain /path, or https://host/path")
		}

		at := strings.IndexAny(after, "/?#")
		if rest = "/"; at >= 0 {
			rest = after[at:]
		}
		req.Scheme = scheme
		if req.Host == "" {
			req.Host = strings.ToLower(u.Host)
		}

		if environment == "" {
			environment = o.environmentAt(p, u)
		}
	} else if !strings.HasPrefix(rest, "/") {
		return req, "", fault.New(fault.Usage, "usage", "%q is neither a path nor an address", what).
			Then("orilla explain /%s", what)
	}

	if environment == "" {
		environment = project.Production
	}
	if strings.Contains(what, "://") {
		if addresses := o.addressesOf(p, environment); len(addresses) > 0 {
			req.Base = strings.TrimSuffix(view.BasePath(addresses[0]), "/")
		}
	}

	req.Environment = environment
	if req.Host == "" {
		if addresses := o.addressesOf(p, environment); len(addresses) > 0 {
			if u, err := url.Parse(addresses[0]); err == nil {
				req.Scheme, req.Host = u.Scheme, u.Host
			}
		}
	}

	rest, _, _ = strings.Cut(rest, "#")
	req.Path, req.Query, _ = strings.Cut(rest, "?")
	if o.at != "" {
		if req.Now, err = readTime(o.at, p.LocalConfig.Zone()); err != nil {
			return req, "", err
		}
	}
	return req, environment, nil
}

// readTime reads a day or a time, in the site's time zone
// unless it has an offset.
func readTime(text string, zone *time.Location) (time.Time, error) {
	if zone == nil {
		zone = time.UTC
	}
	if t, ok := project.ParseTime(text, zone); ok {
		return t, nil
	}
	return time.Time{}, fault.New(fault.Usage, "usage",
		"%q is not a time; write 2026-12-24T12:00, with Z or an offset for another zone than %s", text, zone)
}

// environmentAt returns the environment that answers at an
// address, as it is shown; "" if none does.
func (o *explainOptions) environmentAt(p *site.Project, u *url.URL) string {
	for _, name := range p.EnvironmentNames() {
		for _, address := range o.addressesOf(p, name) {
			if at, err := url.Parse(address); err == nil && at.Host == u.Host &&
				strings.HasPrefix(u.EscapedPath()+"/", at.EscapedPath()) {
				return name
			}
		}
	}

	host, ok := strings.CutSuffix(u.Hostname(), ".localhost")
	if !ok {
		return ""
	}
	labels := strings.Split(host, ".")
	switch {
	case len(labels) == 2:
		return labels[0]
	case len(labels) == 3 && labels[1] == "preview":
		return "preview/" + labels[0]
	case len(labels) == 3 && labels[1] == "release":
		return edge.ReleaseEnvironment
	}

	return ""
}

// explained decides one address of a subject, with the rules that were tried on
// the way.
func (a *explainCmd) explained(ctx context.Context, p *site.Project, subject *inspect.Subject, s *session,
	what string, o *explainOptions,
) (view.ExplainReport, error) {
	req, environment, err := o.request(p, what)
	if err != nil {
		return view.ExplainReport{}, err
	}
	got, steps, err := answer.Explain(ctx, req, subject.Site)
	if err != nil {
		return view.ExplainReport{}, err
	}

	report := view.ExplainReport{Address: what, Method: req.Method, Environment: environment,
		On: subject.Name, Status: got.Status, By: string(got.By), Location: got.Location, Answer: got,
		Steps: []view.StepReport{}, Header: []view.FieldReport{}}
	if got.File != nil {
		report.File = got.File.Path
	}

	if got.Rule != nil {
		report.Rule = view.RuleText(got.Rule)
	}
	report.Steps = append(report.Steps, o.where(p, req, environment)...)

	for _, step := range steps {
		one := view.StepReport{Applied: step.Applied, Text: step.Text}
		if step.Rule != nil {
			one.Rule, one.At = step.Rule.String(), view.Position(step.Rule)
		}
		report.Steps = append(report.Steps, one)
	}

	if got.Upstream != nil {
		report.Upstream = got.Upstream.Where()
		header := http.Header{}
		got.Upstream.Finish(http.StatusOK, header)
		for name, values := range header {
			got.Header = append(got.Header, answer.Field{Name: name, Value: strings.Join(values, ", ")})
		}
	}

	if got.ETag != "" {
		got.Header = append(got.Header, answer.Field{Name: "Etag", Value: got.ETag})
	}
	for _, field := range got.Header {
		one := view.FieldReport{Name: strings.ToLower(field.Name), Value: field.Value}
		if field.Rule != nil {
			one.Rule = view.Position(field.Rule)
		}
		report.Header = append(report.Header, one)
	}

	slices.SortStableFunc(report.Header,
		func(a, b view.FieldReport) int { return strings.Compare(a.Name, b.Name) })
	if got.Status == http.StatusNotFound {
		if report.Next, err = missingFallback(ctx, subject, req); err != nil {
			return report, err
		}
	}
	if o.live {
		report.Live, err = a.askLive(ctx, s, req, report)
	}
	return report, err
}

// missingFallback returns what to do about an address that is not found, if an
// application in the browser may be meant to answer it; "" else.
func missingFallback(ctx context.Context, subject *inspect.Subject, req answer.Request) (string, error) {
	rest, below := strings.CutPrefix(req.Path, req.Base)
	path, _, err := address.Split(rest)
	if !below || err != nil {
		return "", nil //nolint:nilerr // such an address is refused, and no rule changes that
	}
	out := subject.Output
	out.Base = req.Base
	rule, err := check.Fallback(ctx, out, path)
	if err != nil || rule == "" {
		return "", err
	}
	return "if an application in the browser answers it, in a rules file (rules: in orilla.yaml): " +
		rule, nil
}

// where says how the host led to the environment, and what
// of the path is the base path.
func (o *explainOptions) where(p *site.Project, req answer.Request, environment string) []view.StepReport {
	var steps []view.StepReport
	if req.Host != "" {
		text := "the host " + req.Host + " is asked for as " + environment
		for _, address := range o.addressesOf(p, environment) {
			if u, err := url.Parse(address); err == nil && u.Host == req.Host {
				text = "the host " + req.Host + " is that of " + environment
			}
		}
		steps = append(steps, view.StepReport{Applied: true, Text: text})
	}

	if req.Base != "" {
		steps = append(steps, view.StepReport{Applied: true, Text: "the base path " + req.Base +
			"/ is taken off"})
	}
	return steps
}

// expectation writes an answer as a line for the rules file.
func expectation(r view.ExplainReport, o *explainOptions) string {
	line := "expect  "
	if r.Method != http.MethodGet {
		line += r.Method + " "
	}
	line += r.Address + "  "
	switch {
	case r.Upstream != "":
		line += "proxy " + r.Upstream
	case r.Location != "":
		line += fmt.Sprintf("%d %s", r.Status, r.Location)
	case r.File != "":
		line += fmt.Sprintf("%d /%s", r.Status, r.File)
	default:
		line += fmt.Sprint(r.Status)
	}

	var given []string
	if o.language != "" {
		given = append(given, fmt.Sprintf("language %q", o.language))
	}
	for _, cookie := range o.cookies {
		given = append(given, "cookie "+cookie)
	}

	if o.host != "" {
		given = append(given, "host "+o.host)
	}
	if r.Environment != project.Production {
		given = append(given, "environment "+r.Environment)
	}

	switch {
	case o.at != "":
		given = append(given, "time "+o.at)
	case r.Answer.Timed:
		given = append(given, "time "+time.Now().UTC().Format("2006-01-02T15:04Z"))
	}

	if len(given) > 0 {
		line += "  given " + strings.Join(given, " and ")
	}
	return line
}
