package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/net/http/httpguts"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// explainOptions are the flags of explain.
type explainOptions struct {
	visit
	site, on, environment, at string
	encoding                  string // Accept-Encoding
	live, expect              bool
	now                       time.Time // that --at says
	// the addresses that are live, of the environment that is looked at
	served map[string][]string
}

// visit is what a visitor's request would say.
type visit struct {
	host, method, language string
	cookies, headers       []string
}

// explainCmd asks what addresses are answered with; check borrows how it finds
// its subject.
type explainCmd struct{ *app }

func newExplainCommand(a *app) *cobra.Command {
	c := &explainCmd{app: a}
	o := &explainOptions{}
	cmd := &cobra.Command{
		Use:   "explain URL|PATH|-",
		Short: "Show how a URL is answered, and why",
		Args:  cobra.ExactArgs(1),
		Long: "Explain uses the same code as edge nodes and serve, and shows each step to the " +
			"answer. Without --on it explains the rules of the working tree and the output of the " +
			"last build; if nothing was built here yet, the newest release of this branch, or what " +
			"is live. With - it reads addresses from standard input, one per line, and answers " +
			"each on one line; the exit status is 4 if any of them is 404.",
		Example: "orilla explain /timetable/winter\n" +
			"orilla explain / --language gl --on production --live\n" +
			"orilla explain - --expect < addresses.txt",
		RunE: func(cmd *cobra.Command, args []string) error { return c.explain(cmd.Context(), args[0], o) },
	}

	flags := cmd.Flags()
	flags.StringVar(&o.on, "on", "",
		"explain this `RELEASE`, commit, environment, folder or archive instead")
	flags.StringVar(&o.environment, "environment", "",
		"answer as this `ENVIRONMENT` (default: by address, else production)")

	flags.StringVar(&o.host, "host", "", "the request's `HOST`")
	flags.StringVar(&o.method, "method", http.MethodGet, "the `METHOD`")
	flags.StringVar(&o.language, "language", "", "send these `LANGUAGES`, as in Accept-Language")
	flags.StringArrayVar(&o.cookies, "cookie", nil, "send this cookie, `NAME=VALUE`")
	flags.StringArrayVar(&o.headers, "header", nil,
		"send this header, `NAME:VALUE` (Accept-Language, Accept-Encoding and Cookie decide)")

	flags.StringVar(&o.at, "at", "", "answer as at this `TIME`, such as 2026-12-24T12:00Z "+
		"(default: now)")
	flags.BoolVar(&o.live, "live", false, "ask an edge node too, and compare")
	flags.BoolVar(&o.expect, "expect", false, "print the answers as expect lines for the rules file")
	siteFlag(flags, &o.site)

	//nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("on", completion{a}.releases)

	//nolint:errcheck // the flag exists
	cmd.RegisterFlagCompletionFunc("environment", completion{a}.environments)
	return a.jsonFlag(cmd)
}

// An explanation is the answer's own account of itself: the function that decides keeps what it looked at.

// explain is orilla explain: what a URL is answered with and why, without
// sending a request unless --live asks for one. what is a URL, a path, or - for
// one a line on standard input.
func (a *explainCmd) explain(ctx context.Context, what string, o *explainOptions) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	// What was typed is checked before anything is read or asked.
	if err := o.readHeaders(); err != nil {
		return err
	}
	if err := o.check(p); err != nil {
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
			"rule has an error and is", "rules have errors and are")+" left out; run orilla check")
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
		return fault.New(fault.Failed, "unreadable", "cannot read the list").Because(err)
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
	// As browsers ask over HTTPS, unless somebody says otherwise.
	o.encoding = "gzip, deflate, br, zstd"
	for _, header := range o.headers {
		name, value, ok := strings.Cut(header, ":")
		value = strings.TrimSpace(value)
		switch {
		case !ok:
			return fault.New(fault.Usage, "usage", "--header %q has no colon", header).
				Then(`--header "Accept-Language: gl"`)
		case strings.EqualFold(name, "Accept-Language"):
			o.language = value
		case strings.EqualFold(name, "Accept-Encoding"):
			o.encoding = value
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
		if errors.Is(err, inspect.ErrNoOutput) {
			return withoutOutput(ctx, a.app, p, site, err)
		}
		return subject, nil, err
	}
	if folderOr(ctx, a.app, p, on) {
		folder, err := given(ctx, a.app, p, on)
		if err != nil {
			return nil, nil, err
		}
		subject, err := inspect.Folder(ctx, p, folder, on)
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
				" is protected by a password; this is the answer with it"))
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
		Now: time.Now(), AcceptLanguage: o.language, AcceptEncoding: o.encoding,
		Cookie: strings.Join(o.cookies, "; ")}
	environment = o.environment
	rest := what

	if scheme, after, ok := strings.Cut(what, "://"); ok {
		u, parseErr := url.Parse(what)
		if parseErr != nil || u.Host == "" {
			return req, "", fault.New(fault.Usage, "usage", "%q is not an address", what).
				Then("write /path or https://host/path")
		}

		at := strings.IndexAny(after, "/?#")
		if rest = "/"; at >= 0 {
			rest = after[at:]
		}
		req.Scheme = scheme
		if req.Host == "" {
			req.Host = strings.ToLower(u.Host)
		}

		// Edge nodes go by the host, whatever environment is wanted.
		from, known := o.environmentAt(p, u)
		if !known {
			return req, "", errMisdirected
		}
		environment = cmp.Or(environment, from)
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
	if !o.now.IsZero() {
		req.Now = o.now
	}
	return req, environment, nil
}

// cookiePair is a cookie as a request has it (RFC 6265, section 4.1.1).
var cookiePair = regexp.MustCompile(`^[^\s=;,"()<>@:\\/\[\]?{}]+=[^\s;]*$`)

// check refuses options that make no sense, whatever is explained.
func (o *explainOptions) check(p *site.Project) (err error) {
	if o.at != "" {
		if o.now, err = readTime(o.at, p.LocalConfig.Zone()); err != nil {
			return err
		}
	}
	for _, cookie := range o.cookies {
		if !cookiePair.MatchString(cookie) {
			return fault.New(fault.Usage, "usage", "not a cookie: %q", cookie).
				Then("write NAME=VALUE: --cookie lang=gl")
		}
	}
	if u, err := url.Parse("https://" + o.host + "/"); o.host != "" &&
		(err != nil || u.Host != o.host || u.Hostname() == "") {
		return fault.New(fault.Usage, "usage", "not a host: %q", o.host).
			Then("write a name, with a port if it has one: --host www.corvane.example")
	}
	if !httpguts.ValidHeaderFieldName(o.method) { // a method is a token, as a field's name is
		return fault.New(fault.Usage, "usage", "not a method: %q", o.method).Then("--method POST")
	}
	return knownEnvironment(p, o.environment)
}

// knownEnvironment refuses the name of an environment that the configuration does
// not have, where no store is asked. "" and previews are always known.
func knownEnvironment(p *site.Project, name string) error {
	names := p.EnvironmentNames()
	if label, preview := strings.CutPrefix(name, "preview/"); name == "" || name == edge.ReleaseEnvironment ||
		slices.Contains(names, name) || preview && project.IsLabel(label) {
		return nil
	}
	problem := fault.New(fault.Usage, "unknown-environment", "unknown environment %q%s", name,
		spelling.DidYouMean(name, names))
	return problem.Then("use one of %s, or preview/NAME", strings.Join(names, ", "))
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

// errMisdirected: no environment of the site has the host of an address, so an edge
// node answers 421 (RFC 9110, section 15.5.20).
var errMisdirected = errors.New("misdirected")

// environmentAt returns the environment that answers at an address, as it is
// shown. known is false if none does.
func (o *explainOptions) environmentAt(p *site.Project, u *url.URL) (name string, known bool) {
	for _, name := range p.EnvironmentNames() {
		for _, address := range o.addressesOf(p, name) {
			if at, err := url.Parse(address); err == nil && at.Host == u.Host &&
				strings.HasPrefix(u.EscapedPath()+"/", at.EscapedPath()) {
				return name, true
			}
		}
	}

	for _, template := range p.ProductionConfig.Previews.Addresses {
		at, err := url.Parse(strings.ReplaceAll(template, "{preview}", "preview-label"))
		if err != nil {
			continue
		}
		before, after, _ := strings.Cut(at.Host, "preview-label")
		label := strings.TrimSuffix(strings.TrimPrefix(u.Host, before), after)
		if before+label+after == u.Host && project.IsLabel(label) {
			return "preview/" + label, true
		}
	}
	return localEnvironment(p, u.Hostname())
}

// localEnvironment returns the environment that a name below .localhost means.
func localEnvironment(p *site.Project, hostname string) (name string, known bool) {
	host, local := strings.CutSuffix(hostname, ".localhost")
	labels := strings.Split(host, ".")
	if !local || p.Site() != "" && labels[len(labels)-1] != p.Site() {
		return "", false
	}
	switch {
	case len(labels) == 1:
		return project.Production, true
	case len(labels) == 2:
		return labels[0], true
	case len(labels) == 3 && labels[1] == "preview":
		return "preview/" + labels[0], true
	case len(labels) == 3 && labels[1] == "release":
		return edge.ReleaseEnvironment, true
	}
	return "", false
}

// misdirected is the answer to an address whose host is none of the site's.
func misdirected(what string, o *explainOptions, subject *inspect.Subject) view.ExplainReport {
	u, _ := url.Parse(what)
	return view.ExplainReport{Address: what, Method: strings.ToUpper(o.method), On: subject.Name,
		Status: http.StatusMisdirectedRequest, By: "host", Header: []view.FieldReport{},
		Steps: []view.StepReport{{Applied: true, Text: "no environment has the host " + u.Host +
			", so edge nodes answer for no site"}},
		Next: "add the address to an environment in orilla.yaml: addresses: [" + u.Scheme + "://" +
			u.Host + "/]"}
}

// explained decides one address of a subject, with the rules that were tried on
// the way.
func (a *explainCmd) explained(ctx context.Context, p *site.Project, subject *inspect.Subject, s *session,
	what string, o *explainOptions,
) (view.ExplainReport, error) {
	req, environment, err := o.request(p, what)
	if errors.Is(err, errMisdirected) {
		return misdirected(what, o, subject), nil
	}
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
	return "if a client-side application answers it, add to a rules file (rules: in orilla.yaml): " +
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
