package rules

import (
	"slices"
	"time"

	"orilla.example/orilla/internal/core/address"
)

// Set is the rules of a release, ready to be matched. It never changes, and may
// be used from several goroutines. The nil Set has no rules.
type Set struct {
	Rules []Rule

	phases       [4]*tree
	missingPages map[string]bool // files that a missing rule without placeholders may name
	missingOpen  bool            // a missing rule has placeholders in its target
}

// Phase is a step of answering a request, which considers
// rules of certain verbs.
type Phase int

// The phases.
const (
	First     Phase = iota // redirect, gone, rewrite, proxy: before files are looked up
	OnNoFile               // fallback
	OnNothing              // missing
	OnAnswer               // header, withhold
)

// Phase returns when rules of a verb are considered.
func (v Verb) Phase() Phase {
	switch v {
	case Fallback:
		return OnNoFile
	case Missing:
		return OnNothing
	case Header, Withhold:
		return OnAnswer
	}
	return First
}

// Compile makes a set. Its time and memory grow linearly
// with the number of rules.
//
// A set of 100,000 rules takes about a quarter of a second, once for each flip.
func Compile(list []Rule) *Set {
	s := &Set{Rules: list, missingPages: map[string]bool{}}
	// One tree for each phase: a request that is redirected never meets the
	// header rules.
	for phase := range s.phases {
		s.phases[phase] = newTree(list, func(v Verb) bool { return v.Phase() == Phase(phase) })
	}
	for i := range list {
		if list[i].Verb != Missing {
			continue
		}
		if !list[i].Target.IsLiteral() {
			s.missingOpen = true
			continue
		}

		// The page of a missing rule is no page of the site: at its own address
		// it is 404 too, else it would be found by search engines.
		x, _ := list[i].Target.expand(nil)
		for _, name := range Candidates(x.Path) {
			s.missingPages[name] = true
		}
	}

	return s
}

// Candidates lists the files that a path may mean where it is named by a rule,
// in the order in which they are looked for.
//
//	/fares        fares, fares.html, fares/index.html
//	/fares/       fares/index.html, fares.html
//	/             index.html
func Candidates(p address.Path) []string {
	name := p.Name()
	switch {
	case name == "":
		return []string{"index.html"}
	case p.Slash:
		return []string{name + "/index.html", name + ".html"}
	}
	return []string{name, name + ".html", name + "/index.html"}
}

// Each yields the rules of a phase whose pattern takes a path, in order, until
// yield returns false. Rules that ask for another value of a parameter than the
// query has are left out, unless every is set.
func (s *Set) Each(phase Phase, p address.Path, query *address.Query, every bool, yield func(*Rule) bool) {
	if s != nil {
		s.phases[phase].each(p.Names, query, every, yield)
	}
}

// IsMissingPage reports whether a file, found at the path of a request, is one
// that a missing rule names: then its own address is 404 too.
func (s *Set) IsMissingPage(file string, p address.Path) bool {
	if s == nil {
		return false
	}
	if s.missingPages[file] || !s.missingOpen {
		return s.missingPages[file]
	}

	// Only where a target has placeholders the rules have to be asked.
	found := false
	s.Each(OnNothing, p, &address.Query{}, true, func(r *Rule) bool {
		if values, ok := r.Pattern.match(p, nil); ok && !r.Target.IsLiteral() && r.boundByPattern() {
			x, ok := r.Target.expand(values)
			found = ok && slices.Contains(Candidates(x.Path), file)
		}
		return !found
	})

	return found
}

// boundByPattern reports whether the path alone binds all
// placeholders of the target.
func (r *Rule) boundByPattern() bool {
	known := r.Pattern.placeholders()
	return !slices.ContainsFunc(r.Target.placeholders(),
		func(name string) bool { return !slices.Contains(known, name) })
}

// Trial is what became of a rule whose pattern takes the path of a request.
type Trial struct {
	Applies bool
	Failed  *Condition // the first condition that was not met
	Climbs  bool       // a value is or holds a dot segment or a control character
	Vary    []string   // the fields of the request that decided, or could have
	Next    time.Time  // when a time condition may turn; the zero Time for never
	Timed   bool       // a time condition decided, or could have
	Expansion
}

// Try checks whether the conditions of a rule are met, and fills in its target.
// What is sure for an address whoever asks is looked at first; where that is
// not met, the fields of the request decide nothing.
func (r *Rule) Try(p address.Path, v *Visitor) Trial {
	var t Trial
	for _, visitor := range []bool{false, true} {
		for i := range r.When {
			c := &r.When[i]
			if field := c.varies(); (field != "") != visitor {
				continue
			} else if field != "" && !slices.Contains(t.Vary, field) {
				t.Vary = append(t.Vary, field)
			}

			if c.Kind == ByTime {
				continue
			}
			if !c.holds(v) && t.Failed == nil {
				t.Failed = c
			}
		}
		if !visitor {
			if t.Failed != nil {
				return t
			}
			r.tryTime(v, &t)
			if t.Failed != nil {
				return t
			}
		}
	}

	if t.Failed != nil {
		return t
	}
	var room [8]bound
	values, ok := r.Pattern.match(p, room[:0])
	if !ok {
		return t
	}

	for i := range r.When {
		if c := &r.When[i]; c.Bind != nil {
			value, _ := v.Query.First(c.Name)
			values = append(values, bound{name: c.Bind.name, names: []string{value}})
		}
	}

	t.Expansion, ok = r.Target.expand(values)
	t.Applies, t.Climbs = ok, !ok
	return t
}

// tryTime looks at the conditions on time.
func (r *Rule) tryTime(v *Visitor, t *Trial) {
	for i := range r.When {
		c := &r.When[i]
		if c.Kind != ByTime {
			continue
		}
		t.Timed = true
		if next := c.next(v.Now); !next.IsZero() && (t.Next.IsZero() || next.Before(t.Next)) {
			t.Next = next
		}

		if !c.holds(v) && t.Failed == nil {
			t.Failed = c
		}
	}
}

// Uses reports whether the rule takes a parameter out of the query: it asks for
// its value, or its target sets it.
func (r *Rule) Uses(parameter string) bool {
	return r.Target.sets(parameter) || slices.ContainsFunc(r.When, func(c Condition) bool {
		return c.Kind == ByQuery && !c.Not && c.Name == parameter && (c.Values != nil || c.Bind != nil)
	})
}

// Query returns the query of where the rule leads: what the target sets, then
// what of the request's query travels on, each in its own spelling.
func (r *Rule) Query(x Expansion, query *address.Query) string {
	travels := ""
	if !r.Target.bare {
		travels = query.Without(r.Uses)
	}
	if x.Query != "" && travels != "" {
		return x.Query + "&" + travels
	}
	return x.Query + travels
}

// NamesExtension reports whether the pattern asks for
// addresses with a certain extension.
func (r *Rule) NamesExtension() bool { return r.Pattern.namesExtension() }

// AsksStatus reports whether a header rule names the status it is for.
func (r *Rule) AsksStatus() bool {
	return slices.ContainsFunc(r.When, func(c Condition) bool { return c.Kind == ByStatus && !c.Not })
}

// Below returns where the addresses begin that the rule passes on with all
// below them: "/api/" for the pattern /api/{rest:all}.
func (r *Rule) Below(p address.Path) string {
	return address.Encode(p.Names[:len(r.Pattern.segments)], true)
}

// Of returns where they begin behind the rule: "/v1/" for
// the target /v1/{rest}. ok is false for a rule that does
// not lead all below a path to all below another.
func (t *Trial) Of(r *Rule) (path string, ok bool) {
	last := len(r.Target.path) - 1
	if !r.Pattern.hasAll || last < 0 || r.Target.slash ||
		!slices.Equal(r.Target.path[last], template{"", r.Pattern.all, ""}) {
		return "", false
	}
	return address.Encode(t.Path.Names[:last], true), true
}
