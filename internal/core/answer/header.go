package answer

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/rules"
)

// aboutContent are the fields that a rule sets only where the answer is made
// from a file at the requested path, or from a rewrite's target; a rule that
// asks for a status reaches the others on purpose.
var aboutContent = []string{"cache-control", "content-type", "content-disposition", "expires", "link"}

// adding are the fields whose values are added to those that are there.
var adding = []string{"link", "set-cookie", "vary"}

// compressedDrawing is the type of .svgz, of releases that give it one.
const compressedDrawing = "image/svg+xml"

// finish adds the header fields: those that every answer has, then those of
// rules, then what caches must know.
func (d *decision) finish(a *Answer) {
	if a.File != nil {
		a.add("Content-Type", a.File.Type)
	} else if a.Config != nil {
		a.add("Content-Type", "application/json")
	} else if a.Text != "" {
		a.add("Content-Type", "text/plain; charset=utf-8")
	}

	// A drawing that was compressed when it was made is what it is only to who decompresses it.
	if a.File != nil && a.File.Type == compressedDrawing && media.Extension(a.File.Path) == ".svgz" {
		a.add("Content-Encoding", "gzip")
	}
	a.add("X-Content-Type-Options", "nosniff")
	// What an upstream sends is known only when it has.
	if a.Upstream != nil {
		a.Header = nil // they depend on what the upstream answers
		a.Timed = d.timed
		return
	}

	if d.known {
		ruleFields(d, a, a.Status)
	}
	// The tag covers what rules set too: with only the bytes in it, a browser
	// would keep fields that were changed since (RFC 9110, section 8.8.1).
	if a.Status == http.StatusOK && (a.File != nil || a.Config != nil) {
		a.ETag = entityTag(a)
	}

	if a.Location != "" {
		a.add("Location", a.Location)
	}
	encodings(d, a)
	caching(d, a)
	a.Timed = d.timed
	if d.req.Environment != Production {
		a.set(Field{Name: "X-Robots-Tag", Value: "noindex"})
	}
}

// encodings says in which codings an answer may be sent. It depends on the content alone
// whether there are any, and never on what a server has at the moment: caches must know.
func encodings(d *decision, a *Answer) {
	// A rule can say that the content is encoded already, or that it is to stay as it is
	// (RFC 9111, section 5.2.2.6).
	if a.File == nil || !coding.Gains(a.get("Content-Type"), a.File.Size) ||
		a.get("Content-Encoding") != "" ||
		slices.Contains(directives(strings.ToLower(a.get("Cache-Control"))), "no-transform") {
		return
	}
	d.vary = append(d.vary, "Accept-Encoding")
	a.Codings = coding.Accepted(d.req.AcceptEncoding)
	d.step(nil, true, "may be sent compressed: "+codingNames(a.Codings))
	dictionaries(d, a)
}

// codingNames lists codings in words.
func codingNames(list []coding.Coding) string {
	if len(list) == 0 {
		return "none"
	}
	names := make([]string, len(list))
	for i, c := range list {
		names[i] = c.String()
	}
	return strings.Join(names, ", ")
}

// EncodedTag is the entity tag of an answer that is sent in a coding: that of the answer,
// the coding, and the bytes as they are sent (RFC 9110, section 8.8.3). Two nodes may have
// encoded the same content to different bytes, and half of one with half of the other would
// be nothing.
//
//	"3f9a…", br        "3f9a…-br-Zk3v0aXq1bYc"
func EncodedTag(tag string, c coding.Coding, encoded digest.Digest) string {
	const bytes = 12 // of the digest
	return encodedPrefix(tag, c) + base64.RawURLEncoding.EncodeToString(encoded[:bytes]) + `"`
}

// IsEncodedTag reports whether a tag is that of an answer in a coding.
func IsEncodedTag(tag, of string, c coding.Coding) bool {
	return of != "" && strings.HasPrefix(tag, encodedPrefix(of, c))
}

// encodedPrefix is how the tags of an answer in a coding begin.
func encodedPrefix(tag string, c coding.Coding) string {
	return strings.TrimSuffix(tag, `"`) + "-" + c.String() + "-"
}

// Knows returns the entity tag in the value of If-None-Match under which a client has what
// the answer would send it, "" if it has none: the content as it is, or in a coding that it
// takes, however well it was encoded. The comparison is weak (RFC 9110, section 13.1.2).
func (a *Answer) Knows(ifNoneMatch string) string {
	for tag := range strings.SplitSeq(ifNoneMatch, ",") {
		tag = strings.TrimPrefix(strings.TrimSpace(tag), "W/")
		if tag == a.ETag {
			return tag
		}
		for _, c := range a.Codings {
			if strings.HasPrefix(tag, encodedPrefix(a.ETag, c)) && len(tag) < maxTag {
				return tag
			}
		}
	}
	return ""
}

// maxTag is longer than every entity tag.
const maxTag = 100

// ruleFields applies the header rules that match.
func ruleFields(d *decision, a *Answer, status int) {
	content := status == http.StatusOK && (a.By == ByFile || a.By == ByRecent || a.By == By(rules.Rewrite) ||
		a.By == BySetting)
	fieldsOf(d, a, status, content)
}

// fieldsOf is ruleFields where it is known whether the
// answer is the content of a file.
func fieldsOf(d *decision, a *Answer, status int, content bool) {
	d.visitor.Status = status
	//nolint:errcheck // use returns none
	d.consider(rules.OnAnswer, func(r *rules.Rule, _ rules.Trial) (string, bool, error) {
		if !content && slices.Contains(aboutContent, r.Name) && !r.AsksStatus() {
			d.step(r, false, r.Name+" is only for files at their own address; when status "+
				strconv.Itoa(status)+" would match this answer")
			return "", false, nil
		}

		if r.Verb == rules.Withhold {
			a.withhold(r.Name)
			d.step(r, true, "removes "+r.Name)
			return "", false, nil
		}

		field := Field{Name: http.CanonicalHeaderKey(r.Name), Value: r.Value, Rule: r}
		if slices.Contains(adding, r.Name) {
			a.Header = append(a.Header, field)
		} else {
			a.set(field)
		}
		d.step(r, true, r.Name+": "+r.Value)
		return "", false, nil
	})
}

// set replaces what the header has of a field.
func (a *Answer) set(field Field) {
	a.drop(field.Name)
	a.Header = append(a.Header, field)
}

// drop takes every line of a field away. Names of fields are compared without
// regard to case (RFC 9110, section 5.1).
func (a *Answer) drop(name string) {
	a.Header = slices.DeleteFunc(a.Header, func(f Field) bool { return strings.EqualFold(f.Name, name) })
}

// withhold takes a field away that a rule withholds, and remembers it, so that
// the field of an upstream's answer goes too.
func (a *Answer) withhold(name string) {
	a.drop(name)
	a.withheld = append(a.withheld, name)
}

// get returns the first value of a field, or "".
func (a *Answer) get(name string) string {
	for _, f := range a.Header {
		if strings.EqualFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}

// Apply changes the header of what another server answered to a request, as the
// rules of a site say. content tells that the answer stands for a file of the
// site, as that of a development server does.
func Apply(ctx context.Context, req Request, site Site, status int, content bool, header http.Header) {
	d := newDecision(ctx, req, site)
	if _, refused := d.refuse(); !refused {
		finishOther(d, status, content, header)
	}
}

// finishUpstream changes the header of an upstream's response.
func (d *decision) finishUpstream(status int, header http.Header) {
	finishOther(d, status, false, header)
}

// finishOther applies the rules of a site to the header of an answer that did
// not come from it: of an upstream, or of a development server. content tells
// whether it is what was asked for, and not an error.
func finishOther(d *decision, status int, content bool, header http.Header) {
	var a Answer
	fieldsOf(d, &a, status, content)
	for _, name := range a.withheld {
		header.Del(name)
	}

	for _, f := range a.Header {
		if slices.Contains(adding, strings.ToLower(f.Name)) {
			header.Add(f.Name, f.Value)
		} else {
			header.Set(f.Name, f.Value)
		}
	}

	a.Header = nil
	for _, name := range []string{"Cache-Control", "Expires", "Vary"} {
		for _, value := range header.Values(name) {
			a.add(name, value)
		}
		header.Del(name)
	}

	caching(d, &a)
	for _, f := range a.Header {
		header.Add(f.Name, f.Value)
	}
	if d.req.Environment != Production {
		header.Set("X-Robots-Tag", "noindex")
	}
}

// caching says what caches must know: what the answer
// depends on, and until when it holds.
func caching(d *decision, a *Answer) {
	varies(d, a)
	control := directives(a.get("Cache-Control"))
	if !d.next.IsZero() {
		control = control.until(d.next.Sub(d.req.Now))
		if expires, err := http.ParseTime(a.get("Expires")); err == nil && expires.After(d.next) {
			a.replace("Expires", d.next.UTC().Format(http.TimeFormat))
		}
	}

	if slices.Contains(d.vary, "Cookie") {
		control = control.private()
	}
	if d.site.Realm != "" {
		control = control.guarded()
	}

	if value := strings.Join(control, ", "); value != a.get("Cache-Control") {
		if a.get("Cache-Control") == "" {
			a.add("Cache-Control", value)
		}
		a.replace("Cache-Control", value)
	}
}

// replace changes the value of a field and leaves who set it.
func (a *Answer) replace(name, value string) {
	for i := range a.Header {
		if strings.EqualFold(a.Header[i].Name, name) {
			a.Header[i].Value = value
		}
	}
}

// varies adds the request's fields that decided, or could
// have, to those that rules name.
func varies(d *decision, a *Answer) {
	var names []string
	var rule *rules.Rule
	for _, f := range a.Header {
		if strings.EqualFold(f.Name, "Vary") {
			rule = f.Rule
			for name := range strings.SplitSeq(f.Value, ",") {
				names = append(names, strings.TrimSpace(name))
			}
		}
	}

	names = append(names, d.vary...)
	var once []string
	for _, name := range names {
		if !slices.ContainsFunc(once, func(other string) bool { return strings.EqualFold(other, name) }) &&
			name != "" {
			once = append(once, name)
		}
	}

	if len(once) > 0 {
		a.drop("Vary")
		a.Header = append(a.Header, Field{"Vary", strings.Join(once, ", "), rule})
	}
}

// cacheControl is the value of a Cache-Control field (RFC 9111, section 5.2).
type cacheControl []string

// directives splits the value of Cache-Control into its directives (RFC 9111,
// section 5.2), without the blanks around them.
func directives(value string) cacheControl {
	var list cacheControl
	for directive := range strings.SplitSeq(value, ",") {
		if directive = strings.TrimSpace(directive); directive != "" {
			list = append(list, directive)
		}
	}
	return list
}

// until cuts lifetimes to what is left, and takes away
// what would let the answer be used for longer.
func (c cacheControl) until(left time.Duration) cacheControl {
	seconds := int64(left / time.Second)
	if left%time.Second > 0 {
		seconds++
	}
	var list cacheControl
	for _, directive := range c {
		name, value, _ := strings.Cut(strings.ToLower(directive), "=")
		switch name {
		case "max-age", "s-maxage":
			if age, err := strconv.ParseInt(strings.Trim(value, `"`), 10, 64); err != nil || age > seconds {
				directive = name + "=" + strconv.FormatInt(seconds, 10)
			}
		// Each would let a cache answer with it after the time is over.
		case "immutable", "stale-while-revalidate", "stale-if-error":
			continue
		}
		list = append(list, directive)
	}

	return list
}

// private keeps an answer that depends on a cookie out of shared caches.
func (c cacheControl) private() cacheControl {
	var list cacheControl
	for _, directive := range c {
		name, _, _ := strings.Cut(strings.ToLower(directive), "=")
		switch name {
		case "public":
			directive = "private"
		case "s-maxage":
			continue
		}
		list = append(list, directive)
	}
	return list
}

// guarded keeps an answer that not everybody may see out
// of shared caches, whatever was said of it.
func (c cacheControl) guarded() cacheControl {
	if slices.Contains(c, neverStored) {
		return c
	}
	list := c.private()
	if !slices.Contains(list, "private") {
		list = append(list, "private")
	}
	return list
}

// entityTag covers the bytes, the type they are sent with,
// and the fields that rules set or take away.
func entityTag(a *Answer) string {
	sum := sha256.New()
	if a.Config != nil {
		sum.Write(a.Config.Data)
	} else {
		sum.Write(a.File.Digest[:])
		sum.Write([]byte(a.File.Type))
	}

	for _, f := range a.Header {
		if f.Rule != nil {
			sum.Write([]byte("\n" + strings.ToLower(f.Name) + ": " + f.Value))
		}
	}

	for _, name := range a.withheld {
		sum.Write([]byte("\n-" + name))
	}
	return `"` + hex.EncodeToString(sum.Sum(nil)[:16]) + `"`
}
