package rules

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"orilla.example/orilla/internal/core/canon"
)

// ErrDamaged: bytes are not the record of rules.
var ErrDamaged = errors.New("not a record of rules")

// record is the form in which a release keeps a rule: one RFC 8785 object a
// line, patterns and targets in their one spelling.
//
//	{"pattern":"/boat.php","target":"/boats/{id}","verb":"redirect",
//	 "when":[{"bind":"id:digits","kind":"query","name":"id"}]}
type record struct {
	Name    string            `json:"name,omitempty"`
	Pattern string            `json:"pattern"`
	Status  int               `json:"status,omitempty"`
	Target  string            `json:"target,omitempty"`
	Value   string            `json:"value,omitempty"`
	Verb    Verb              `json:"verb"`
	When    []conditionRecord `json:"when,omitempty"`
}

// conditionRecord is a condition as releases keep it. Its fields are in the
// order of the canonical form, that of their names.
type conditionRecord struct {
	Bind   string    `json:"bind,omitempty"`
	From   time.Time `json:"from,omitzero"`
	Kind   Kind      `json:"kind"`
	Name   string    `json:"name,omitempty"`
	Not    bool      `json:"not,omitempty"`
	Until  time.Time `json:"until,omitzero"`
	Values []string  `json:"values,omitempty"`
}

// Encode returns the bytes that a release keeps: what decides answers, and
// nothing else. Equal rules have equal bytes, however they were written.
func Encode(list []Rule) []byte {
	var out []byte
	for i := range list {
		out = append(list[i].append(out), '\n')
	}
	return out
}

// append appends the rule's record, in the canonical form. It is written by
// hand: releases have up to a hundred thousand rules.
func (r *Rule) append(out []byte) []byte {
	object := fields{out: append(out, '{')}
	object.text("name", r.Name)
	object.key("pattern")
	object.out = canon.AppendString(object.out, r.Pattern.record())
	if r.Status != 0 {
		object.key("status")
		object.out = strconv.AppendInt(object.out, int64(r.Status), 10)
	}

	if !r.Target.IsZero() {
		object.text("target", r.Target.record())
	}
	object.text("value", r.Value)
	object.text("verb", string(r.Verb))

	if len(r.When) > 0 {
		object.key("when")
		object.out = append(object.out, '[')
		for i := range r.When {
			if i > 0 {
				object.out = append(object.out, ',')
			}
			object.out = r.When[i].append(object.out)
		}
		object.out = append(object.out, ']')
	}

	return append(object.out, '}')
}

// append appends the condition's record.
func (c *Condition) append(out []byte) []byte {
	object := fields{out: append(out, '{')}
	if c.Bind != nil {
		object.text("bind", c.Bind.String())
	}
	object.time("from", c.From)
	object.text("kind", string(c.Kind))
	object.text("name", c.Name)
	if c.Not {
		object.key("not")
		object.out = append(object.out, "true"...)
	}

	object.time("until", c.Until)
	if c.Values != nil {
		object.key("values")
		object.out = append(object.out, '[')
		for i, value := range c.Values {
			if i > 0 {
				object.out = append(object.out, ',')
			}
			object.out = canon.AppendString(object.out, value)
		}
		object.out = append(object.out, ']')
	}

	return append(object.out, '}')
}

// fields writes the members of one object, whose names must come in order.
type fields struct {
	out  []byte
	some bool
}

// key begins a field, after a comma unless it is the first.
func (f *fields) key(name string) {
	if f.some {
		f.out = append(f.out, ',')
	}
	f.some = true
	f.out = append(canon.AppendString(f.out, name), ':')
}

// text writes a field, unless it is empty.
func (f *fields) text(name, value string) {
	if value != "" {
		f.key(name)
		f.out = canon.AppendString(f.out, value)
	}
}

// time writes a field with a time in UTC (RFC 3339), unless it is zero.
func (f *fields) time(name string, t time.Time) {
	if !t.IsZero() {
		f.text(name, t.UTC().Format(time.RFC3339))
	}
}

// Decode reads what Encode wrote, and nothing else: the error is ErrDamaged for
// any other bytes. Rules that came from a release have no positions.
func Decode(data []byte) ([]Rule, error) {
	list := make([]Rule, 0, bytes.Count(data, []byte("\n")))
	var again []byte
	for line := range bytes.Lines(data) {
		rule, err := decodeRule(line)
		if err == nil {
			if again = append(rule.append(again[:0]), '\n'); !bytes.Equal(again, line) {
				err = errors.New("another spelling")
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%w: rule %d: %w", ErrDamaged, len(list)+1, err)
		}
		list = append(list, rule)
	}

	return list, nil
}

// decodeRule reads the record of one rule. A field or verb that is not known is
// an error: passing over it could let the rule apply where it should not.
func decodeRule(line []byte) (rule Rule, err error) {
	var r record
	decoder := json.NewDecoder(bytes.NewReader(line))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&r); err != nil {
		return rule, err
	}

	rule = Rule{Verb: r.Verb, Status: r.Status, Name: r.Name, Value: r.Value}
	if !slices.Contains(Verbs(), r.Verb) || r.Verb == Expect {
		return rule, fmt.Errorf("the verb %q is unknown", r.Verb)
	}
	var wrong *problem
	if rule.Pattern, wrong = parsePattern(r.Pattern); wrong != nil {
		return rule, errors.New(wrong.text)
	}

	if r.Target != "" {
		if rule.Target, wrong = parseTarget(r.Target); wrong != nil {
			return rule, errors.New(wrong.text)
		}
	}

	for _, c := range r.When {
		condition := Condition{Kind: c.Kind, Not: c.Not, Name: c.Name, Values: c.Values, From: c.From,
			Until: c.Until}
		if c.Bind != "" {
			if condition.Bind, _, wrong = parseSlot(c.Bind, 0); wrong != nil {
				return rule, errors.New(wrong.text)
			}
		}
		rule.When = append(rule.When, condition)
	}

	return rule, rule.whole()
}

// whole reports what no statement of the language could have said.
func (r *Rule) whole() error {
	switch {
	case r.Verb.leads() == r.Target.IsZero():
		return errors.New("its target does not fit its verb")
	case r.Status != 0 && !slices.Contains(statuses[r.Verb], r.Status):
		return fmt.Errorf("%s has no status %d", r.Verb, r.Status)
	case r.Verb.setsField() == (r.Name == ""):
		return errors.New("its field does not fit its verb")
	}

	known := r.Pattern.placeholders()
	for i := range r.When {
		if r.When[i].Bind != nil {
			known = append(known, r.When[i].Bind.name)
		}
		if !slices.Contains([]Kind{ByHost, ByLanguage, ByQuery, ByCookie, ByEnvironment, ByStatus, ByTime},
			r.When[i].Kind) {
			return fmt.Errorf("the condition %q is unknown", r.When[i].Kind)
		}
	}

	for _, name := range r.Target.placeholders() {
		if !slices.Contains(known, name) {
			return fmt.Errorf("nothing binds {%s}", name)
		}
	}
	return nil
}

// Compile makes the set that a release of these rules
// would have, with the positions of the text.
func (p *Program) Compile() (*Set, error) {
	// Through the very bytes that a release keeps: what is served here is what
	// will be served there.
	list, err := Decode(Encode(p.Rules))
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].At, list[i].ToAt = p.Rules[i].At, p.Rules[i].ToAt
		for j := range list[i].When {
			list[i].When[j].text = p.Rules[i].When[j].text
		}
	}
	return Compile(list), nil
}
