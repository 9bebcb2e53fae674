package test

import (
	"os/exec"
	"testing"

	"orilla.example/orilla/internal/steps"
)

// isolates says how this machine isolates builds. Where it cannot, the test is
// skipped, and scripts/test says so.
func isolates(t *testing.T) steps.Means {
	t.Helper()
	var means steps.Means
	if _, err := exec.LookPath("bwrap"); err == nil {
		means.Bubblewrap = "bwrap"
	}
	if _, err := exec.LookPath("pasta"); err == nil {
		means.Pasta = "pasta"
	}
	out, err := exec.Command("bwrap", "--unshare-all", "--ro-bind", "/", "/", "--proc", "/proc", "--dev",
		"/dev", "true").CombinedOutput()
	if err != nil {
		t.Skipf("NOT TESTED: builds cannot be isolated on this machine: %v: %s", err, out)
	}
	return means
}
