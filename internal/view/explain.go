package view

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/dictionary"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/httpanswer"
)

// StatusText colours a status code (RFC 9110, section 15) by its class.
func StatusText(status int) string {
	text := fmt.Sprint(status)
	switch {
	case status >= 500:
		return console.Bad(text)
	case status >= 400:
		return console.Warn(text)
	}
	return console.Good(text)
}

// ShowExplained writes an answer from the outside in: the status line a browser
// gets, the fields with who set each, and then the rules that were tried. at is
// the moment it was asked for, if not now.
func ShowExplained(c *console.Console, r ExplainReport, at string) {
	about := "on " + r.On
	if r.Environment != "" {
		about = "as " + r.Environment + ", " + about
	}
	if at != "" {
		about += ", at " + at
	}
	c.Print("%s %s  %s", r.Method, console.Strong(r.Address), console.Faint(about))
	c.Print("%s %s", r.status(), console.Strong(r.summary()))
	if r.Rule != "" {
		c.Print("  %s", console.Accent(r.Rule))
	}

	c.Print("")
	c.Print("%s", console.Faint("how"))
	for _, step := range r.Steps {
		mark := console.Faint("·")
		if step.Applied {
			mark = console.Good("✓")
		}
		if step.Rule == "" {
			c.Print("  %s %s", mark, step.Text)
			continue
		}

		c.Print("  %s %s  %s", mark, console.Accent(step.At), step.Rule)
		if !strings.HasSuffix(step.Rule, step.Text) { // what a header rule sets is there to read already
			c.Print("      %s", console.Faint(step.Text))
		}
	}

	width := 0
	for _, field := range r.Header {
		width = max(width, len(field.Name))
	}
	if len(r.Header) > 0 {
		c.Print("")
		c.Print("%s", console.Faint("header"))
	}
	for _, field := range r.Header {
		by := ""
		if field.Rule != "" {
			by = "   " + console.Accent(field.Rule)
		}
		c.Print("  %-*s  %s%s", width, field.Name, field.Value, by)
	}

	if r.Live != nil {
		c.Print("")
		showLive(c, r)
	}
	if r.Next != "" {
		c.Print("")
		c.Print("%s %s", console.Accent("next:"), c.Complete(r.Next))
	}
}

// ExplainReport is what explain prints with --json; with -
// one such document a line.
type ExplainReport struct {
	Address     string        `json:"address"`
	Method      string        `json:"method"`
	Environment string        `json:"environment"`
	On          string        `json:"on"`
	Status      int           `json:"status"`
	By          string        `json:"by"`
	File        string        `json:"file,omitempty"`
	Location    string        `json:"location,omitempty"`
	Upstream    string        `json:"upstream,omitempty"`
	Rule        string        `json:"rule,omitempty"` // its place, and it
	Steps       []StepReport  `json:"steps"`
	Header      []FieldReport `json:"header"`
	Live        *LiveReport   `json:"live,omitempty"`
	Next        string        `json:"next,omitempty"` // what to do about an address that is not found
	Answer      answer.Answer `json:"-"`
}

// status is the status code, or that an upstream decides it.
func (r ExplainReport) status() string {
	if r.Upstream != "" {
		return console.Accent("passed on")
	}
	return StatusText(r.Status)
}

// summary says an answer in a few words.
func (r ExplainReport) summary() string {
	switch {
	case r.Upstream != "":
		return "-> " + r.Upstream
	case r.Location != "":
		return "-> " + r.Location
	case r.File != "":
		return r.File
	}
	return r.By
}

// StepReport is one rule that was tried, and why it did or did not apply.
type StepReport struct {
	Applied bool   `json:"applied"`
	Rule    string `json:"rule,omitempty"`
	At      string `json:"at,omitempty"`
	Text    string `json:"text"`
}

// FieldReport is one field of an answer.
type FieldReport struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Rule  string `json:"rule,omitempty"` // the place of the rule that set it
}

// OneLine is the answer to one address of a list.
func OneLine(r ExplainReport) string {
	line := fmt.Sprintf("%s  %s  %s", r.status(), r.Address, console.Faint(r.summary()))
	if r.Rule != "" {
		place, _, _ := strings.Cut(r.Rule, "  ")
		line += "   " + console.Accent(place)
	}
	return line
}

// Position is where a rule was written; "a rule" where
// only the release knows it.
func Position(r *rules.Rule) string {
	if r.At.Line == 0 {
		return "release"
	}
	return fmt.Sprintf("%s:%d", r.At.File, r.At.Line)
}

// RuleText is a rule with its place in front, as editors and terminals make
// links of it.
func RuleText(r *rules.Rule) string { return Position(r) + "  " + r.String() }

// showLive sets what an edge node answered beside what the subject does.
func showLive(c *console.Console, r ExplainReport) {
	live := r.Live
	c.Print("%s %s  %s", console.Faint("live"), StatusText(live.Status)+" "+live.Location,
		console.Faint("edge node "+live.Node+", "+live.Release))
	sent := ""
	if live.Encoding != "" {
		sent = console.Faint("  sent as ") + live.Encoding + console.Faint(", ") + console.Size(live.Sent)
	}
	if live.Dictionary {
		sent += console.Faint("  with a dictionary for the next pages")
	}
	if len(live.Differs) == 0 {
		c.Print("  %s", console.Good("same answer and headers")+sent)
		return
	}
	if sent != "" {
		c.Print("%s", sent)
	}

	rows := [][]string{{"", "HERE", "LIVE"}}
	for _, name := range live.Differs {
		rows = append(rows, []string{"  " + name, console.Strong(valueOf(r, name)),
			console.Warn(liveValue(*live, name))})
	}
	c.Table(rows)
}

// FieldValue returns the value of a field, "none" without one.
func FieldValue(header []FieldReport, name string) string {
	for _, field := range header {
		if field.Name == name {
			return field.Value
		}
	}
	return "none"
}

// LiveReport is what an edge node answered.
type LiveReport struct {
	Node     string `json:"node"`
	Release  string `json:"release,omitempty"`
	Status   int    `json:"status"`
	Location string `json:"location,omitempty"`
	Encoding string `json:"encoding,omitempty"` // in which the node sends it: br, zstd, gzip, dcz
	Sent     int64  `json:"sent,omitempty"`     // bytes on the wire, if the node says
	// whether the node offers a dictionary of the site's pages
	Dictionary bool          `json:"dictionary,omitempty"`
	Header     []FieldReport `json:"header"`
	Differs    []string      `json:"differs,omitempty"`
}

// liveValue is what a live answer has under a name; "status" is the code.
func liveValue(r LiveReport, name string) string {
	if name == "status" {
		return fmt.Sprint(r.Status)
	}
	return FieldValue(r.Header, name)
}

// valueOf is the same of the answer that was decided, so that the two can be
// compared name by name.
func valueOf(r ExplainReport, name string) string {
	if name == "status" {
		return fmt.Sprint(r.Status)
	}
	return FieldValue(r.Header, name)
}

// CompareLive says what an edge node has answered, and in which fields that
// differs from what is expected of it.
func CompareLive(expected ExplainReport, node string, response *http.Response) *LiveReport {
	live := &LiveReport{
		Node: node, Release: response.Header.Get(httpanswer.ReleaseField), Status: response.StatusCode,
		Location: response.Header.Get("Location"), Header: []FieldReport{},
		Encoding: response.Header.Get("Content-Encoding"), Sent: max(0, response.ContentLength),
	}
	// What it is compressed to is the node's matter, which the tag says too.
	tag := response.Header.Get("ETag")
	for _, c := range append(slices.Clone(coding.All), coding.Dictionary) {
		if c.String() == live.Encoding && answer.IsEncodedTag(tag, FieldValue(expected.Header, "etag"), c) {
			response.Header.Set("ETag", FieldValue(expected.Header, "etag"))
			response.Header.Del("Content-Encoding")
		}
	}
	// So is what it offers to browsers that come again.
	links := response.Header.Values("Link")
	if others := slices.DeleteFunc(slices.Clone(links), dictionary.IsLink); len(others) < len(links) {
		live.Dictionary = true
		response.Header["Link"] = others
		if len(others) == 0 {
			response.Header.Del("Link")
		}
	}
	ofTransfer := []string{"Date", "Content-Length", "Accept-Ranges", httpanswer.ReleaseField}
	for name, values := range response.Header {
		if !slices.Contains(ofTransfer, name) {
			field := FieldReport{Name: strings.ToLower(name), Value: strings.Join(values, ", ")}
			live.Header = append(live.Header, field)
		}
	}

	slices.SortFunc(live.Header, func(a, b FieldReport) int { return strings.Compare(a.Name, b.Name) })

	if expected.Upstream == "" && expected.Status != live.Status {
		live.Differs = append(live.Differs, "status")
	}
	for _, field := range slices.Concat(expected.Header, live.Header) {
		here, there := FieldValue(expected.Header, field.Name), FieldValue(live.Header, field.Name)
		if field.Name == "use-as-dictionary" {
			here, there = dictionary.WithoutID(here), dictionary.WithoutID(there)
		}
		if here != there && !slices.Contains(live.Differs, field.Name) {
			live.Differs = append(live.Differs, field.Name)
		}
	}

	return live
}
