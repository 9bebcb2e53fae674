//go:build unix

package steps_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/steps"
)

func TestMain(m *testing.M) {
	steps.KeeperIfAsked()
	os.Exit(m.Run())
}

func spec(t *testing.T, log *bytes.Buffer, commands ...string) steps.Spec {
	t.Helper()
	ready, err := steps.Environment(steps.Wanted{Variables: map[string]string{"SITE_LANG": "gl"}})
	require.NoError(t, err)
	return steps.Spec{Folder: t.TempDir(), Steps: commands, Environment: ready.Environment,
		TimeLimit: time.Minute, Log: log}
}

func TestStepsRunInOrderUntilOneFails(t *testing.T) {
	t.Parallel()
	var log bytes.Buffer
	s := spec(t, &log, "echo one > out; echo $SITE_LANG $CI", "cat out; echo to stderr >&2",
		"seq 1 100; exit 3", "touch never")
	ran, err := steps.Run(t.Context(), s)
	require.Equal(t, "step-failed", fault.Code(err))
	require.Equal(t, fault.BuildFailed, fault.KindOf(err))
	require.Len(t, ran, 3)
	assert.Equal(t, []int{0, 0, 3}, []int{ran[0].Exit, ran[1].Exit, ran[2].Exit})
	assert.NoFileExists(t, filepath.Join(s.Folder, "never"))
	assert.True(t, strings.HasPrefix(log.String(), "gl true\none\nto stderr\n1\n"), "the log is whole")
	problem, _ := errors.AsType[*fault.Error](err)
	require.Len(t, problem.Detail, 40, "the last forty lines")
	assert.Equal(t, "| 61", problem.Detail[0])
	assert.Equal(t, "| 100", problem.Detail[39])
}

func TestTheEnvironmentIsMadeNotInherited(t *testing.T) {
	t.Setenv("ORILLA_TEST_LEAK", "leaked")
	t.Setenv("LANG", "de_DE.UTF-8")
	t.Setenv("MAP_KEY", "s3cret")
	t.Setenv("SHORT", "abc")
	ready, err := steps.Environment(steps.Wanted{Secrets: []string{"MAP_KEY", "SHORT"},
		Told: map[string]string{"ORILLA_BRANCH": "main"}, Temporary: "/t"})
	require.NoError(t, err)
	for _, variable := range []string{"MAP_KEY=s3cret", "ORILLA_BRANCH=main", "CI=true", "TZ=UTC",
		"TMPDIR=/t", "PATH=" + os.Getenv("PATH")} {
		assert.Contains(t, ready.Environment, variable)
	}
	assert.Equal(t, []string{"s3cret", "abc"}, ready.Secrets)
	assert.Equal(t, []string{"SHORT"}, ready.Short)
	assert.NotContains(t, strings.Join(ready.Environment, "\n"), "leaked")
	assert.NotContains(t, strings.Join(ready.Environment, "\n"), "de_DE")
	_, err = steps.Environment(steps.Wanted{Secrets: []string{"MAP_KEY", "NOT_SET_1", "NOT_SET_2"}})
	assert.Equal(t, "secret-missing", fault.Code(err))
	assert.Contains(t, err.Error(), "NOT_SET_1, NOT_SET_2", "all at once")
}

// TestAllThatIsMissingIsToldAtOnce asks for secrets,
// programs and versions that are not here.
func TestAllThatIsMissingIsToldAtOnce(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	for _, variable := range []string{"NVM_DIR", "FNM_DIR", "MISE_DATA_DIR", "ASDF_DATA_DIR",
		"XDG_DATA_HOME"} {
		t.Setenv(variable, "")
	}
	tool := func(folder, name, version string) {
		require.NoError(t, os.MkdirAll(folder, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name),
			[]byte("#!/bin/sh\necho "+name+" v"+version+"\n"), 0o755))
	}
	here := filepath.Join(home, "here")
	tool(here, "node", "18.2.0")
	tool(here, "sailor", "2.10.1")
	tool(here, "buoy", "3")
	t.Setenv("PATH", here+":"+os.Getenv("PATH"))
	_, err := steps.Prepare(t.Context(),
		steps.Wanted{Steps: []string{"cd sub && x", "no-such-program-1 --x", "echo hi", "A=1 b", "./script",
			"no-such-program-2", "no-such-program-1"},
			Secrets: []string{"NOT_SET_1"}, Needs: map[string]string{"node": "20", "sailor": ">=2.9",
				"buoy": ">=3.0", "absent-tool": "1"}})
	problem, ok := errors.AsType[*fault.Error](err)
	require.True(t, ok)
	text := problem.What + strings.Join(problem.Detail, "\n")
	for _, part := range []string{"no-such-program-1, no-such-program-2", "node 20, but 18.2.0 is " +
		"installed",
		"absent-tool 1, which is not installed", "NOT_SET_1"} {
		assert.Contains(t, text, part)
	}
	assert.NotContains(t, text, "sailor", "2.10 is later than 2.9")
	assert.NotContains(t, text, "buoy", "3 is 3.0")
	for manager, folder := range map[string]string{"nvm": ".nvm/versions/node/v20.9.0/bin",
		"mise": ".local/share/mise/installs/node/20.11.1/bin", "asdf": ".asdf/installs/nodejs/20.3.0/bin"} {
		tool(filepath.Join(home, folder), "node", manager)
	}
	ready, err := steps.Prepare(t.Context(), steps.Wanted{Steps: []string{"node x"},
		Needs: map[string]string{"node": "20"}})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(ready.Environment, "\n"),
		"PATH="+filepath.Join(home, ".local/share/mise/installs/node/20.11.1/bin")+":",
		"the newest that will do")
}

// TestSecretsAreMasked writes secrets in every cut, and
// compares what the log shows.
func TestSecretsAreMasked(t *testing.T) {
	t.Parallel()
	var log bytes.Buffer
	var lines []string
	s := spec(t, &log, `printf 'key=s3cr'; sleep 0.1; printf 'et-value!\n'; printf 's3cret'; sleep 0.1; printf '\n'; echo s3cres3cret s3cret-values3cret >&2; echo 'line two of it'; printf 's3cre'`)
	s.Secrets = []string{"s3cret", "s3cret-value", "first\nline two of it", "ab"}
	s.Line = func(line string) { lines = append(lines, line) }
	_, err := steps.Run(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, "key=[secret]!\n[secret]\ns3cre[secret] [secret][secret]\n[secret]\ns3cre", log.String())
	assert.Equal(t, strings.Split(log.String(), "\n"), lines)
}

// alive reports whether a process runs; one that ended and
// was not waited for does not.
func alive(pid int) bool {
	if syscall.Kill(pid, 0) != nil {
		return false
	}
	state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err != nil || !bytes.Contains(state, []byte(") Z "))
}

func TestWhatEndsAStepEndsItsWholeTree(t *testing.T) {
	t.Parallel()
	// A child in the background, a grandchild, and, where the system has
	// setsid, one that left the process group.
	script := `sleep 300 & echo $! >> pids; sh -c 'sleep 300 & echo $! >> pids; wait' & `
	if runtime.GOOS == "linux" {
		script += `setsid sh -c 'echo $$ >> pids; exec sleep 300' & `
	}
	for name, end := range map[string]func(*steps.Spec, context.CancelFunc){
		"the time limit": func(s *steps.Spec,
			_ context.CancelFunc) {
			s.TimeLimit = time.Second
			s.Steps[0] += "wait"
		},
		"an interrupt": func(s *steps.Spec, cancel context.CancelFunc) {
			time.AfterFunc(time.Second, cancel)
			s.Steps[0] += "wait"
		},
		"its own end": func(s *steps.Spec, _ context.CancelFunc) { s.Steps[0] += "sleep 0.5" },
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			var log bytes.Buffer
			s := spec(t, &log, script)
			end(&s, cancel)
			started := time.Now()
			_, err := steps.Run(ctx, s)
			switch name {
			case "the time limit":
				assert.Equal(t, "time-limit", fault.Code(err))
				assert.Contains(t, err.Error(), "longer than 1s")
			case "an interrupt":
				require.ErrorIs(t, err, context.Canceled)
			default:
				require.NoError(t, err)
			}
			assert.Less(t, time.Since(started), 30*time.Second)
			pids, err := os.ReadFile(filepath.Join(s.Folder, "pids"))
			require.NoError(t, err)
			require.GreaterOrEqual(t, len(strings.Fields(string(pids))), 2)
			for _, text := range strings.Fields(string(pids)) {
				pid, err := strconv.Atoi(text)
				require.NoError(t, err)
				assert.Eventually(t, func() bool { return !alive(pid) }, 30*time.Second, 10*time.Millisecond,
					"process %d runs on", pid)
			}
		})
	}
}

// TestAVeryLongLogKeepsItsBeginningAndItsEnd writes more than is kept.
func TestAVeryLongLogKeepsItsBeginningAndItsEnd(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "log")
	log, err := steps.CreateLog(path)
	require.NoError(t, err)
	line := bytes.Repeat([]byte("x"), 99)
	for i := range 400_000 { // 40 MB
		_, err := fmt.Fprintf(log, "%09d %s\n", i, line[:89])
		require.NoError(t, err)
	}
	require.NoError(t, log.Close())
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Less(t, len(data), 18<<20)
	assert.True(t, bytes.HasPrefix(data, []byte("000000000 ")))
	assert.Contains(t, string(data), "bytes of the log are left out here")
	assert.Contains(t, string(data[len(data)-200:]), "000399999 ")
}

// TestNobodyIsLeftWhenTheBuilderDies kills a process that
// builds, and looks for what its steps started.
func TestNobodyIsLeftWhenTheBuilderDies(t *testing.T) {
	t.Parallel()
	if folder := os.Getenv("ORILLA_TEST_BUILD_IN"); folder != "" {
		var log bytes.Buffer
		s := spec(t, &log, `echo $$ > pids; sleep 300 & echo $! >> pids; wait`)
		s.Folder = folder
		steps.Run(t.Context(), s) //nolint:errcheck // killed
		return
	}
	folder := t.TempDir()
	victim := exec.Command(os.Args[0], "-test.run", "^TestNobodyIsLeftWhenTheBuilderDies$")
	victim.Env = append(os.Environ(), "ORILLA_TEST_BUILD_IN="+folder)
	require.NoError(t, victim.Start())
	pids := func() []string {
		data, _ := os.ReadFile(filepath.Join(folder, "pids"))
		return strings.Fields(string(data))
	}
	require.Eventually(t, func() bool { return len(pids()) == 2 }, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, victim.Process.Kill())
	victim.Wait() //nolint:errcheck // killed
	for _, text := range pids() {
		pid, err := strconv.Atoi(text)
		require.NoError(t, err)
		assert.Eventually(t, func() bool { return !alive(pid) }, 30*time.Second, 10*time.Millisecond)
	}
}

func TestOnlyColoursReachATerminal(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"plain": "plain", "\x1b[31mred\x1b[0m": "\x1b[31mred\x1b[0m\x1b[0m",
		"\x1b[1;38:5:4mblue": "\x1b[1;38:5:4mblue\x1b[0m", "\x1b[2Jgone\x1b[H": "gone",
		"\x1b]0;title\x07x": "]0;titlex", "\x1b[?1049h": "", "10%\r100%": "100%", "\x1b[31": "",
		"a\x00b": "ab", "\u009b2Jx": "2Jx",
	} {
		t.Run(line, func(t *testing.T) {
			assert.Equal(t, want, steps.Painted([]byte(line)), "%q", line)
			assert.NotContains(t, steps.Readable([]byte(line)), "\x1b")
		})
	}
}

func TestLinesAreMadeFitToShow(t *testing.T) {
	t.Parallel()
	var log bytes.Buffer
	var lines []string
	s := spec(t, &log, `printf '10%%\r50%%\r100%%\n\033[31mred\033[0m\tx\nno end'; printf '\n'; head -c 100000 /dev/zero | tr '\0' a; echo`)
	s.Line = func(line string) { lines = append(lines, line) }
	_, err := steps.Run(t.Context(), s)
	require.NoError(t, err)
	require.Len(t, lines, 4)
	assert.Equal(t, []string{"100%", "red    x", "no end"}, lines[:3])
	assert.Len(t, lines[3], 2000)
	assert.Greater(t, log.Len(), 100_000)
}
