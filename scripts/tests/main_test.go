package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	passes = `{"Action":"output","Package":"orilla.example/orilla/a","Test":"TestOne","Output":"quiet\n"}
{"Action":"pass","Package":"orilla.example/orilla/a","Test":"TestOne","Elapsed":1.5}
{"Action":"pass","Package":"orilla.example/orilla/a","Elapsed":2}
`
	fails = `{"Action":"output","Package":"orilla.example/orilla/b","Test":"TestTwo/case","Output":"it differs\n"}
{"Action":"fail","Package":"orilla.example/orilla/b","Test":"TestTwo/case","Elapsed":0.5}
{"Action":"fail","Package":"orilla.example/orilla/b","Test":"TestTwo","Elapsed":0.5}
{"Action":"fail","Package":"orilla.example/orilla/b","Elapsed":1}
`
	crashes = `{"Action":"run","Package":"orilla.example/orilla/c","Test":"TestThree"}
{"Action":"output","Package":"orilla.example/orilla/c","Test":"TestThree","Output":"panic: no\n"}
{"Action":"fail","Package":"orilla.example/orilla/c","Elapsed":1}
`
	breaks = `{"ImportPath":"orilla.example/orilla/d","Action":"build-output","Output":"d.go:3: no\n"}
{"ImportPath":"orilla.example/orilla/d","Action":"build-fail"}
`
)

func TestWhatFailsIsShownAndNothingElse(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		stream, shows, hides, err string
	}{
		"what passes is a line":        {passes, "pass     2.0 s  a", "quiet", ""},
		"what fails shows what it saw": {passes + fails, "it differs", "quiet", "failed: b"},
		"a crash fails":                {passes + crashes, "panic: no", "quiet", "failed: c"},
		"what cannot be built fails":   {passes + breaks, "d.go:3: no", "quiet", "failed: orilla.example/orilla/d"},
		"nothing is a failure":         {"", "", "pass", "no test ran"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var out bytes.Buffer
			err := show(strings.NewReader(test.stream), &out, "")
			assert.Contains(t, out.String(), test.shows)
			assert.NotContains(t, out.String(), test.hides)
			if test.err == "" {
				assert.NoError(t, err)
			} else {
				assert.EqualError(t, err, test.err)
			}
		})
	}
}

func TestTheBudgetWarnsBeforeItIsSpent(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	times, phases := filepath.Join(folder, "times"), filepath.Join(folder, "phases")
	var out bytes.Buffer
	require.NoError(t, show(strings.NewReader(passes), &out, times))
	for seconds, want := range map[string]string{"60": "", "500": "more than 80 %", "700": "over the limit"} {
		t.Run(seconds, func(t *testing.T) {
			out.Reset()
			require.NoError(t, os.WriteFile(phases, []byte(seconds+".00\tvet\n"), 0o644))
			require.NoError(t, run([]string{"budget", "-times", times, "-phases", phases}, nil, &out))
			assert.Equal(t, want != "", strings.Contains(out.String(), "WARNING"), out.String())
			assert.Contains(t, out.String(), want)
			assert.Contains(t, out.String(), "1.5 s  a TestOne")
			assert.True(t, strings.HasSuffix(out.String(), "1 passed, 0 failed, 0 skipped\n"), out.String())
		})
	}
}
