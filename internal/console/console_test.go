package console_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
)

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

// plain is a console that writes to buffers, without colours.
func plain() (*console.Console, *bytes.Buffer, *bytes.Buffer) {
	var out, notes bytes.Buffer
	strip := func(to *bytes.Buffer) *colorprofile.Writer {
		return &colorprofile.Writer{Forward: to, Profile: colorprofile.NoTTY}
	}
	return &console.Console{Out: strip(&out), Err: strip(&notes),
		Now: func() time.Time { return noon }}, &out, &notes
}

func TestAges(t *testing.T) {
	t.Parallel()
	c, _, _ := plain()
	for ago, want := range map[time.Duration]string{
		-time.Hour: "just now", 0: "just now", 59 * time.Second: "59 s ago", time.Minute: "1 min ago", 59 * time.Minute: "59 min ago",
		3 * time.Hour: "3 h ago", 47 * time.Hour: "47 h ago", 72 * time.Hour: "3 days ago", 59500 * time.Millisecond: "1 min ago",
		59*time.Minute + 40*time.Second: "1 h ago", 35 * time.Hour: "35 h ago",
	} {
		assert.Equal(t, want, c.Age(noon.Add(-ago)))
	}
}

func TestTimesToComeAndLinks(t *testing.T) {
	t.Parallel()
	c, out, _ := plain()
	for ahead, want := range map[time.Duration]string{
		-time.Hour: "within a minute", 59 * time.Second: "within a minute", time.Minute: "in 1 min", 59 * time.Minute: "in 59 min", 3 * time.Hour: "in 3 h", 47 * time.Hour: "in 47 h", 72 * time.Hour: "in 3 days", 30*24*time.Hour - time.Second: "in 30 days", 24*time.Hour - time.Millisecond: "in 24 h",
	} {
		assert.Equal(t, want, c.Until(noon.Add(ahead)))
	}
	assert.Equal(t, "4be21c7", c.Link("4be21c7", "https://code.corvane.example/4be21c7"),
		"nothing is hidden in a pipe")
	c.OutTerm = true
	assert.Equal(t, "4be21c7", c.Link("4be21c7", ""))
	assert.Equal(t, "\x1b]8;;https://code.corvane.example/4be21c7\x1b\\4be21c7\x1b]8;;\x1b\\",
		c.Link("4be21c7", "https://code.corvane.example/4be21c7"))
	c.OutTerm = false
	console.Columns(c, [][]string{{"a", "12"}, {"long", "3"}}, 1)
	assert.Equal(t, "a     12\nlong   3\n", out.String(), "columns without a heading")
}

// TestErrorsAreADocumentWithJSON gives a program one document in any case.
func TestErrorsAreADocumentWithJSON(t *testing.T) {
	t.Parallel()
	c, out, _ := plain()
	c.Typed = func(text string) string { return text + " --site corvane" }
	err := errors.Join(fault.New(fault.Refused, "frozen", "production is frozen").At("production:3").
		Then("orilla thaw"), errors.New("and more"))
	console.Failed(c, err)
	assert.Empty(t, out.String(), "not without --json")
	c.JSON = true
	console.Failed(c, err)
	assert.JSONEq(t, `{"errors": [
		{"code": "frozen", "what": "production is frozen", "where": "production:3", "next": ["orilla thaw --site corvane"]},
		{"code": "", "what": "and more", "next": []}]}`, out.String())

	out.Reset()
	require.NoError(t, c.Document(1))
	console.Failed(c, err)
	assert.Equal(t, "1\n", out.String(), "there is one document")
}

func TestQuietLeavesResultsAndErrors(t *testing.T) {
	t.Parallel()
	c, out, notes := plain()
	console.Quiet(c)
	c.Note("building")
	c.Print("r-3f9a2c1b7e")
	c.Problem(fault.New(fault.Failed, "broken", "it broke").Then("orilla deploy"))
	assert.Equal(t, "r-3f9a2c1b7e\n", out.String())
	assert.Equal(t, "error: it broke [broken]\n next: orilla deploy\n", notes.String())
}

func TestSizesAndTimes(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "212 kB", console.Size(212_000))
	assert.Equal(t, "1.3 MB", console.Size(1_300_000))
	assert.Equal(t, "0 B", console.Size(-1))
	assert.Equal(t, "41 ms", console.Took(41*time.Millisecond))
	assert.Equal(t, "3.1 s", console.Took(3100*time.Millisecond))
	assert.Equal(t, "2 min 5 s", console.Took(125*time.Second))
	assert.Equal(t, "1 file", console.Count(1, "file", "files"))
	assert.Equal(t, "12,000 files", console.Count(12000, "file", "files"))
}

func TestATableLinesUpWhateverItsColours(t *testing.T) {
	t.Parallel()
	c, out, _ := plain()
	c.Table([][]string{{"FILE", "SIZE", "TYPE"}, {console.Good("a"), "1 B", "x"},
		{"longer", "12 kB", console.Faint("yy")}}, 1)
	assert.Equal(t, "FILE     SIZE  TYPE\na         1 B  x\nlonger  12 kB  yy\n", out.String())
	c.Table(nil)
}

func TestAProblemSaysWhatWhereAndWhatNext(t *testing.T) {
	t.Parallel()
	c, _, notes := plain()
	problem := fault.New(fault.Usage, "config", "unknown key %q", "biuld").At("orilla.yaml:2:1").
		With("  biuld:", "  ^").Then("correct it").Because(errors.New("cause"))
	c.Problem(problem)
	assert.Equal(t, "error: unknown key \"biuld\" [config]\n   at: orilla.yaml:2:1\n  why: cause\n        "+
		"biuld:\n        ^\n next: correct it\n", notes.String())
	assert.Equal(t, fault.Usage, fault.KindOf(problem))
	assert.Equal(t, fault.Failed, fault.KindOf(errors.New("x")))
	assert.Equal(t, `orilla.yaml:2:1: unknown key "biuld": cause`, problem.Error())
	notes.Reset()
	c.Problem(errors.New("something else"))
	assert.Equal(t, "error: something else\n", notes.String())
	notes.Reset()
	c.Notice(fault.Notice{Code: "case-only", What: "alike", Paths: []string{"a and A"}, Next: "rename one"})
	assert.Equal(t, "note: alike [case-only]\n      a and A\n      rename one\n", notes.String())
}

func TestNobodyIsAskedWithoutATerminal(t *testing.T) {
	t.Parallel()
	c, _, _ := plain()
	_, err := c.Confirm(t.Context(), "?", "", true)
	require.ErrorIs(t, err, console.ErrNobody)
	_, err = c.Input(t.Context(), "?", "", "", nil)
	require.ErrorIs(t, err, console.ErrNobody)
	_, err = c.Select(t.Context(), "?", "", []string{"a"})
	require.ErrorIs(t, err, console.ErrNobody)
	p := c.Bytes("upload", 10) // shows nothing, and does no harm
	p.Text("x")
	p.At(5)
	p.End()
}

// TestMessagesSteerNoTerminal: parts of messages come from
// files that anybody may commit.
func TestMessagesSteerNoTerminal(t *testing.T) {
	t.Parallel()
	c, _, out := plain()
	hostile := "a\x1b[2Jb\x07c\u009bd\re"
	c.Problem(fault.New(fault.Usage, "config", "%s", hostile).At("%s", hostile).Because(errors.New(hostile)).
		With(hostile).Then("%s", hostile))
	c.Problem(errors.New(hostile))
	for _, c := range []string{"\x1b[2J", "\x07", "\u009b", "\r"} {
		assert.NotContains(t, out.String(), c)
	}
	assert.Equal(t, 6, strings.Count(out.String(), "a[2Jbcde"))
}
