package address

import (
	"net/url"
	"strings"
	"unicode/utf8"
)

// Parameter is one parameter of a query.
type Parameter struct {
	Name, Value string // decoded: %XX, and + for a blank
	Raw         string // as it was sent
}

// Parameters divides a query at its ampersands. What is no
// valid escape, or not UTF-8, stands for itself.
func Parameters(query string) []Parameter {
	if query == "" {
		return nil
	}
	list := make([]Parameter, 0, strings.Count(query, "&")+1)
	for raw := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(raw, "=")
		list = append(list, Parameter{unescape(name), unescape(value), raw})
	}
	return list
}

// unescape decodes a name or value of a query as forms are encoded (WHATWG URL,
// section 5.1): a plus sign is a blank. What does not decode to UTF-8 stays as
// it is, since nothing that a rule could name is equal to it.
func unescape(text string) string {
	if !strings.ContainsAny(text, "%+") {
		return text
	}
	plain, err := url.QueryUnescape(text)
	if err != nil || !utf8.ValidString(plain) {
		return text
	}
	return plain
}

// Query is the query of a request, taken apart when it is first asked for.
type Query struct {
	Raw    string
	list   []Parameter
	parsed bool
}

// All returns the parameters in their order.
func (q *Query) All() []Parameter {
	if !q.parsed {
		q.list, q.parsed = Parameters(q.Raw), true
	}
	return q.list
}

// First returns the first value of a parameter, and whether there is one.
func (q *Query) First(name string) (string, bool) {
	for _, parameter := range q.All() {
		if parameter.Name == name {
			return parameter.Value, true
		}
	}
	return "", false
}

// Without returns the query in its own spelling without
// the parameters that drop names.
func (q *Query) Without(drop func(name string) bool) string {
	var kept []string
	for _, parameter := range q.All() {
		if !drop(parameter.Name) && parameter.Raw != "" {
			kept = append(kept, parameter.Raw)
		}
	}
	return Clean(strings.Join(kept, "&"))
}

// Clean escapes what may not stand in the query of a
// Location, and leaves all else as it was spelled.
func Clean(query string) string {
	bad := func(c byte) bool { return c <= ' ' || c >= 0x7f || strings.IndexByte("\"<>\\^`{|}#", c) >= 0 }
	clean := true
	for i := range len(query) {
		clean = clean && !bad(query[i])
	}

	if clean {
		return query
	}
	var out []byte
	for i := range len(query) {
		if c := query[i]; bad(c) {
			out = append(out, '%', "0123456789ABCDEF"[c>>4], "0123456789ABCDEF"[c&15])
		} else {
			out = append(out, c)
		}
	}

	return string(out)
}
