package rules_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/rules"
)

// one parses one rule.
func one(t testing.TB, text string) *rules.Rule {
	t.Helper()
	program, found := parse(text)
	require.Empty(t, found, text)
	require.Len(t, program.Rules, 1, text)
	return &program.Rules[0]
}

// try tries a rule on an address.
func try(t testing.TB, rule, target string, v rules.Visitor) (rules.Trial, *rules.Rule, *address.Query) {
	t.Helper()
	path, query, _ := strings.Cut(target, "?")
	p, _, err := address.Split(path)
	require.NoError(t, err)
	q := &address.Query{Raw: query}
	v.Query = q
	if v.Languages == nil {
		v.Languages = options.Languages
	}
	r := one(t, rule)
	return r.Try(p, &v), r, q
}

// TestTargets fills in targets: what a placeholder stands for is encoded where
// it is put, and what could lead elsewhere is refused.
func TestTargets(t *testing.T) {
	t.Parallel()
	for _, test := range []struct{ rule, target, want string }{
		{"/{a}/{b} -> /{b}/{a}", "/x/y", "/y/x"},
		{"/{a}/{b} -> /{b}-{a}", "/x/y", "/y-x"},
		{"/{a} -> /{a}/{a}", "/x", "/x/x"},
		{"/{a} -> /{a}/", "/x", "/x/"},
		{"/{a} -> /b#{a}", "/x%20y%23", "/b#x%20y%23"},
		{"/{a} -> /b?q={a}", "/x%26y%3D%2B", "/b?q=x%26y%3D%2B"},
		{"/{a} -> /b?q=1-{a}-2", "/x", "/b?q=1-x-2"},
		{"/{a}.html -> /{a}", "/x.html", "/x"},
		{"/{a}.html -> /{a}", "/.html", ""},
		{"/a{x}b -> /{x}", "/ab", ""},
		{"/a{x}a -> /{x}", "/aa", ""},
		{"/a{x}a -> /{x}", "/aaa", "/a"},
		{"/{n:digits} -> /n/{n}", "/007", "/n/007"},
		{"/{n:digits} -> /n/{n}", "/٧", ""},
		{"/{n:digits} -> /n/{n}", "/7a", ""},
		{"/{l:en|gl} -> /l/{l}", "/GL", ""},
		{"/{l:caf%C3%A9|gl} -> /l/{l}", "/cafe%CC%81", "/l/caf%C3%A9"},
		{"/x/{r:all} -> /{r}", "/x", "/"},
		{"/x/{r:all} -> /{r}", "/x/", "/"},
		{"/x/{r:all} -> /{r}", "/x/a/b", "/a/b"},
		{"/x/{r:all} -> /{r}", "/x/a/b/", "/a/b/"},
		{"/x/{r:all} -> /{r}/", "/x/a", "/a/"},
		{"/x/{r:all} -> /y/{r}/z", "/x/a/b/", "/y/a/b/z"},
		{"/x/{r:all} -> /y/{r}/z", "/x", "/y/z"},
		{"/x/{r:all} -> /s?p={r}", "/x/a/b/", "/s?p=a/b/"},
		{"/x/{r:all} -> /s?p={r}", "/x/a%2Fb/c%26d", "/s?p=a/b/c%26d"},
		{"/x/{r:all} -> /{r}", "/x/a%2Fb", "/a%2Fb"},
		{"/x/{r:all} -> /{r}", "/x/..%2Fb", ""},
		{"/x/{r:all} -> /{r}", "/x/a/%2e.%5Cb", ""},
		{"/x/{r:all} -> /{r}", "/x/%5C%5Cevil.example", "/%5C%5Cevil.example"},
		{"/x/{r:all} -> https://y.example/{r}", "/x//a", "https://y.example/a"},
		{"/a -> /b when query q={v}", "/a?q=x%2Fy", "/b"},
		{"/a -> /{v} when query q={v}", "/a?q=x%2Fy", "/x%2Fy"},
		{"/a -> /{v} when query q={v}", "/a?q=", ""},
		{"/a -> /{v} when query q={v}", "/a?q=..", ""},
		{"/a -> /{v} when query q={v}", "/a?q=.&q=b", ""},
		{"/a -> /{v} when query q={v}", "/a?q=x%00", ""},
		{"/a -> /{v} when query q={v:digits}", "/a?q=7&z=1", "/7?z=1"},
		{"/a -> /{v} when query q={v:x|y}", "/a?q=z", ""},
		{"/a -> /{v}{w} when query q={v} and query r={w}", "/a?r=2&q=1", "/12"},
		{"/a -> /.{v} when query q={v}", "/a?q=.", ""},
		{"/a -> /{v}.{w} when query q={v} and query r={w}", "/a?q=.&r=.", ""},
		{"/a -> /b?", "/a?q=1", "/b"},
		{"/a -> /b?c=1?", "/a?q=1", "/b?c=1"},
		{"/a -> /b?c=1", "/a?q=1&c=2&r=3", "/b?c=1&q=1&r=3"},
		{"/a -> /b?c", "/a?c=2", "/b?c"},
		{"/a -> /b when query q", "/a?q=1", "/b?q=1"},
		{"/a -> /b when query q=1", "/a?q=1&q=2&r=3", "/b?r=3"},
		{"/a -> /b when not query q=1", "/a?q=2", "/b?q=2"},
		{"/a -> /b when query q=1|2", "/a?q=2", "/b"},
		{`/a -> /b when query "a b"="c d"`, "/a?a+b=c%20d", "/b"},
		{"/a -> /b when query a%20b=c%26d", "/a?a%20b=c%26d", "/b"},
	} {
		t.Run(test.rule, func(t *testing.T) {
			trial, r, query := try(t, "redirect "+test.rule, test.target, rules.Visitor{})
			got := ""
			if trial.Applies {
				got = r.Target.Origin + trial.Path.String()
				if q := r.Query(trial.Expansion, query); q != "" {
					got += "?" + q
				}
				got += trial.Fragment
			}
			assert.Equal(t, test.want, got, "%s on %s", test.rule, test.target)
		})
	}
}

// TestConditions asks each kind of condition.
func TestConditions(t *testing.T) {
	t.Parallel()
	noon := time.Date(2026, 6, 15, 12, 0, 0, 0, time.UTC)
	for _, test := range []struct {
		condition string
		visitor   rules.Visitor
		holds     bool
		vary      string
	}{
		{"host a.example", rules.Visitor{Host: "a.example"}, true, ""},
		{"host A.example|b.example", rules.Visitor{Host: "a.example"}, true, ""},
		{"host a.example", rules.Visitor{Host: "x.a.example"}, false, ""},
		{"not host a.example", rules.Visitor{Host: "b.example"}, true, ""},
		{"language gl", rules.Visitor{AcceptLanguage: "gl"}, true, "Accept-Language"},
		{"language GL", rules.Visitor{AcceptLanguage: "gl-ES, en"}, true, "Accept-Language"},
		{"language gl", rules.Visitor{}, false, "Accept-Language"},
		{"language en", rules.Visitor{}, true, "Accept-Language"},
		{"not language gl", rules.Visitor{AcceptLanguage: "de"}, true, "Accept-Language"},
		{"cookie a", rules.Visitor{Cookie: "a=1"}, true, "Cookie"},
		{"cookie a", rules.Visitor{Cookie: "b=a; ab=1"}, false, "Cookie"},
		{"cookie a=1|2", rules.Visitor{Cookie: "x=y; a=2; a=3"}, true, "Cookie"},
		{"cookie a=1", rules.Visitor{Cookie: "a=2; a=1"}, false, "Cookie"},
		{`cookie a="b c"`, rules.Visitor{Cookie: `a="b c"`}, true, "Cookie"},
		{"cookie a=", rules.Visitor{Cookie: "a="}, true, "Cookie"},
		{"not cookie a", rules.Visitor{Cookie: "a"}, true, "Cookie"},
		{"environment production", rules.Visitor{Environment: "production"}, true, ""},
		{"environment preview", rules.Visitor{Environment: "preview/winter"}, true, ""},
		{"environment preview/winter", rules.Visitor{Environment: "preview/winter"}, true, ""},
		{"environment preview/winter", rules.Visitor{Environment: "preview/summer"}, false, ""},
		{"environment preview", rules.Visitor{Environment: "preview-x"}, false, ""},
		{"from 2026-06-15 through 2026-06-15", rules.Visitor{Now: noon}, true, ""},
		{"from 2026-06-15T12:00Z until 2026-06-15T12:01Z", rules.Visitor{Now: noon}, true, ""},
		{"from 2026-06-15T11:00Z until 2026-06-15T12:00Z", rules.Visitor{Now: noon}, false, ""},
		{"from 2026-06-15T12:00:01Z", rules.Visitor{Now: noon}, false, ""},
		{"until 2026-06-15T12:00:01Z", rules.Visitor{Now: noon}, true, ""},
		{"through 2026-06-14", rules.Visitor{Now: noon}, false, ""},
		{"not through 2026-06-14", rules.Visitor{Now: noon}, true, ""},
		// whoever asks, it is not met: the cookie decides nothing
		{"host x and cookie a", rules.Visitor{Host: "y", Cookie: "a=1"}, false, ""},
		{"until 2026-06-01 and cookie a", rules.Visitor{}, false, ""},
		{"cookie a and language gl", rules.Visitor{}, false, "Cookie Accept-Language"},
	} {
		t.Run(test.condition, func(t *testing.T) {
			condition := strings.Replace(test.condition, "until 2026-06-01 ", "through 2026-06-01 ", 1)
			v := test.visitor
			if v.Now.IsZero() {
				v.Now = noon
			}
			trial, _, _ := try(t, "gone /a when "+condition, "/a", v)
			assert.Equal(t, test.holds, trial.Applies, test.condition)
			assert.Equal(t, test.vary, strings.Join(trial.Vary, " "), test.condition)
			assert.Equal(t, test.holds, trial.Failed == nil, test.condition)
		})
	}
}

// TestTimesKeepTheirZone looks at days on which clocks are changed: a day is
// from midnight to midnight by the clock on the wall.
func TestTimesKeepTheirZone(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		// the clock goes forward at 00:00 on the 29th
		"from 2026-03-28 through 2026-03-28": "2026-03-28T01:00:00Z 2026-03-29T01:00:00Z",
		// 23 hours
		"from 2026-03-29 through 2026-03-29": "2026-03-29T01:00:00Z 2026-03-30T00:00:00Z",
		// 25 hours
		"from 2026-10-25 through 2026-10-25": "2026-10-25T00:00:00Z " +
			"2026-10-26T01:00:00Z",
		"from 2026-07-01T09:30 until 2026-07-01T09:31": "2026-07-01T09:30:00Z " +
			"2026-07-01T09:31:00Z",
		"from 2026-12-01T09:30 until 2026-12-01T09:30:30": "2026-12-01T10:30:00Z " +
			"2026-12-01T10:30:30Z",
		"from 2026-12-01T09:30+05:30 until 2026-12-01T09:30-01:00": "2026-12-01T04:00:00Z " +
			"2026-12-01T10:30:00Z",
		"from 2028-02-29 through 2028-02-29": "2028-02-29T01:00:00Z " +
			"2028-03-01T01:00:00Z",
	} {
		t.Run(text, func(t *testing.T) {
			c := one(t, "gone /a when "+text).When[0]
			assert.Equal(t, want, c.From.Format(time.RFC3339)+" "+c.Until.Format(time.RFC3339), text)
			assert.Equal(t, text, c.String(), "messages show what was written")
		})
	}
}

func TestTheNextBoundary(t *testing.T) {
	t.Parallel()
	day := func(n int) time.Time { return time.Date(2026, 6, n, 0, 0, 0, 0, time.UTC) }
	for _, test := range []struct {
		condition string
		now, next int // days of June; 0 for never
	}{
		{"from 2026-06-10T00:00Z until 2026-06-20T00:00Z", 1,
			10}, {"from 2026-06-10T00:00Z until 2026-06-20T00:00Z", 10, 20},
		{"from 2026-06-10T00:00Z until 2026-06-20T00:00Z", 20, 0}, {"from 2026-06-10T00:00Z", 10, 0},
		{"not until 2026-06-20T00:00Z", 3, 20},
		{"from 2026-06-10T00:00Z and until 2026-06-05T00:00Z", 1, 5},
	} {
		t.Run(test.condition, func(t *testing.T) {
			trial, _, _ := try(t, "gone /a when "+test.condition, "/a", rules.Visitor{Now: day(test.now)})
			assert.True(t, trial.Timed)
			if test.next == 0 {
				assert.True(t, trial.Next.IsZero(), test.condition)
			} else {
				assert.Equal(t, day(test.next), trial.Next, test.condition)
			}
		})
	}
}

func TestMissingPagesAreKnown(t *testing.T) {
	t.Parallel()
	program, found := parse(
		"missing /gl/{x:all} -> /gl/404\nmissing /{l:es|fr}/{x:all} -> /{l}/lost/\nmissing /old/{x:all} " +
			"-> /errors/old.html when host x\n")
	require.Empty(t, found)
	set := rules.Compile(program.Rules)
	for file, want := range map[string]bool{
		"gl/404.html": true, "gl/404/index.html": true, "gl/404": true, "gl/405.html": false,
		"errors/old.html":    true,
		"es/lost/index.html": true, "fr/lost.html": true, "de/lost/index.html": false,
		"lost/index.html": false,
	} {
		t.Run(file, func(t *testing.T) {
			p, _ := address.OfFile(strings.Split(file, "/"))
			assert.Equal(t, want, set.IsMissingPage(file, p), file)
		})
	}
	var none *rules.Set
	assert.False(t, none.IsMissingPage("404.html", address.Path{}))
}

func TestCovers(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		a, b string
		want bool
	}{
		{"/{x}", "/a", true}, {"/a", "/{x}", false}, {"/{x:all}", "/", true}, {"/{x:all}", "/a/{y:all}",
			true}, {"/a/{x:all}", "/{x:all}", false},
		{"/{x}", "/{y:digits}", true}, {"/{x:digits}", "/7", true}, {"/{x:digits}", "/{y}", false},
		{"/{x:a|b}", "/{y:a|b}", true}, {"/{x:a|b}", "/{y:a|c}", false},
		{"/{x:digits}", "/{y:1|2}", true}, {"/a{x}", "/ab{y}", true}, {"/ab{x}", "/a{y}", false},
		{"/{x}", "/a/b", false}, {"/a{x}b", "/axb", true},
		{"/{x}/b", "/a/{y}", false}, {"/a{x:digits}", "/a{y:digits}", true},
		{"/a{x:digits}", "/a1{y:digits}", false},
	} {
		t.Run(test.a, func(t *testing.T) {
			a, b := one(t, "gone "+test.a), one(t, "gone "+test.b)
			assert.Equal(t, test.want, a.Pattern.Covers(b.Pattern), "%s over %s", test.a, test.b)
			if test.want {
				assert.True(t, a.Pattern.Matches(b.Pattern.Sample()), "%s takes a sample of %s", test.a, test.b)
			}
			assert.True(t, b.Pattern.Matches(b.Pattern.Sample()), "%s takes its own sample", test.b)
		})
	}
}

// FuzzDecode makes sure that any bytes are read or refused, and that what is
// read is written in the same bytes.
func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"pattern":"/a/{x}","status":302,"target":"/{x}","verb":"redirect","when":[{"kind":"query","name":"q","values":["1"]}]}` + "\n"))
	f.Add([]byte(`{"pattern":"/{x:all}","verb":"gone","when":[{"from":"2026-12-20T01:00:00Z","kind":"time","not":true}]}` + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := rules.Decode(data)
		if err != nil {
			return
		}
		if string(rules.Encode(list)) != string(data) {
			t.Fatalf("%q", data)
		}
		set := rules.Compile(list)
		visitor := rules.Visitor{Query: &address.Query{Raw: "q=1"}, Languages: []string{"en"}}
		for _, text := range []string{"/", "/a", "/a/b/c", "/7"} {
			p, _, _ := address.Split(text)
			for phase := rules.First; phase <= rules.OnAnswer; phase++ {
				set.Each(phase, p, visitor.Query, true,
					func(r *rules.Rule) bool { r.Try(p, &visitor); return true })
			}
		}
	})
}

// FuzzImport makes sure that any list is read or refused,
// and that each rule made of it is one.
func FuzzImport(f *testing.F) {
	f.Add("from,to\n/a,/b\n\"/a b\",https://x.example/?q=1#f\n/a?q=1,/b,302\n")
	f.Add("https://old.example/%zz,/b\n/{x},/}\n/#,/?\n")
	f.Add("/a?0%250,/b\n/a?%22=%5C,/b\n/a?b%7Cc=%5C%22,/b\n")
	f.Fuzz(func(t *testing.T, list string) {
		rows, err := rules.Import(strings.NewReader(list), []string{"www.corvane.example"})
		if err != nil {
			return
		}
		for _, row := range rows {
			if (row.Text == "") == (row.Reason == "") {
				t.Fatalf("%q: %+v", list, row)
			}
			if row.Text == "" {
				continue
			}
			if program, found := rules.Parse([]rules.Source{{Name: "r", Text: []byte(row.Text)}},
				rules.Options{}); len(found) > 0 || len(program.Rules) != 1 {
				t.Fatalf("%q: %q: %v", list, row.Text, found)
			}
		}
	})
}

func TestManyLiteralPathsShareNothing(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&text, "redirect /old/%d -> /new/%d\nredirect /old/%d -> /never\n", i, i, i)
	}
	program, found := parse(text.String())
	require.Empty(t, found)
	set := rules.Compile(program.Rules)
	for i := range 3000 {
		p, _, _ := address.Split(fmt.Sprintf("/old/%d", i))
		var targets []string
		set.Each(rules.First, p, &address.Query{}, false, func(r *rules.Rule) bool {
			targets = append(targets, r.Target.String())
			return true
		})
		require.Equal(t, []string{fmt.Sprintf("/new/%d", i), "/never"}, targets)
	}
}
