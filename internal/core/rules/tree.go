package rules

import (
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
)

// A tree finds the rules whose pattern takes a path. Its edges are segments:
//
//	redirect /news/{year:digits}/{slug}        1        (root) -news-> a -digits-> b -any-> ends: 1
//	redirect /news/archive                     2                        a -archive-> c       ends: 2
//	redirect /shop/{rest:all}                  3        (root) -shop-> d                     rest: 3
//
// The hard case is many rules with a placeholder in the same place, or a path that several branches take. A node has one edge
// for all placeholders of a kind, so ten thousand rules with {x} in the same place share it. Live branches wait in a heap,
// ordered by the lowest number of a rule below them, and the branch with the lowest goes on first: rules come out in their
// order, and what lies behind the one that applies is never looked at.
//
// A node below which there is one rule only has no edges: the rest of that rule's pattern is compared as it is. So a long path
// costs no more among many than among few, and the tree is as small as what its rules share.
//
// Rules that end at the same node and ask for query NAME=VALUE are found by the value.
type tree struct {
	root  *node
	rules []Rule
}

type node struct {
	least int32 // the lowest number of a rule at or below the node
	only  int32 // the one rule at or below the node, which then has nothing else; -1 for a node with edges

	literal map[string]*node
	slots   slots    // placeholders that take a whole segment
	affixed []around // those with text around them, in order of the length of the text before
	ends    list
	rest    list // rules whose last placeholder takes what is left
}

// slots has one edge for each kind of placeholder.
type slots struct {
	any, digits *node
	values      map[string][]*node // oneOf: by each of the values
	sets        map[string]*node   // oneOf: by all of the values; for building
}

// around has the placeholders whose text before has one length, by that text.
type around struct {
	length int
	before map[string]*afters
}

// afters has, for one text before, those whose text after has one length, by that text.
type afters struct {
	lengths []int
	after   map[string]*slots
}

// list has the rules of one node, each by its number.
type list struct {
	plain   []int32
	queries []byQuery
}

// byQuery has the rules that ask for a value of one parameter.
type byQuery struct {
	name   string
	values map[string][]int32
}

// none is greater than the number of any rule.
const none = int32(1<<31 - 1)

func newNode() *node { return &node{least: none, only: -1} }

func newTree(rules []Rule, has func(Verb) bool) *tree {
	t := &tree{root: newNode(), rules: rules}
	for i := range rules {
		if has(rules[i].Verb) {
			t.insert(t.root, 0, int32(i))
		}
	}
	return t
}

// insert puts a rule below a node to which depth segments of its pattern lead.
func (t *tree) insert(at *node, depth int, number int32) {
	if at.least == none {
		at.least, at.only = number, number
		return
	}
	at.least = min(at.least, number)
	if other := at.only; other >= 0 {
		at.only = -1
		t.place(at, depth, other)
	}
	t.place(at, depth, number)
}

// place puts a rule at a node with edges, or behind one of them.
func (t *tree) place(at *node, depth int, number int32) {
	rule := &t.rules[number]
	switch {
	case depth < len(rule.Pattern.segments):
		t.insert(at.child(&rule.Pattern.segments[depth]), depth+1, number)
	case rule.Pattern.hasAll:
		at.rest.add(number, rule)
	default:
		at.ends.add(number, rule)
	}
}

// child returns the node that an edge leads to, and makes it the first time.
func (n *node) child(s *segment) *node {
	if s.slot == nil {
		next := n.literal[s.before]
		if next == nil {
			if n.literal == nil {
				n.literal = map[string]*node{}
			}
			next = newNode()
			n.literal[s.before] = next
		}
		return next
	}
	in := &n.slots
	if s.before != "" || s.after != "" {
		in = n.between(s.before, s.after)
	}
	make1 := func(to **node) *node {
		if *to == nil {
			*to = newNode()
		}
		return *to
	}
	switch s.slot.kind {
	case digits:
		return make1(&in.digits)
	case oneOf:
		key := strings.Join(s.slot.values, "\x00")
		if in.sets[key] == nil {
			if in.sets == nil {
				in.sets, in.values = map[string]*node{}, map[string][]*node{}
			}
			next := newNode()
			in.sets[key] = next
			for _, value := range s.slot.values {
				in.values[value] = append(in.values[value], next)
			}
		}
		return in.sets[key]
	}
	return make1(&in.any)
}

// between returns the placeholders with the given text before and after.
func (n *node) between(before, after string) *slots {
	at, found := slices.BinarySearchFunc(n.affixed, len(before), func(a around, length int) int { return a.length - length })
	if !found {
		n.affixed = slices.Insert(n.affixed, at, around{length: len(before), before: map[string]*afters{}})
	}
	group := n.affixed[at].before[before]
	if group == nil {
		group = &afters{after: map[string]*slots{}}
		n.affixed[at].before[before] = group
	}
	in := group.after[after]
	if in == nil {
		in = &slots{}
		group.after[after] = in
		if at, found := slices.BinarySearch(group.lengths, len(after)); !found {
			group.lengths = slices.Insert(group.lengths, at, len(after))
		}
	}
	return in
}

// add puts a rule where its query leads to it, or among the plain ones.
func (l *list) add(number int32, rule *Rule) {
	for i := range rule.When {
		c := &rule.When[i]
		if c.Kind != ByQuery || c.Not || c.Values == nil {
			continue
		}
		at := slices.IndexFunc(l.queries, func(q byQuery) bool { return q.name == c.Name })
		if at < 0 {
			at = len(l.queries)
			l.queries = append(l.queries, byQuery{c.Name, map[string][]int32{}})
		}
		for _, value := range c.Values {
			l.queries[at].values[value] = append(l.queries[at].values[value], number)
		}
		return
	}
	l.plain = append(l.plain, number)
}

// item is what waits in the heap: a node to go on from, or rules that match.
type item struct {
	number int32 // of the next rule that may come of it; of a rule that matches, itself
	depth  int32
	node   *node   // nil for rules that match
	more   []int32 // the rules of the same list that follow
}

// each yields the rules whose pattern takes a path, in their order, until yield returns false. Those that ask for another value
// of a parameter than the query has are left out, unless every is set.
func (t *tree) each(names []string, query *address.Query, every bool, yield func(*Rule) bool) {
	if t.root.least == none {
		return
	}
	var room [4]item
	w := walk{heap: append(room[:0], item{number: t.root.least, node: t.root}), rules: t.rules, names: names, query: query, every: every}
	for last := none; len(w.heap) > 0; {
		top := w.pop()
		if top.node != nil {
			w.expand(top.node, int(top.depth))
			continue
		}
		if top.number != last { // with every, a rule is found by each of its values
			if last = top.number; !yield(&t.rules[last]) {
				return
			}
		}
		w.matches(top.more)
	}
}

type walk struct {
	heap  []item
	rules []Rule
	names []string
	query *address.Query
	every bool
}

func (w *walk) expand(n *node, depth int) {
	if n.only >= 0 {
		if w.rules[n.only].Pattern.takesFrom(depth, w.names) {
			w.push(item{number: n.only})
		}
		return
	}
	w.list(&n.rest)
	if depth == len(w.names) {
		w.list(&n.ends)
		return
	}
	name := w.names[depth]
	if next := n.literal[name]; next != nil {
		w.node(next, depth+1)
	}
	w.slots(&n.slots, name, depth)
	for i := range n.affixed {
		group := &n.affixed[i]
		if group.length >= len(name) {
			break
		}
		found := group.before[name[:group.length]]
		if found == nil {
			continue
		}
		for _, length := range found.lengths {
			if group.length+length >= len(name) {
				break
			}
			if in := found.after[name[len(name)-length:]]; in != nil {
				w.slots(in, name[group.length:len(name)-length], depth)
			}
		}
	}
}

func (w *walk) slots(in *slots, value string, depth int) {
	if in.any != nil {
		w.node(in.any, depth+1)
	}
	if in.digits != nil && strings.Trim(value, "0123456789") == "" {
		w.node(in.digits, depth+1)
	}
	for _, next := range in.values[value] {
		w.node(next, depth+1)
	}
}

func (w *walk) node(n *node, depth int) {
	w.push(item{number: n.least, node: n, depth: int32(depth)})
}

func (w *walk) list(l *list) {
	w.matches(l.plain)
	for i := range l.queries {
		if w.every {
			for _, matches := range l.queries[i].values {
				w.matches(matches)
			}
		} else if value, ok := w.query.First(l.queries[i].name); ok {
			w.matches(l.queries[i].values[value])
		}
	}
}

func (w *walk) matches(list []int32) {
	if len(list) > 0 {
		w.push(item{number: list[0], more: list[1:]})
	}
}

// push and pop keep the heap, the lowest number on top.
func (w *walk) push(x item) {
	w.heap = append(w.heap, x)
	for i := len(w.heap) - 1; i > 0; {
		parent := (i - 1) / 2
		if w.heap[parent].number <= w.heap[i].number {
			break
		}
		w.heap[parent], w.heap[i] = w.heap[i], w.heap[parent]
		i = parent
	}
}

func (w *walk) pop() item {
	top, last := w.heap[0], len(w.heap)-1
	w.heap[0] = w.heap[last]
	w.heap = w.heap[:last]
	for i := 0; ; {
		least := i
		for child := 2*i + 1; child <= 2*i+2 && child < last; child++ {
			if w.heap[child].number < w.heap[least].number {
				least = child
			}
		}
		if least == i {
			return top
		}
		w.heap[i], w.heap[least] = w.heap[least], w.heap[i]
		i = least
	}
}
