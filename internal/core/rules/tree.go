package rules

import (
	"hash/maphash"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
)

// A tree finds the rules whose pattern takes a path. Its edges are segments:
//
//	redirect /news/{year:digits}/{slug}        1        (root) -news-> a -digits-> rule 1
//	redirect /news/{year:digits}/{m}/{slug}    2                        a -digits-> b -any-> ...
//	redirect /shop/{rest:all}                  3        (root) -shop-> rule 3
//	redirect /old/page-7                       4        no edges: found by the hash of the whole path
//
// The hard case is many rules with a placeholder in the same place, or a path
// that several branches take. A node has one edge for all placeholders of a
// kind, so ten thousand rules with {x} in the same place share it. Live
// branches wait in a heap, ordered by the lowest number of a rule below them,
// and the branch with the lowest goes on first: rules come out in their order,
// and what lies behind the one that applies is never looked at.
//
// What costs time among a hundred thousand rules is memory that no cache holds.
// So all edges lie in one table of hashes, of which a match reads one line for
// each segment; a branch with one rule is that rule, and what is left of its
// pattern is compared only if it is more than placeholders; and rules on one
// path that ask for query NAME=VALUE are found by the value, in the same table.
//
// A hash is 64 bits with a seed of its own. Should two texts ever share one, a
// rule is considered that does not match, and Try finds that out.
type tree struct {
	rules []Rule
	seed  maphash.Seed
	table []entry // open addressing; its length is a power of two
	used  int
	nodes []node
	lists []list
	size  int // how many rules there are

	around []uint64 // while the tree is built: the keys of all texts around placeholders
	// bits of those, few enough to stay in a cache: of
	// several lengths, most texts are not there
	bloom []uint64
}

// entry is what a hash leads to.
type entry struct {
	key uint64
	to  edge
}

// edge leads to a node, to a list of rules, or to one rule
// with what is left of its pattern.
type edge struct {
	kind edgeKind
	// of a rule: how many plain placeholders are left, twice, and one more if
	// all that follows is taken; compare to compare
	rest  uint16
	index int32
}

// edgeKind says where an edge leads.
type edgeKind uint8

const (
	nowhere edgeKind = iota
	toNode
	toList
	toRule
)

// compare says that what is left of a pattern has to be compared.
const compare = 1<<16 - 1

// node is where several rules go on.
type node struct {
	least       int32 // the lowest number of a rule at or below the node
	any, digits edge
	around      []around // the lengths of text around placeholders
	oneOf       bool     // there are placeholders that are one of several
	ends, rest  edge     // rules that end here, and those that take what is left
}

// around is how long the text before and after a placeholder is.
type around struct{ before, after int }

// list has the rules of one place, each by its number.
type list struct {
	plain []int32
	names []string // of parameters, by whose values further rules are found
	all   []int32  // those too; nil if there are none
}

// none is greater than the number of any rule.
const none = int32(1<<31 - 1)

// What a hash is of, besides texts.
const (
	ofPath uint64 = iota + 1
	ofSegment
	ofOneOf
	ofAround
	ofValue
)

// about tells the hashes of one kind at one place from all
// others: no two have the same number.
func about(what uint64, index int32, sub int) uint64 {
	return what<<60 | uint64(sub)<<32 | uint64(uint32(index))
}

// mix joins two hashes; the order of the two matters. The constant is the
// golden ratio in 64 bits (Knuth, The Art of Computer Programming 3, section
// 6.4).
func mix(a, b uint64) uint64 {
	a = (a ^ b) * 0x9e3779b97f4a7c15
	return a ^ a>>29
}

// newTree returns the tree of the rules for which has reports true.
func newTree(rules []Rule, has func(Verb) bool) *tree {
	t := &tree{rules: rules, seed: maphash.MakeSeed(), table: make([]entry, 8)}
	// Most rules of most sites are redirects of one path. They need no edges:
	// one hash of the whole path finds them, however deep it is.
	exact := map[string][]int32{}
	var order []string
	root := &growing{}
	for i := range rules {
		if !has(rules[i].Verb) {
			continue
		}
		t.size++

		if pattern := &rules[i].Pattern; pattern.IsLiteral() {
			path := strings.Join(pattern.Literal(), "\x00")
			if exact[path] == nil {
				order = append(order, path)
			}
			exact[path] = append(exact[path], int32(i))
		} else {
			root.insert(rules, 0, int32(i))
		}
	}

	// In the order of the rules and not of the map, so that a tree of the same
	// rules has the same shape each time.
	for _, path := range order {
		names := []string{}
		if path != "" {
			names = strings.Split(path, "\x00")
		}
		_, whole := t.hashes(names, nil)
		t.put(mix(about(ofPath, 0, 0), whole), t.listOf(exact[path]))
	}

	if root.least != 0 {
		t.nodes = append(t.nodes, node{})
		t.settle(root.expanded(rules), 0, 0)
	}
	t.fillBloom()
	return t
}

// fillBloom sets the bits of the filter, of which there are at
// least 16 for each text.
func (t *tree) fillBloom() {
	// Two bits for each text in sixteen: about one text in a hundred that is
	// not there is looked up in vain.
	words := 1
	for words*4 < len(t.around) {
		words *= 2
	}
	t.bloom = make([]uint64, words)
	for _, key := range t.around {
		t.bloom[key>>6&uint64(words-1)] |= 1<<(key&63) | 1<<(key>>32&63)
	}
	t.around = nil
}

// mayHave reports whether a text around a placeholder may be
// there; false is sure.
func (t *tree) mayHave(key uint64) bool {
	bits := uint64(1)<<(key&63) | 1<<(key>>32&63)
	return t.bloom[key>>6&uint64(len(t.bloom)-1)]&bits == bits
}

// growing is a node while the tree is built.
type growing struct {
	least      int32 // one more than the lowest number of a rule; 0 for a fresh node
	only       *int32
	depth      int
	literal    map[string]*growing
	slots      map[slotKey]*growing
	keys       []string  // of literal, in order
	slotKeys   []slotKey // of slots, in order
	ends, rest []int32
}

// slotKey tells one placeholder of a node from another.
type slotKey struct {
	before, after string
	kind          kind
	values        string
}

// insert puts a rule below a node to which depth segments of its pattern lead.
func (g *growing) insert(rules []Rule, depth int, number int32) {
	if g.least == 0 {
		g.least, g.only, g.depth = number+1, &number, depth
		return
	}
	g.least = min(g.least, number+1)
	g.expanded(rules).place(rules, depth, number)
}

// expanded gives a node with one rule edges.
func (g *growing) expanded(rules []Rule) *growing {
	if other := g.only; other != nil {
		g.only = nil
		g.place(rules, g.depth, *other)
	}
	return g
}

// place puts a rule at a node with edges, or behind one of them.
func (g *growing) place(rules []Rule, depth int, number int32) {
	pattern := &rules[number].Pattern
	if depth == len(pattern.segments) {
		if pattern.hasAll {
			g.rest = append(g.rest, number)
		} else {
			g.ends = append(g.ends, number)
		}
		return
	}

	var next *growing
	// Maps find an edge again; the slices beside them keep the order in which
	// edges came.
	if s := &pattern.segments[depth]; s.slot == nil {
		if next = g.literal[s.before]; next == nil {
			if g.literal == nil {
				g.literal = map[string]*growing{}
			}
			next = &growing{}
			g.literal[s.before] = next
			g.keys = append(g.keys, s.before)
		}
	} else {
		key := slotKey{s.before, s.after, s.slot.kind, strings.Join(s.slot.values, "\x00")}
		if next = g.slots[key]; next == nil {
			if g.slots == nil {
				g.slots = map[slotKey]*growing{}
			}
			next = &growing{}
			g.slots[key] = next
			g.slotKeys = append(g.slotKeys, key)
		}
	}
	next.insert(rules, depth+1, number)
}

// settle writes a node, and all below it, to the place that was kept for it.
func (t *tree) settle(g *growing, index int32, depth int) {
	n := node{least: g.least - 1, ends: t.listOf(g.ends), rest: t.listOf(g.rest)}
	if n.rest.kind == toRule {
		n.rest.rest = 1 // it takes whatever is left
	}
	// Literal segments: the key is the place and the hash of the text.
	for _, name := range g.keys {
		t.put(mix(about(ofSegment, index, 0), t.hash(name)), t.edgeTo(g.literal[name], depth+1))
	}

	for _, key := range g.slotKeys {
		to := t.edgeTo(g.slots[key], depth+1)
		switch plain := key.before == "" && key.after == ""; {
		case plain && key.kind == anything:
			n.any = to
		case plain && key.kind == digits:
			n.digits = to
		case plain:
			n.oneOf = true
			for value := range strings.SplitSeq(key.values, "\x00") {
				t.put(mix(about(ofOneOf, index, 0), t.hash(value)), to)
			}
		default:
			// Text around a placeholder: of map-{id}.pdf the request's segment
			// is cut at both lengths, and the hashes of what is cut off are the
			// key. So a node has to try each pair of lengths, but not each
			// pattern.
			lengths := around{len(key.before), len(key.after)}
			if !slices.Contains(n.around, lengths) {
				n.around = append(n.around, lengths)
			}
			switch {
			case to.kind == toNode:
				to = t.narrowed(to, key)
			case key.kind != anything:
				to.rest = compare
			}
			around := t.aroundKey(index, t.hash(key.before), t.hash(key.after))
			t.around = append(t.around, around)
			t.put(around, to)
		}
	}
	t.nodes[index] = n
}

// narrowed puts a node between text around a placeholder and where it leads,
// which looks at what the placeholder may be.
func (t *tree) narrowed(to edge, key slotKey) edge {
	if key.kind == anything {
		return to
	}
	index := int32(len(t.nodes))
	n := node{least: t.nodes[to.index].least}

	if key.kind == digits {
		n.digits = to
	} else {
		n.oneOf = true
		for value := range strings.SplitSeq(key.values, "\x00") {
			t.put(mix(about(ofOneOf, index, 0), t.hash(value)), to)
		}
	}
	t.nodes = append(t.nodes, n)
	return edge{kind: toNode, rest: 1, index: index} // rest tells that no segment was taken yet
}

// aroundKey is the key of the edge for text around a placeholder, of which only
// the hashes are known.
func (t *tree) aroundKey(index int32, before, after uint64) uint64 {
	return mix(mix(about(ofAround, index, 0), before), after)
}

// edgeTo returns the edge to what lies behind a segment.
func (t *tree) edgeTo(g *growing, depth int) edge {
	if g.only != nil {
		return edge{kind: toRule, rest: t.restOf(*g.only, depth), index: *g.only}
	}
	index := int32(len(t.nodes))
	t.nodes = append(t.nodes, node{})
	t.settle(g, index, depth)
	return edge{kind: toNode, index: index}
}

// restOf says what is left of the pattern of a rule behind some segments.
func (t *tree) restOf(number int32, depth int) uint16 {
	pattern := &t.rules[number].Pattern
	left := pattern.segments[depth:]
	for i := range left {
		if s := &left[i]; s.slot == nil || s.slot.kind != anything || s.before != "" || s.after != "" {
			return compare
		}
	}

	if len(left) > 1000 {
		return compare
	}
	rest := uint16(2 * len(left))
	if pattern.hasAll {
		rest++
	}
	return rest
}

// listOf keeps the rules of one place, with those that ask for a value of a
// parameter behind the value.
func (t *tree) listOf(numbers []int32) edge {
	switch len(numbers) {
	case 0:
		return edge{}
	case 1:
		return edge{kind: toRule, index: numbers[0]}
	}

	index := len(t.lists)
	t.lists = append(t.lists, list{})
	var l list
	// Ten thousand pages of an old program are one path with ten thousand
	// values: boat.php?id=7. A list that was tried one after another would make
	// each of them slow.
	byValue := map[uint64][]int32{}
	var keys []uint64
	for _, number := range numbers {
		c := asksValue(&t.rules[number])
		if c == nil {
			l.plain = append(l.plain, number)
			continue
		}

		at := slices.Index(l.names, c.Name)
		if at < 0 {
			at = len(l.names)
			l.names = append(l.names, c.Name)
		}

		for _, value := range c.Values {
			key := t.valueKey(int32(index), at, value)
			if byValue[key] == nil {
				keys = append(keys, key)
			}
			byValue[key] = append(byValue[key], number)
		}
	}

	// Whoever asks about the rules, and not for a page, needs them all.
	if len(l.names) > 0 {
		l.all = numbers
	}
	t.lists[index] = l

	// Rules that ask for the same value stay a list, in their order.
	for _, key := range keys {
		to := edge{kind: toRule, index: byValue[key][0]}
		if len(byValue[key]) > 1 {
			to = edge{kind: toList, index: int32(len(t.lists))}
			t.lists = append(t.lists, list{plain: byValue[key]})
		}
		t.put(key, to)
	}

	return edge{kind: toList, index: int32(index)}
}

// asksValue returns the first condition of a rule that
// asks for a value of a parameter, or nil.
func asksValue(r *Rule) *Condition {
	for i := range r.When {
		if c := &r.When[i]; c.Kind == ByQuery && !c.Not && c.Values != nil {
			return c
		}
	}
	return nil
}

// valueKey is the key of the edge for the value of a parameter.
func (t *tree) valueKey(index int32, name int, value string) uint64 {
	return mix(about(ofValue, index, name), t.hash(value))
}

// hash hashes a text. The seed differs from process to process, so that nobody
// can choose paths that collide.
func (t *tree) hash(text string) uint64 { return maphash.String(t.seed, text) }

// hashes returns the hash of each segment of a path, and of the whole.
func (t *tree) hashes(names []string, into []uint64) (each []uint64, whole uint64) {
	for _, name := range names {
		h := t.hash(name)
		into = append(into, h)
		whole = mix(whole+1, h)
	}
	return into, whole
}

// put adds an entry. A key may be there several times.
func (t *tree) put(key uint64, to edge) {
	// At most half full, so that a look ends after two lines of the cache on
	// average.
	if t.used++; t.used*2 > len(t.table) {
		old := t.table
		t.table = make([]entry, 2*len(old))
		for _, e := range old {
			if e.to.kind != nowhere {
				t.place(e)
			}
		}
	}
	t.place(entry{key, to})
}

// place puts an edge into the table, in the next free place after its own (open
// addressing, linear probing).
func (t *tree) place(e entry) {
	mask := uint64(len(t.table) - 1)
	at := e.key & mask
	for t.table[at].to.kind != nowhere {
		at = (at + 1) & mask
	}
	t.table[at] = e
}

// item is what waits in the heap: a node to go on from, or rules that match.
type item struct {
	number int32 // of the next rule that may come of it; of a rule that matches, itself
	node   int32 // -1 for rules that match
	depth  int32
	part   bool    // of a node: it looks at what a placeholder may be, between from and to of the segment
	from   int32   // see part
	to     int32   // see part
	more   []int32 // the rules of the same list that follow
}

// each yields the rules whose pattern takes a path, in their order, until yield
// returns false. Those that ask for another value of a parameter than the query
// has are left out, unless every is set.
func (t *tree) each(names []string, query *address.Query, every bool, yield func(*Rule) bool) {
	if t.size == 0 {
		return
	}
	// On the stack: a request that few branches take allocates nothing.
	var room [4]item
	var hashes [12]uint64
	w := walk{tree: t, heap: room[:0], names: names, query: query, every: every}
	var whole uint64
	w.hashes, whole = t.hashes(names, hashes[:0])
	w.follow(mix(about(ofPath, 0, 0), whole), len(names))
	if len(t.nodes) > 0 {
		w.push(item{number: t.nodes[0].least})
	}

	// The top of the heap has the lowest number that may still come. Once that
	// is a rule that matches, no other one can come before it.
	for last := none; len(w.heap) > 0; {
		top := w.pop()
		if top.node >= 0 {
			w.expand(&top)
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

// walk is one request on its way through the tree. What may still match lies in
// a heap, the lowest rule number on top.
type walk struct {
	*tree
	heap   []item
	names  []string
	hashes []uint64
	query  *address.Query
	every  bool
}

// expand puts what an item leads to into the heap.
func (w *walk) expand(x *item) {
	n, depth := &w.nodes[x.node], int(x.depth)
	if x.part {
		w.slots(n, x.node, w.names[depth][x.from:x.to], 0, depth)
		return
	}

	w.edge(n.rest, depth)
	if depth == len(w.names) {
		w.edge(n.ends, depth)
		return
	}

	name := w.names[depth]
	w.follow(mix(about(ofSegment, x.node, 0), w.hashes[depth]), depth+1)
	w.slots(n, x.node, name, w.hashes[depth], depth)
	length, after := -1, uint64(0) // of the text after, which is the same for most
	for _, lengths := range n.around {
		if lengths.before+lengths.after >= len(name) {
			continue
		}
		if lengths.after != length {
			length, after = lengths.after, w.hash(name[len(name)-lengths.after:])
		}

		if key := w.aroundKey(x.node, w.hash(name[:lengths.before]), after); w.mayHave(key) {
			w.narrow(key, depth, lengths.before, len(name)-lengths.after)
		}
	}
}

// slots goes along the edges of placeholders that take a
// text; hash is its hash, or 0 to be found.
func (w *walk) slots(n *node, index int32, value string, hash uint64, depth int) {
	w.edge(n.any, depth+1)
	if n.digits.kind != nowhere && strings.Trim(value, "0123456789") == "" {
		w.edge(n.digits, depth+1)
	}
	if n.oneOf {
		if hash == 0 {
			hash = w.hash(value)
		}
		w.follow(mix(about(ofOneOf, index, 0), hash), depth+1)
	}
}

// follow goes along all edges of a key.
func (w *walk) follow(key uint64, depth int) {
	mask := uint64(len(w.table) - 1)
	for at := key & mask; w.table[at].to.kind != nowhere; at = (at + 1) & mask {
		if w.table[at].key == key {
			w.edge(w.table[at].to, depth)
		}
	}
}

// narrow goes along the edges of a placeholder with text around it, which takes
// the segment from one byte to another.
func (w *walk) narrow(key uint64, depth, from, to int) {
	mask := uint64(len(w.table) - 1)
	for at := key & mask; w.table[at].to.kind != nowhere; at = (at + 1) & mask {
		if w.table[at].key != key {
			continue
		}
		switch e := w.table[at].to; {
		case e.kind == toNode && e.rest == 1:
			w.push(item{number: w.nodes[e.index].least, node: e.index, depth: int32(depth), part: true,
				from: int32(from), to: int32(to)})
		case e.kind == toRule && e.rest == compare:
			if w.rules[e.index].Pattern.takesFrom(depth, w.names) {
				w.matched(e.index)
			}
		default:
			w.edge(e, depth+1)
		}
	}
}

// edge goes along one edge, which takes the path up to depth.
func (w *walk) edge(e edge, depth int) {
	switch e.kind {
	case toNode:
		w.push(item{number: w.nodes[e.index].least, node: e.index, depth: int32(depth)})
	case toList:
		w.list(e.index)
	case toRule:
		left, plain := len(w.names)-depth, int(e.rest>>1)
		switch {
		case e.rest == compare:
			if !w.rules[e.index].Pattern.takesFrom(depth, w.names) {
				return
			}
		case left < plain || left > plain && e.rest&1 == 0:
			return
		}
		w.matched(e.index)
	}
}

// matched puts a rule that matches into the heap, where it waits for its turn.
func (w *walk) matched(number int32) { w.push(item{number: number, node: -1}) }

// list puts the rules that end at a node into the heap: those without a
// parameter, and of those with one only the ones whose value the request has.
func (w *walk) list(index int32) {
	l := &w.lists[index]
	if w.every && l.all != nil {
		w.matches(l.all)
		return
	}

	w.matches(l.plain)
	for i, name := range l.names {
		if value, ok := w.query.First(name); ok {
			w.follow(w.valueKey(index, i, value), len(w.names))
		}
	}
}

// matches puts the first of several rules into the heap; the others follow when
// it is taken out.
func (w *walk) matches(list []int32) {
	if len(list) > 0 {
		w.push(item{number: list[0], node: -1, more: list[1:]})
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

// pop takes the item with the lowest rule number out of the heap.
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
