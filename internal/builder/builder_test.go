//go:build unix

package builder_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/fault"
)

func spec(t *testing.T, log *bytes.Buffer, steps ...string) builder.Spec {
	t.Helper()
	environment, err := builder.Environment(map[string]string{"SITE_LANG": "gl"}, nil)
	require.NoError(t, err)
	return builder.Spec{Folder: t.TempDir(), Steps: steps, Environment: environment, TimeLimit: time.Minute, Log: log}
}

func TestStepsRunInOrderUntilOneFails(t *testing.T) {
	var log bytes.Buffer
	s := spec(t, &log, "echo one > out; echo $SITE_LANG $CI", "cat out; echo to stderr >&2", "seq 1 100; exit 3", "touch never")
	steps, err := builder.Run(t.Context(), s)
	require.Equal(t, "step-failed", fault.Code(err))
	require.Equal(t, fault.BuildFailed, fault.KindOf(err))
	require.Len(t, steps, 3)
	assert.Equal(t, []int{0, 0, 3}, []int{steps[0].Exit, steps[1].Exit, steps[2].Exit})
	assert.NoFileExists(t, filepath.Join(s.Folder, "never"))
	assert.True(t, strings.HasPrefix(log.String(), "gl true\none\nto stderr\n1\n"), "the log is whole")
	problem, _ := errors.AsType[*fault.Error](err)
	require.Len(t, problem.Detail, 40, "the last forty lines")
	assert.Equal(t, "| 61", problem.Detail[0])
	assert.Equal(t, "| 100", problem.Detail[39])
}

func TestTheEnvironmentIsMadeNotInherited(t *testing.T) {
	t.Setenv("ORILLA_TEST_LEAK", "leaked")
	t.Setenv("MAP_KEY", "s3cret")
	environment, err := builder.Environment(nil, []string{"MAP_KEY"})
	require.NoError(t, err)
	assert.Contains(t, environment, "MAP_KEY=s3cret")
	assert.NotContains(t, strings.Join(environment, "\n"), "leaked")
	_, err = builder.Environment(nil, []string{"MAP_KEY", "NOT_SET_1", "NOT_SET_2"})
	assert.Equal(t, "secret-missing", fault.Code(err))
	assert.Contains(t, err.Error(), "NOT_SET_1, NOT_SET_2", "all at once")
}

func TestMissingPrograms(t *testing.T) {
	environment, err := builder.Environment(nil, nil)
	require.NoError(t, err)
	steps := []string{"cd sub && make-nothing", "no-such-program-1 --x", "echo hi", "A=1 b", "./script", "no-such-program-2", "no-such-program-1"}
	assert.Equal(t, []string{"no-such-program-1", "no-such-program-2"}, builder.Missing(t.Context(), steps, environment))
}

// alive reports whether a process runs; one that ended and was not waited for does not.
func alive(pid int) bool {
	if syscall.Kill(pid, 0) != nil {
		return false
	}
	state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err != nil || !bytes.Contains(state, []byte(") Z "))
}

func TestWhatEndsAStepEndsItsWholeTree(t *testing.T) {
	// A child in the background, a grandchild, and, where the system has setsid, one that left the process group.
	script := `sleep 300 & echo $! >> pids; sh -c 'sleep 300 & echo $! >> pids; wait' & `
	if runtime.GOOS == "linux" {
		script += `setsid sh -c 'echo $$ >> pids; exec sleep 300' & `
	}
	for name, end := range map[string]func(*builder.Spec, context.CancelFunc){
		"the time limit": func(s *builder.Spec, _ context.CancelFunc) { s.TimeLimit = time.Second; s.Steps[0] += "wait" },
		"an interrupt": func(s *builder.Spec, cancel context.CancelFunc) {
			time.AfterFunc(time.Second, cancel)
			s.Steps[0] += "wait"
		},
		"its own end": func(s *builder.Spec, _ context.CancelFunc) { s.Steps[0] += "sleep 0.5" },
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			var log bytes.Buffer
			s := spec(t, &log, script)
			end(&s, cancel)
			started := time.Now()
			_, err := builder.Run(ctx, s)
			switch name {
			case "the time limit":
				assert.Equal(t, "step-failed", fault.Code(err))
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
				assert.Eventually(t, func() bool { return !alive(pid) }, 5*time.Second, 10*time.Millisecond, "process %d runs on", pid)
			}
		})
	}
}

func TestLinesAreMadeFitToShow(t *testing.T) {
	var log bytes.Buffer
	var lines []string
	s := spec(t, &log, `printf '10%%\r50%%\r100%%\n\033[31mred\033[0m\tx\nno end'; printf '\n'; head -c 100000 /dev/zero | tr '\0' a; echo`)
	s.Line = func(line string) { lines = append(lines, line) }
	_, err := builder.Run(t.Context(), s)
	require.NoError(t, err)
	require.Len(t, lines, 4)
	assert.Equal(t, []string{"100%", "red    x", "no end"}, lines[:3])
	assert.Len(t, lines[3], 2000)
	assert.Greater(t, log.Len(), 100_000)
}
