package rules

import (
	"net/url"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
)

// Target is where a rule leads. Examples:
//
//	/sailings/{season}                          a path of the site
//	/boats?line={line}#times                    with a query and a fragment
//	/search?                                    without the parameters of the request
//	https://shop.corvane.example/{rest}         another site
//	harbour:/v1/{rest}                          an upstream, whose address each environment gives
type Target struct {
	Upstream string // the name before the colon
	Origin   string // scheme, host and port of another site, in lower case; "" for a path of this one

	path     []template
	slash    bool
	query    []parameter
	bare     bool // ends in a question mark: the parameters of the request do not travel
	fragment template
	hash     bool // there is a fragment
	written  bool
}

// parameter is one that the target sets.
type parameter struct {
	name  string // decoded
	value template
	equal bool // NAME= rather than NAME
}

// template is text with placeholders: pieces of text,
// every second one the name of a placeholder.
type template []string

// placeholders returns the names that a template fills in: every second part is
// one.
func (t template) placeholders() []string {
	var names []string
	for i := 1; i < len(t); i += 2 {
		names = append(names, t[i])
	}
	return names
}

// IsZero reports whether there is no target.
func (t Target) IsZero() bool { return !t.written }

// IsLocal reports whether the target is a path of the site itself.
func (t Target) IsLocal() bool { return t.written && t.Upstream == "" && t.Origin == "" }

// IsLiteral reports whether the target has no placeholder.
func (t Target) IsLiteral() bool { return len(t.placeholders()) == 0 }

// placeholders returns the names that a target uses, in path, query and
// fragment.
func (t Target) placeholders() []string {
	var names []string
	for _, part := range t.path {
		names = append(names, part.placeholders()...)
	}
	for _, p := range t.query {
		names = append(names, p.value.placeholders()...)
	}
	return append(names, t.fragment.placeholders()...)
}

// String writes the target in its one spelling, as it can be typed.
func (t Target) String() string { return t.write(typed) }

// record writes the target as records of releases have it: stars and colons stand
// for themselves there.
func (t Target) record() string {
	return t.write(func(text string, _ bool) string { return encodeLiteral(text) })
}

// write writes the target. literal writes literal text of its path; start tells
// that it begins a segment.
func (t Target) write(literal func(text string, start bool) string) string {
	var out strings.Builder
	out.WriteString(t.Origin)
	if t.Upstream != "" {
		out.WriteString(t.Upstream + ":")
	}

	write := func(parts template, encode func(text string, start bool) string) {
		for i, text := range parts {
			if i%2 == 1 {
				out.WriteString("{" + text + "}")
			} else {
				out.WriteString(encode(text, i == 0))
			}
		}
	}
	value := func(text string, _ bool) string { return address.EncodeValue(text) }

	for _, part := range t.path {
		out.WriteByte('/')
		write(part, literal)
	}
	if t.slash || len(t.path) == 0 {
		out.WriteByte('/')
	}

	joint := "?"
	for _, p := range t.query {
		out.WriteString(joint + address.EncodeValue(p.name))
		joint = "&"
		if p.equal {
			out.WriteByte('=')
			write(p.value, value)
		}
	}

	if t.bare {
		out.WriteString("?")
	}
	if t.hash {
		out.WriteByte('#')
		write(t.fragment, func(text string, _ bool) string { return address.EncodeFragment(text) })
	}
	return out.String()
}

// Expansion is a target with its placeholders filled in.
type Expansion struct {
	Path     address.Path
	Query    string // escaped: the parameters that the target sets
	Fragment string // escaped, with its #
}

// expand fills in the placeholders. ok is false if a value
// must not be put into a path.
func (t Target) expand(values []bound) (x Expansion, ok bool) {
	for _, value := range values {
		for _, name := range value.names {
			if address.Climbs(name) || address.HasControl(name) {
				return x, false
			}
		}
	}

	// Every name was checked to be bound when the rule was read, so it is
	// found.
	find := func(name string) bound {
		return values[slices.IndexFunc(values, func(b bound) bool { return b.name == name })]
	}
	x.Path.Slash = t.slash
	x.Path.Names = make([]string, 0, len(t.path)+2)

	for i, part := range t.path {
		if value, all := wholePath(part, find); all {
			x.Path.Names = append(x.Path.Names, value.names...)
			if i == len(t.path)-1 && !t.slash {
				x.Path.Slash = value.slash || len(value.names) == 0
			}
			continue
		}

		// Names are decoded here and encoded when the path is written, once: a
		// value can never become a slash, a query or a host.
		name := part.fill(find, func(text string) string { return text })
		if name == "" || address.Climbs(name) {
			return x, false
		}
		x.Path.Names = append(x.Path.Names, name)
	}

	if len(x.Path.Names) == 0 {
		x.Path.Slash = true
	}
	var query strings.Builder
	for i, p := range t.query {
		if i > 0 {
			query.WriteByte('&')
		}
		query.WriteString(address.EncodeValue(p.name))
		if p.equal {
			query.WriteString("=" + p.value.fill(find, address.EncodeValue))
		}
	}

	x.Query = query.String()
	if t.hash {
		x.Fragment = "#" + t.fragment.fill(find, address.EncodeFragment)
	}
	return x, true
}

// wholePath reports whether a segment of a target is a
// placeholder that takes several.
func wholePath(part template, find func(string) bound) (bound, bool) {
	if len(part) != 3 || part[0] != "" || part[2] != "" {
		return bound{}, false
	}
	value := find(part[1])
	return value, value.all
}

// fill writes a template with what its placeholders stand for, each part
// encoded for where it stands.
func (t template) fill(find func(string) bound, encode func(string) string) string {
	if len(t) == 1 {
		return encode(t[0])
	}
	var out strings.Builder
	for i, text := range t {
		if i%2 == 1 {
			text = find(text).text()
		}
		out.WriteString(encode(text))
	}
	return out.String()
}

// parseTarget reads a path, an upstream with a path, or an address of another
// site.
func parseTarget(text string) (Target, *problem) {
	t := Target{written: true}
	rest, offset := text, 0
	// Three forms: https://host/path, upstream:/path and /path.
	if scheme, after, ok := strings.Cut(text, "://"); ok && !strings.Contains(scheme, "/") {
		host := strings.IndexAny(after, "/?#")
		if host < 0 {
			host = len(after)
		}
		offset = len(scheme) + 3 + host
		rest = text[offset:]
		if err := t.origin(text[:offset]); err != nil {
			return t, err
		}

		if !strings.HasPrefix(rest, "/") {
			rest, offset = "/"+rest, offset-1
		}
	} else if name, after, ok := strings.Cut(text, ":"); ok && strings.HasPrefix(after, "/") &&
		!strings.Contains(name, "/") {
		if !isUpstream(name) {
			return t, wrong(0, "not an upstream name: %q; use lowercase letters, digits and dashes", name)
		}
		t.Upstream, rest, offset = name, after, len(name)+1
	}

	if !strings.HasPrefix(rest, "/") {
		return t, wrong(offset, "a target begins with a slash, with https://, or with an "+
			"upstream's name and a colon")
	}
	rest, fragment, hash := strings.Cut(rest, "#")
	rest, query, asks := strings.Cut(rest, "?")
	if err := t.readPath(rest, offset); err != nil {
		return t, err
	}

	offset += len(rest) + 1
	if asks {
		if err := t.readQuery(query, offset); err != nil {
			return t, err
		}
		offset += len(query) + 1
	}

	if t.hash = hash; hash {
		parts, err := parseTemplate(fragment, offset, affix)
		if err != nil {
			return t, err
		}
		t.fragment = parts
	}
	return t, nil
}

// isUpstream reports whether a text can name an upstream.
func isUpstream(name string) bool {
	for i, c := range name {
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return name != "" && len(name) <= 63
}

// origin reads scheme and host of a target elsewhere. A placeholder cannot
// stand there: whoever writes the address could choose where visitors are sent.
func (t *Target) origin(text string) *problem {
	if at := strings.IndexByte(text, '{'); at >= 0 {
		return wrong(at, "no placeholders in the host: visitors could be sent anywhere")
	}
	u, err := url.Parse(strings.ToLower(text))
	switch {
	case err != nil:
		return wrong(0, "not the address of a site: %s", strings.TrimPrefix(err.Error(), "parse "))
	case u.Scheme != "http" && u.Scheme != "https":
		return wrong(0, "a target's scheme is http or https")
	case u.User != nil:
		return wrong(0, "no user name or password in a target")
	case u.Hostname() == "":
		return wrong(len(u.Scheme)+3, "the host is missing")
	}

	// Stricter than url.Parse: the host goes into a Location field, and
	// browsers repair hosts each in their own way.
	for i := range len(u.Host) {
		if c := u.Host[i]; c <= ' ' || c >= 0x7f || strings.IndexByte(`"<>\^|%;,()`+"`{}", c) >= 0 {
			return wrong(len(u.Scheme)+3+i,
				"a host has letters, digits, dashes and dots (international names in their xn-- form)")
		}
	}
	t.Origin = u.Scheme + "://" + u.Host
	return nil
}

// readPath reads the path of a target.
func (t *Target) readPath(text string, offset int) *problem {
	if text == "/" {
		return nil
	}
	parts := strings.Split(text[1:], "/")
	offset++

	for i, part := range parts {
		last := i == len(parts)-1
		if part == "" && last {
			t.slash = true
			break
		}

		if part == "" {
			// //host is a reference to another host (RFC 3986, section 4.2).
			if i == 0 {
				return wrong(offset, "two slashes: browsers would read what follows as a host; "+
					"write https:// for another site")
			}
			return wrong(offset, "two slashes in a row")
		}

		parsed, err := parseTemplate(part, offset, affix)
		if err != nil {
			return err
		}
		if len(parsed) == 1 && (parsed[0] == "." || parsed[0] == "..") {
			return wrong(offset, "a dot segment: write the path as it is")
		}
		t.path = append(t.path, parsed)
		offset += len(part) + 1
	}

	return nil
}

// readQuery reads the query of a target. An empty one takes the visitor's
// parameters away; one that ends in a question mark takes away all that it does
// not name.
func (t *Target) readQuery(text string, offset int) *problem {
	if text == "" {
		t.bare = true
		return nil
	}
	// /a? drops the query of the request; /a?b=1? sets one parameter and drops
	// the others.
	if rest, ok := strings.CutSuffix(text, "?"); ok {
		t.bare, text = true, rest
	}

	for part := range strings.SplitSeq(text, "&") {
		name, value, equal := strings.Cut(part, "=")
		if strings.Contains(name, "{") {
			return wrong(offset, "placeholders go in a parameter's value, not in its name")
		}
		if name == "" {
			return wrong(offset, "a parameter without a name")
		}

		decoded, err := decodeValue(name, offset)
		if err != nil {
			return err
		}
		p := parameter{name: decoded, equal: equal}

		if equal {
			if p.value, err = parseTemplate(value, offset+len(name)+1, decodeValue); err != nil {
				return err
			}
		}
		t.query = append(t.query, p)
		offset += len(part) + 1
	}

	return nil
}

// sets reports whether the target sets a parameter.
func (t Target) sets(name string) bool {
	return slices.ContainsFunc(t.query, func(p parameter) bool { return p.name == name })
}

// decodeValue decodes literal text of a query.
func decodeValue(text string, offset int) (string, *problem) {
	value, err := url.QueryUnescape(text)
	if err != nil {
		return "", wrong(offset+max(0, strings.IndexByte(text, '%')),
			"broken escape: %% needs two hexadecimal digits")
	}

	if address.HasControl(value) {
		return "", wrong(offset, "this has a control character")
	}
	return value, nil
}

// parseTemplate reads text with placeholders.
func parseTemplate(text string, offset int, decode func(string, int) (string, *problem),
) (template, *problem) {
	var out template
	for {
		open := strings.IndexByte(text, '{')
		if open < 0 {
			last, err := decode(text, offset)
			return append(out, last), err
		}

		end := strings.IndexByte(text[open:], '}') + open
		if end < open {
			return nil, wrong(offset+open, "unclosed brace; write a literal one as %%7B")
		}
		before, err := decode(text[:open], offset)
		if err != nil {
			return nil, err
		}

		name := text[open+1 : end]
		if !isName(name) {
			if plain, _, narrowed := strings.Cut(name, ":"); narrowed && isName(plain) {
				return nil, wrong(offset+open, "in a target a placeholder is only its name: {%s}", plain)
			}
			return nil, wrong(offset+open, "not a placeholder name: %q", name)
		}
		out = append(out, before, name)
		text, offset = text[end+1:], offset+end+1
	}
}
