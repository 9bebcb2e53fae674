package project

import (
	"fmt"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/journal"
)

// Labels says how previews of some refs are called, so that an address can be
// told before anything is pushed: patterns of branches, or of refs by their full
// names, and what their labels are made of. A star stands in each once, for the
// same text.
//
//	refs/proposed/*/head: change-*     refs/proposed/7/head is change-7
//	feature/*: f-*                     feature/piers is f-piers
//
// Any two refs have different labels. So labels of different patterns may not
// meet, what is no label gets one with a part of its hash, and so does a branch
// that is called like another one's label.
type Labels map[string]string

// template is one pattern and what it makes, each cut at its star.
type template struct{ before, after, labelBefore, labelAfter string }

// templates returns the patterns in order of their text.
func (l Labels) templates() []template {
	list := make([]template, 0, len(l))
	for _, pattern := range sortedKeys(l) {
		var t template
		t.before, t.after, _ = strings.Cut(pattern, "*")
		if !strings.HasPrefix(pattern, "refs/") {
			t.before = "refs/heads/" + t.before
		}
		t.labelBefore, t.labelAfter, _ = strings.Cut(l[pattern], "*")
		list = append(list, t)
	}
	return list
}

// label returns the label of a ref by its full name, if a pattern fits it and what
// the star takes can be part of a label.
func (t template) label(ref string) (string, bool) {
	taken, ok := between(ref, t.before, t.after)
	label := t.labelBefore + taken + t.labelAfter
	return label, ok && IsLabel(taken) && len(label) <= 40 && !hashedForm.MatchString(label)
}

// takes reports whether a label could be one that the template makes.
func (t template) takes(label string) bool {
	_, ok := between(label, t.labelBefore, t.labelAfter)
	return ok
}

// meets reports whether two templates could make one label.
func (t template) meets(other template) bool {
	starts := strings.HasPrefix(t.labelBefore, other.labelBefore) ||
		strings.HasPrefix(other.labelBefore, t.labelBefore)
	ends := strings.HasSuffix(t.labelAfter, other.labelAfter) ||
		strings.HasSuffix(other.labelAfter, t.labelAfter)
	return starts && ends
}

// between returns what stands in a text between its beginning and its end; not ok
// if it has not both, or nothing between.
func between(text, before, after string) (string, bool) {
	rest, starts := strings.CutPrefix(text, before)
	taken, ends := strings.CutSuffix(rest, after)
	return taken, starts && ends && taken != ""
}

// check says what is wrong with labels; "" for nothing.
func (l Labels) check() string {
	list := l.templates()
	for i, pattern := range sortedKeys(l) {
		t := list[i]
		switch {
		case strings.Count(pattern, "*") != 1 || strings.Count(l[pattern], "*") != 1:
			return fmt.Sprintf("%s: %s needs a star on each side, for the same text", pattern, l[pattern])
		case t.labelBefore+t.labelAfter == "":
			return pattern + ": a label needs text beside the star, so that no branch gets the same"
		case !IsLabel(t.labelBefore + "x" + t.labelAfter):
			return fmt.Sprintf("%s: %s cannot be part of an address; use lowercase letters, digits "+
				"and dashes",
				pattern, l[pattern])
		}
		for j := range i {
			if t.meets(list[j]) {
				return fmt.Sprintf("%s: %s and %s could be the same label", pattern, l[pattern],
					l[sortedKeys(l)[j]])
			}
		}
	}
	return ""
}

// LabelOf returns the label of the preview of a ref, by its full name: of a
// branch its name, if that is a label, and else a form with a part of its hash.
// With a secret it has a part that nobody can guess.
func (p Previews) LabelOf(ref, secret string) string {
	branch, isBranch := strings.CutPrefix(ref, "refs/heads/")
	name := ref
	if isBranch {
		name = branch
	}

	templates := p.Labels.templates()
	for _, t := range templates {
		if label, ok := t.label(ref); ok {
			return withSecret(label, name, secret)
		}
	}
	if !isBranch {
		return RefLabel(ref, secret)
	}
	label := BranchLabel(branch)
	if slices.ContainsFunc(templates, func(t template) bool { return t.takes(label) }) {
		label = hashedLabel(branch)
	}
	return withSecret(label, branch, secret)
}

// UsualPort is the one that edge nodes answer at unless they are told another.
const UsualPort = "7420"

// LocalName returns the name below .localhost at which every edge node answers
// for an environment, by its stored name.
func LocalName(site, environment string) string {
	switch label, preview := strings.CutPrefix(environment, journal.PreviewPrefix); {
	case preview:
		return label + ".preview." + site + ".localhost"
	case environment == Production:
		return site + ".localhost"
	}
	return environment + "." + site + ".localhost"
}
