package rules

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/address"
)

// Kind says what a condition asks about.
type Kind string

// The kinds of conditions.
const (
	ByHost        Kind = "host"
	ByLanguage    Kind = "language"
	ByQuery       Kind = "query"
	ByCookie      Kind = "cookie"
	ByEnvironment Kind = "environment"
	ByStatus      Kind = "status" // of header rules
	ByTime        Kind = "time"   // from ... until ...
)

// Condition narrows a rule. Several are joined by "and".
type Condition struct {
	Kind   Kind
	Not    bool
	Name   string   // of the parameter or cookie
	Values []string // one of which it must be; nil if it need only be there
	Bind   *slot    // of a query: what its first value is bound to
	// From and Until bound a time; the zero Time leaves a
	// side open. Until is the first moment after.
	From, Until time.Time

	text string // as it was written, for a time: zones and days read better so
}

// Visitor is what of a request conditions ask about.
type Visitor struct {
	Host        string // in lower case, without port
	Environment string // as it is shown: production, staging, preview/winter
	Status      int    // of the answer, for header rules
	Now         time.Time
	Query       *address.Query
	Languages   []string // of the site; the first is the default

	AcceptLanguage string // the header field
	Cookie         string // the header field

	language string
}

// Language is the visitor's language among those of the site.
//
// It follows RFC 4647, section 3.4; without a match it is the site's first.
func (v *Visitor) Language() string {
	if v.language == "" && len(v.Languages) > 0 {
		v.language = Lookup(v.AcceptLanguage, v.Languages)
	}
	return v.language
}

// holds reports whether the condition is met.
func (c *Condition) holds(v *Visitor) bool { return c.met(v) != c.Not }

// met reports whether a visitor meets the condition, were it not turned round
// by "not".
func (c *Condition) met(v *Visitor) bool {
	switch c.Kind {
	case ByHost:
		return slices.Contains(c.Values, v.Host)
	case ByLanguage:
		return slices.ContainsFunc(c.Values,
			func(tag string) bool { return strings.EqualFold(tag, v.Language()) })
	case ByQuery:
		value, ok := v.Query.First(c.Name)
		// Only the first value of a parameter counts, as in most programs that
		// rules replace.
		if c.Bind != nil {
			return ok && c.Bind.takes(value)
		}
		return ok && (c.Values == nil || slices.Contains(c.Values, value))
	case ByCookie:
		value, ok := cookie(v.Cookie, c.Name)
		return ok && (c.Values == nil || slices.Contains(c.Values, value))
	case ByEnvironment:
		return slices.ContainsFunc(c.Values, func(name string) bool {
			return name == v.Environment || name == "preview" && strings.HasPrefix(v.Environment, "preview/")
		})
	case ByStatus:
		return slices.Contains(c.Values, strconv.Itoa(v.Status))
	case ByTime:
		return (c.From.IsZero() || !v.Now.Before(c.From)) && (c.Until.IsZero() || v.Now.Before(c.Until))
	}
	return false
}

// varies returns the header field of a request that
// decides the condition, or "".
func (c *Condition) varies() string {
	switch c.Kind {
	case ByLanguage:
		return "Accept-Language"
	case ByCookie:
		return "Cookie"
	}
	return ""
}

// next returns the first moment after now at which the
// condition may turn; the zero Time for never.
func (c *Condition) next(now time.Time) time.Time {
	for _, at := range []time.Time{c.From, c.Until} {
		if at.After(now) {
			return at
		}
	}
	return time.Time{}
}

// String writes the condition in the language.
func (c Condition) String() string {
	text := c.text
	if text == "" {
		text = c.plain()
	}
	if c.Not {
		return "not " + text
	}
	return text
}

// plain writes the condition without a "not" before it.
func (c Condition) plain() string {
	switch {
	case c.Kind == ByTime:
		var parts []string
		if !c.From.IsZero() {
			parts = append(parts, "from "+c.From.UTC().Format(time.RFC3339))
		}
		if !c.Until.IsZero() {
			parts = append(parts, "until "+c.Until.UTC().Format(time.RFC3339))
		}
		return strings.Join(parts, " ")
	case c.Name == "":
		return string(c.Kind) + " " + quoteAll(c.Values)
	}

	name, values := c.Name, c.Values
	if c.Kind == ByQuery {
		// They are read as they stand in a URL, where a percent sign begins an escape.
		escape := strings.NewReplacer("%", "%25")
		name, values = escape.Replace(name), slices.Clone(values)
		for i := range values {
			values[i] = escape.Replace(values[i])
		}
	}
	text := string(c.Kind) + " " + quote(name)
	switch {
	case c.Bind != nil:
		return text + "={" + c.Bind.String() + "}"
	case values == nil:
		return text
	}
	return text + "=" + quoteAll(values)
}

// quoteAll writes alternatives, each quoted if it has to be.
func quoteAll(values []string) string {
	quoted := make([]string, len(values))
	for i, value := range values {
		quoted[i] = quote(value)
	}
	return strings.Join(quoted, "|")
}

// quote writes a value so that it reads back as itself.
func quote(value string) string {
	plain := value != ""
	for _, c := range value {
		plain = plain && (c > 0x7f || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' ||
			strings.ContainsRune("-._~/:,;@+*", c))
	}

	if plain {
		return value
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`
}

// cookie returns the value of the first cookie of a name
// in a Cookie field (RFC 6265, section 4.2).
func cookie(field, name string) (string, bool) {
	for pair := range strings.SplitSeq(field, ";") {
		key, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
		// RFC 6265, section 5.4: a value may stand between quotation marks.
		if ok && key == name {
			if n := len(value); n >= 2 && value[0] == '"' && value[n-1] == '"' {
				value = value[1 : n-1]
			}
			return value, true
		}
	}
	return "", false
}

// Lookup returns the tag that fits an Accept-Language
// field best: the lookup of RFC 4647, section 3.4, in the
// order of the qualities. The first tag is the default.
func Lookup(accept string, tags []string) string {
	type wish struct {
		tag     string
		quality float64
	}
	var wishes []wish
	for item := range strings.SplitSeq(accept, ",") {
		tag, parameters, _ := strings.Cut(item, ";")
		w := wish{strings.TrimSpace(tag), 1}
		if value, ok := strings.CutPrefix(strings.ReplaceAll(parameters, " ", ""), "q="); ok {
			quality, err := strconv.ParseFloat(value, 64)
			if err != nil || !(quality >= 0 && quality <= 1) {
				continue
			}
			w.quality = quality
		}

		// q=0 means "not this one". The bound keeps a long field from costing
		// much.
		if w.tag != "" && w.quality > 0 && len(wishes) < 100 {
			wishes = append(wishes, w)
		}
	}

	slices.SortStableFunc(wishes, func(a, b wish) int {
		switch {
		case a.quality > b.quality:
			return -1
		case a.quality < b.quality:
			return 1
		}
		return 0
	})

	// RFC 4647, section 3.4 (lookup): the tag, then shorter and shorter
	// beginnings of it.
	for _, w := range wishes {
		for wanted := w.tag; wanted != ""; wanted = shorter(wanted) {
			for _, tag := range tags {
				if strings.EqualFold(tag, wanted) {
					return tag
				}
			}
		}
	}

	if len(tags) == 0 {
		return ""
	}
	return tags[0]
}

// shorter takes the last subtag off a language range, and
// a single letter that then ends it.
func shorter(wanted string) string {
	at := strings.LastIndexByte(wanted, '-')
	if at < 0 {
		return ""
	}
	wanted = wanted[:at]
	if n := len(wanted); n >= 2 && wanted[n-2] == '-' {
		wanted = wanted[:n-2]
	}
	return wanted
}

// QueryFor returns a query that meets the conditions of a rule on parameters.
//
// Checks ask with it for an address that a rule should take.
func QueryFor(r *Rule) string {
	var parts []string
	for _, c := range r.When {
		if c.Kind != ByQuery || c.Not {
			continue
		}
		value := "any"
		switch {
		case c.Bind != nil && c.Bind.kind == digits:
			value = "70707"
		case c.Bind != nil && c.Bind.kind == oneOf:
			value = c.Bind.values[0]
		case len(c.Values) > 0:
			value = c.Values[0]
		}
		parts = append(parts, address.EncodeValue(c.Name)+"="+address.EncodeValue(value))
	}

	return strings.Join(parts, "&")
}
