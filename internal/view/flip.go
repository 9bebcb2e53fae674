package view

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/edge"
)

// What nodes say is shown in three places: below a deploy, where only who is late or in trouble
// needs a word, in orilla edge list, which has all of it, and in JSON, which has the same
// everywhere. A node that is not known is listed wherever nodes are, and counted nowhere: what
// it says may be what somebody wants to be believed.

// Flip is how far an entry has got at the edge nodes.
type Flip struct {
	Nodes   []edge.Presence // that can be called from here, and whose word counts
	Serving int             // how many of these serve the entry, or a later one
	Each    []NodeReport    // all nodes of the store
}

// NodeReport is what an edge node says of itself.
type NodeReport struct {
	Node    string `json:"node"`
	Address string `json:"address"`
	Region  string `json:"region,omitempty"`
	Version string `json:"version,omitempty"`
	State   string `json:"state,omitempty"` // left out where it was not asked, or did not answer
	// Since is when the store last answered, of a node that is without it.
	Since *time.Time `json:"since,omitempty"`
	// Known tells that the node signs with the key that is known of it: what others say counts
	// for nothing.
	Known bool `json:"known"`
	// Serves are the entries that it serves, by environment.
	Serves map[string]string `json:"serves,omitempty"`
	// Milliseconds is how long it took until the node confirmed; 0 if it did not.
	Milliseconds float64     `json:"milliseconds,omitempty"`
	Cache        *wake.Cache `json:"cache,omitempty"`
	PublicKey    string      `json:"public_key,omitempty"`
	Why          string      `json:"why,omitempty"` // what is wrong with it

	Unknown bool `json:"-"` // it answered, and nobody knows it
}

// ReportNode reports what a node said.
func ReportNode(c edge.Confirmed) NodeReport {
	n := NodeReport{Node: c.Node.Node, Address: c.Node.Address, Region: c.Node.Region,
		Version: c.Node.Version, PublicKey: c.Node.PublicKey, Known: c.Known}
	switch {
	case c.Err != nil && !c.Node.FromHere():
		n.Why = "it cannot be asked from this machine"
	case c.Err != nil && c.Node.PublicKey == "":
		n.Why = "it is of an early version, which cannot be called"
	case errors.Is(c.Err, edge.ErrElsewhere):
		n.Why = c.Err.Error()
	case c.Silent():
		n.Why = "it does not answer"
	case c.Err != nil:
		n.Why = "it does not answer: " + plainly(c.Err)
	case !c.Known:
		n.Why, n.Unknown = "unknown: it does not sign with a key that is known of it", true
	default:
		n.State, n.Since, n.Cache = c.Said.State, c.Said.Since, c.Said.Cache
		n.Serves = map[string]string{}
		for name, there := range c.Said.Serves {
			n.Serves[journal.DisplayName(name)] = fmt.Sprintf("%s:%d", journal.DisplayName(name), there.Entry)
			if there.Why != "" {
				n.Why = there.Why
			}
		}
		if n.State == string(edge.WithoutStore) && n.Why == "" {
			n.Why = "its store does not answer"
		}
	}
	return n
}

// plainly takes out of an error of HTTP what was asked where: the line names the node.
func plainly(err error) string {
	text := err.Error()
	if _, rest, ok := strings.Cut(text, wake.Path+`": `); ok {
		text = rest
	}
	return text
}

// NewFlip counts who serves an entry. Nodes of early versions count as far as they could be
// asked as visitors ask.
func NewFlip(list []edge.Confirmed, entry journal.Entry) (f Flip) {
	for _, c := range list {
		report := ReportNode(c)
		serves := c.Serves(entry)
		if serves {
			report.Milliseconds = float64(c.Took.Microseconds()) / 1000
		}
		f.Each = append(f.Each, report)
		if !c.Node.FromHere() || c.Err == nil && !c.Known {
			continue
		}
		f.Nodes = append(f.Nodes, c.Node)
		if serves {
			f.Serving++
		}
	}
	return f
}

// Text tells how many edge nodes serve an entry, and after what time; 0 for not.
func (f Flip) Text(took time.Duration) string {
	in := ""
	if took > 0 {
		in = " in " + console.Took(took)
	}
	switch {
	case len(f.Nodes) == 0:
		return " is recorded; no edge node serves it yet"
	case f.Serving == len(f.Nodes) && f.Serving == 1:
		return " at the edge node" + in
	case f.Serving == len(f.Nodes):
		return fmt.Sprintf(" at all %d edge nodes%s", f.Serving, in)
	}
	return fmt.Sprintf(" at %d of %d edge nodes; the others will follow", f.Serving, len(f.Nodes))
}

// shownNodes is how many nodes get a line of their own.
const shownNodes = 8

// Print lists what each node says, if there is more than one, or something is wrong: those
// that do not serve the entry first.
func (f Flip) Print(c *console.Console) {
	late := func(n NodeReport) int {
		if n.Milliseconds > 0 {
			return 1
		}
		return 0
	}
	each := slices.Clone(f.Each)
	slices.SortStableFunc(each, func(a, b NodeReport) int { return late(a) - late(b) })
	if len(each) < 2 && (len(each) == 0 || each[0].Why == "") {
		return
	}
	wide, region := 0, 0
	for _, n := range each[:min(len(each), shownNodes)] {
		wide, region = max(wide, len(n.Node)), max(region, len(n.Region))
	}
	for i, n := range each {
		if i == shownNodes {
			c.Note("%s", console.Faint(fmt.Sprintf("            and %d more: orilla edge list", len(each)-i)))
			return
		}
		label := ""
		if i == 0 {
			label = "nodes"
		}
		c.Row(c.Err, label, n.line(wide, region))
	}
}

// line says how a node is doing, below others whose names and regions are so wide.
func (n NodeReport) line(wide, region int) string {
	text := fmt.Sprintf("%-*s", wide, n.Node)
	if region > 0 {
		text += fmt.Sprintf("  %-*s", region, n.Region)
	}
	switch {
	case n.Milliseconds > 0:
		text += "  " + console.Good(console.Took(time.Duration(n.Milliseconds*float64(time.Millisecond))))
		if n.Why != "" {
			text += "  " + console.Warn(n.Why)
		}
	case n.Why != "":
		text += "  " + console.Warn(n.Why)
	default:
		text += "  " + console.Warn("not yet")
	}
	return text
}

// PrintNodes lists the edge nodes of a store: what each serves of a site, how its cache and
// its store are, and what is wrong. Without a site nothing is known of what they serve.
func PrintNodes(c *console.Console, list []NodeReport, environments []string) {
	if len(list) == 0 {
		c.Note("no edge node is running; to start one on this machine: %s", c.Command("orilla edge"))
		return
	}
	head := []string{"NODE", "ADDRESS", "REGION", "VERSION", "STATE", "CACHE"}
	for _, name := range environments {
		head = append(head, strings.ToUpper(name))
	}
	rows := [][]string{head}
	for _, n := range list {
		state := console.Good(n.State)
		switch {
		case n.State == "" && n.Unknown:
			state = console.Bad("unknown")
		case n.State == "":
			state = console.Warn("silent")
		case n.State != string(edge.Ready):
			state = console.Warn(strings.ReplaceAll(n.State, "-", " "))
		}
		cache := console.Faint("none")
		if n.Cache != nil {
			cache = console.Size(n.Cache.Bytes) + console.Faint(" of "+console.Size(n.Cache.Most))
		}
		if n.State == "" {
			cache = ""
		}
		row := []string{console.Strong(n.Node), n.Address, n.Region, n.Version, state, cache}
		for _, name := range environments {
			row = append(row, n.Serves[name])
		}
		rows = append(rows, row)
	}
	c.Table(rows)
	for _, n := range list {
		if n.Why != "" {
			c.Note("%s %s", console.Warn(n.Node+":"), n.Why)
		}
	}
}
