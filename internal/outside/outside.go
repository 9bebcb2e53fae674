// Package outside compares what visitors get with what is live: every address of a release is
// fetched through whatever stands in front of the edge nodes, and compared with what the same
// function decides that nodes decide with.
//
//	proof, err := outside.Compare(ctx, outside.Options{Address: "https://www.corvane.example/", …})
//
// What it finds is the work of what stands in between: caches that keep too long, services that
// rewrite pages or drop header fields, a second server behind the same name, a file that never got
// there. What nodes would answer needs no network, and is what orilla explain shows.
package outside

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/httpanswer"
)

// Options say what to compare.
type Options struct {
	Side        difference.Side // what is live: its files, rules and settings
	Environment string          // as people write it
	Address     string          // where it is, an absolute URL
	Entry       string          // production:12
	Pass        string          // opens it where a password is asked for; "" for nothing
	Parallel    int             // how many requests at once; 0: 8
	Rate        float64         // requests a second; 0 for any number
	Tell        func(done, of int)
}

// The order of suspicion. An answer that is another one, and says that it is from an earlier entry or
// has an age, was kept by a cache: all that differs in it follows from that, and is not told apart.
// Else the status comes first, since an error page has other content and other fields too; then the
// content; and only of an answer that has both as it should, the fields.

// Kind is what is the matter with an address.
type Kind string

// The kinds.
const (
	Kept    Kind = "kept"    // a cache in between answers from an earlier entry
	Status  Kind = "status"  // another status, or a redirect that leads elsewhere
	Body    Kind = "content" // other bytes
	Field   Kind = "field"   // a header field that is missing or another one
	Trouble Kind = "trouble" // no answer
)

// Finding is what differs at one address.
type Finding struct {
	Path string
	Kind Kind
	Text string
	// Of what a cache keeps: the entry it is from, as far as it says so, how old it says that it
	// is, and how long it may be kept. Zero for what is not known.
	From      string
	Age, Keep time.Duration
	Via       string // who says that it kept it: Cache-Status, Via
}

// Proof is what came of comparing.
type Proof struct {
	Asked   int // addresses
	Same    int
	Passed  int // on to an upstream: what that answers is not known, and they are not asked
	Bytes   int64
	Found   []Finding
	Took    time.Duration
	Entries map[string]int // how many answers came from each entry; "" for those that do not say
}

// What a visitor cannot see is not compared: how long a connection lasts, what the server calls
// itself. What is added on the way (Via, Age, Server-Timing) is nobody's fault. A field that is
// there on one side only, or says something else, is told, but for these:
//
//	ETag    may be weak, or left out, where the content was compressed on the way
//	Vary    may name more
//	Date    and other fields that no release decides are not looked at

// most bounds what is read of an answer beyond what was expected.
const most = 1 << 20

// usualParallel is how many requests are made at once: as many as a browser would.
const usualParallel = 8

// requestTime bounds one request.
const requestTime = 30 * time.Second

// Compare fetches all addresses and compares them. The error is that of the context, or of
// addresses that cannot be listed: what does not answer is a finding.
func Compare(ctx context.Context, o Options) (*Proof, error) {
	at, err := url.Parse(o.Address)
	if err != nil {
		return nil, err
	}
	paths, err := addresses(ctx, o)
	if err != nil {
		return nil, err
	}
	c := &comparison{Options: o, at: at, client: client(), proof: &Proof{Entries: map[string]int{}}}
	defer c.client.CloseIdleConnections()
	began := time.Now()
	work := make(chan string)
	var group sync.WaitGroup
	limit := rate.NewLimiter(rate.Inf, 1)
	if o.Rate > 0 {
		limit.SetLimit(rate.Limit(o.Rate))
	}
	var done atomic.Int64
	parallel := o.Parallel
	if parallel == 0 {
		parallel = usualParallel
	}
	for range parallel {
		group.Go(func() {
			for path := range work {
				if limit.Wait(ctx) == nil {
					c.one(ctx, path)
				}
				if o.Tell != nil {
					o.Tell(int(done.Add(1)), len(paths))
				}
			}
		})
	}
	for _, path := range paths {
		select {
		case work <- path:
		case <-ctx.Done():
		}
	}
	close(work)
	group.Wait()
	c.proof.Took = time.Since(began)
	slices.SortFunc(c.proof.Found, func(a, b Finding) int { return strings.Compare(a.Path, b.Path) })
	return c.proof, ctx.Err()
}

// An address that is not there is asked too: many services answer it with a page of their own, or
// with 200, and then a search engine finds pages that nobody made.

// addresses lists what there is to ask, below the base path: the address of each file, what rules
// name without a placeholder, and one that is not there.
func addresses(ctx context.Context, o Options) ([]string, error) {
	asked := map[string]bool{"/" + missing: true}
	for _, file := range o.Side.Files {
		asked[answer.Address(file.Path)] = true
	}
	for i := range o.Side.Rules {
		if rule := &o.Side.Rules[i]; rule.Pattern.IsLiteral() {
			asked[address.Encode(rule.Pattern.Literal(), false)] = true
		}
	}
	list := make([]string, 0, len(asked))
	for path := range asked {
		list = append(list, path)
	}
	slices.Sort(list)
	return list, ctx.Err()
}

// missing is an address that no site has: what is not found is answered by a page of the release.
const missing = "orilla-compare-live-is-not-there"

// Compression is left out on purpose: what a service on the way compresses, it may compress as it
// likes, and then neither bytes nor entity tags tell anything. What the nodes themselves send
// compressed is proved where it is made.

// client asks as a browser does that has nothing: over HTTP/2 where that is offered, without
// following redirects, and without compression, which services on the way choose as they like.
func client() *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second}
	return &http.Client{
		Timeout: requestTime,
		Transport: &http.Transport{
			Proxy: http.ProxyFromEnvironment, DisableCompression: true, ForceAttemptHTTP2: true,
			MaxIdleConnsPerHost: 16, TLSHandshakeTimeout: 10 * time.Second,
			// Names below .localhost are this machine (RFC 6761, 6.3); not every resolver knows.
			DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
				host, port, err := net.SplitHostPort(to)
				if err == nil && strings.HasSuffix(host, ".localhost") {
					to = net.JoinHostPort("127.0.0.1", port)
				}
				return dialer.DialContext(ctx, network, to)
			},
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// comparison is one comparison.
type comparison struct {
	Options
	at     *url.URL
	client *http.Client
	mutex  sync.Mutex // for proof
	proof  *Proof
}

// Rules may ask for the time, so the moment at which an address is asked is that of the question, and
// not of the command. Between deciding and asking a minute may turn; what differs then is decided
// once more before it counts.

// one compares one address.
func (c *comparison) one(ctx context.Context, path string) {
	want, err := c.wanted(ctx, path)
	if err == nil && want.Upstream != nil {
		c.mutex.Lock()
		c.proof.Passed++
		c.mutex.Unlock()
		return
	}
	var got *reply
	if err == nil {
		got, err = c.ask(ctx, path, want)
	}
	if ctx.Err() != nil {
		return
	}
	var found []Finding
	if err != nil {
		found = []Finding{{Kind: Trouble, Text: cause(err)}}
	} else {
		found = c.differ(want, got)
		// What turns with the time may have turned between the two.
		if len(found) > 0 && want.Timed {
			if again, err := c.wanted(ctx, path); err == nil && len(c.differ(again, got)) == 0 {
				found = nil
			}
		}
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.proof.Asked++
	if got != nil {
		c.proof.Bytes += got.size
		c.proof.Entries[got.entry]++
	}
	if len(found) == 0 {
		c.proof.Same++
	}
	for _, f := range found {
		f.Path = strings.TrimSuffix(c.at.EscapedPath(), "/") + path
		c.proof.Found = append(c.proof.Found, f)
	}
}

// cause is an error without the address, which stands before it.
func cause(err error) string {
	if wrapped, is := errors.AsType[*url.Error](err); is {
		err = wrapped.Err
	}
	return err.Error()
}

// wanted is what a node answers.
func (c *comparison) wanted(ctx context.Context, path string) (answer.Answer, error) {
	base := strings.TrimSuffix(c.at.EscapedPath(), "/")
	return answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: base + path, Base: base,
		Environment: c.Environment, Scheme: c.at.Scheme, Host: c.at.Host, Now: time.Now(), Admitted: true},
		c.Side.Site)
}

// The content is hashed as it comes, and kept nowhere: a release of gigabytes is compared in the memory
// of one buffer for each request.

// reply is what came back.
type reply struct {
	status int
	header http.Header
	digest digest.Digest
	size   int64
	entry  string // that it says it is from; "" if it does not
}

// ask fetches an address.
func (c *comparison) ask(ctx context.Context, path string, want answer.Answer) (*reply, error) {
	address := c.at.Scheme + "://" + c.at.Host + strings.TrimSuffix(c.at.EscapedPath(), "/") + path
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("User-Agent", "orilla")
	request.Header.Set("Accept-Encoding", "identity")
	if c.Pass != "" {
		request.AddCookie(&http.Cookie{Name: access.Cookie, Value: c.Pass})
	}
	response, err := c.client.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close() //nolint:errcheck // read
	bound := int64(most)
	if want.File != nil {
		bound += want.File.Size
	}
	sum := sha256.New()
	size, err := io.Copy(sum, io.LimitReader(response.Body, bound))
	if err != nil {
		return nil, fmt.Errorf("cut short after %d bytes: %w", size, err)
	}
	r := &reply{status: response.StatusCode, header: response.Header, size: size,
		digest: digest.Digest(sum.Sum(nil)), entry: entryOf(response.Header.Get(httpanswer.ReleaseField))}
	return r, nil
}

// Nodes name the entry that they answer from in each answer, and caches keep that with it. So what is
// kept says itself where it is from, as long as nothing on the way takes the field away.

// entryOf reads which entry an answer is from.
func entryOf(field string) string {
	_, rest, ok := strings.Cut(field, "entry=")
	if !ok {
		return ""
	}
	entry, _, _ := strings.Cut(rest, ";")
	return strings.Trim(strings.TrimSpace(entry), `"`)
}

// A page that is answered with another status is told with that alone: a sign of what went wrong, and
// not ten signs of the same thing.

// differ says how what came differs from what was wanted.
func (c *comparison) differ(want answer.Answer, got *reply) (found []Finding) {
	add := func(kind Kind, format string, args ...any) {
		found = append(found, Finding{Kind: kind, Text: fmt.Sprintf(format, args...)})
	}
	encoded := got.header.Get("Content-Encoding")
	switch {
	case got.status != want.Status:
		add(Status, "%d instead of %d", got.status, want.Status)
	case want.Location != "" && !sameLocation(c.at, want.Location, got.header.Get("Location")):
		add(Status, "leads to %s instead of %s", got.header.Get("Location"), want.Location)
	case want.File != nil && want.Status != http.StatusNotModified && encoded == "" &&
		(got.size != want.File.Size || got.digest != want.File.Digest):
		add(Body, "%s", bodyText(got, want.File.Size))
	case want.Config != nil && got.digest != digest.Of(want.Config.Data):
		add(Body, "%s", bodyText(got, int64(len(want.Config.Data))))
	}
	if len(found) > 0 {
		// From an earlier entry: then it is no other site and no rewriting, but a cache.
		if kept, is := c.kept(got); is {
			kept.Text = found[0].Text
			return []Finding{kept}
		}
		return found
	}
	for _, field := range want.Header {
		if why := fieldDiffers(field, got.header, c.at.Scheme == "https"); why != "" {
			add(Field, "%s", why)
		}
	}
	return found
}

// bodyText says how the content differs, in sizes.
func bodyText(got *reply, want int64) string {
	if got.size == want {
		return fmt.Sprintf("other content of the same size, %d bytes", want)
	}
	return fmt.Sprintf("%d bytes instead of %d", got.size, want)
}

// kept says what a cache says of an answer that it kept.
func (c *comparison) kept(got *reply) (f Finding, is bool) {
	age, _ := strconv.ParseInt(got.header.Get("Age"), 10, 64)
	if (got.entry == "" || got.entry == c.Entry) && age == 0 {
		return f, false
	}
	f = Finding{Kind: Kept, From: got.entry, Age: time.Duration(age) * time.Second,
		Keep: keepOf(got.header.Get("Cache-Control")), Via: got.header.Get("Cache-Status")}
	if f.Via == "" {
		f.Via = got.header.Get("Via")
	}
	return f, true
}

// What a cache was told is in the answer that it kept, as far as it passes that on. Where it was told
// to ask each time, and does not, the length is its own choice, and is not known.

// keepOf reads for how long a shared cache may keep an answer (RFC 9111, 5.2.2).
func keepOf(control string) (keep time.Duration) {
	for _, directive := range []string{"max-age", "s-maxage"} { // the second counts more
		for part := range strings.SplitSeq(control, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
			seconds, err := strconv.ParseInt(value, 10, 64)
			if err == nil && strings.EqualFold(name, directive) {
				keep = time.Duration(seconds) * time.Second
			}
		}
	}
	return keep
}

// sameLocation reports whether two redirects lead to the same place.
func sameLocation(at *url.URL, want, got string) bool {
	a, errA := at.Parse(want)
	b, errB := at.Parse(got)
	return errA == nil && errB == nil && a.String() == b.String()
}

// fieldDiffers says how a header field differs; "" if it does not.
func fieldDiffers(want answer.Field, header http.Header, secure bool) string {
	if httpanswer.OnlySecure(want.Name) && !secure {
		return ""
	}
	values := header.Values(want.Name)
	got := strings.Join(values, ", ")
	switch http.CanonicalHeaderKey(want.Name) {
	case "Etag":
		if got == "" || strings.TrimPrefix(got, "W/") == strings.TrimPrefix(want.Value, "W/") {
			return ""
		}
	case "Vary":
		for part := range strings.SplitSeq(want.Value, ",") {
			name := strings.TrimSpace(part)
			if !strings.Contains(strings.ToLower(got), strings.ToLower(name)) && got != "*" {
				return fmt.Sprintf("Vary: %q lacks %s", got, name)
			}
		}
		return ""
	case "Location", "Content-Length":
		return ""
	}
	if got == want.Value || slices.Contains(values, want.Value) {
		return ""
	}
	if got == "" {
		return fmt.Sprintf("%s is missing: %q", want.Name, want.Value)
	}
	return fmt.Sprintf("%s: %q instead of %q", want.Name, got, want.Value)
}
