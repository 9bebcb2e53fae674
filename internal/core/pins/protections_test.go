package pins_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/soak"
)

// edit is a text of a file and what stands there instead.
type edit struct{ file, text, instead string }

// TestEachProtectionIsNeeded takes out one protection of
// the protocol after another: without it, the simulation
// finds a store that is broken. It takes some minutes.
func TestEachProtectionIsNeeded(t *testing.T) {
	if !soak.Asked() {
		t.Skip("it takes minutes: ORILLA_SOAK is not set")
	}
	const simulation = "simulation_test.go"
	for what, edits := range map[string][]edit{
		"deletions end with the lease": {{"remove.go",
			"return r.lease.during(ctx, ErrLate, func(ctx context.Context) error { return " +
				"storage.Remove(ctx, r.store, keys) }, never)", "return storage.Remove(ctx, r.store, keys)"}},
		"writes end with the lease": {{"pins.go",
			"return &writer{h.store, h.lease, ErrLapsed}", "return h.store"}},
		"a lapsed lease stays lapsed": {{"lease.go", "l.over = l.over || ", "l.over = "},
			{"lease.go", "return // others may have acted on its end: it does not come back to life",
				"_ = 0"}, {"lease.go", "l.data) == nil && l.holds()", "l.data) == nil"}},
		"holders stop a margin before the end": {{"lease.go",
			"context.WithDeadline(ctx, l.until.Add(-margin))", "context.WithDeadline(ctx, l.until)"},
			{"lease.go", "l.until.Round(0).Add(-margin)", "l.until.Round(0)"}},
		"others count a margin longer": {{"lease.go", "modified.Add(Lease + margin)",
			"modified.Add(Lease)"}},
		"no pin is dropped after an unclear write": {{"pins.go", "h.lease.unclear.Load()", "false"}},
		"no end after an unclear deletion":         {{"remove.go", "r.lease.unclear.Load()", "false"}},
		"pins are waited for": {{"remove.go", "err == nil && len(waits) > 0;",
			"err == nil && len(waits) > 0 && false;"}},
		"roots go before objects": {{"remove.go",
			" && storage.Rank(keys[n]) == storage.Rank(keys[0])", ""}},
		"what became needed is spared": {{simulation, "keys = slices.DeleteFunc(keys",
			"_ = slices.DeleteFunc(slices.Clone(keys)"}},
		"writers look at the lists again": {{simulation, "if again, err = hold.Settle(ctx,",
			"if again, err = func(func(string) bool, func(string)) (bool, error) { return false, nil }("}},
		"a root that is doomed is put again":     {{simulation, "\tput[root] = true\n", ""}},
		"a root that is doomed is not relied on": {{simulation, "!hold.Doomed(item.Key)", "hold != nil"}},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			out, err := simulate(t, edits)
			require.Error(t, err, "nothing broke without it: %s", out)
			assert.Contains(t, out, " lacks ", "it broke otherwise")
		})
	}
}

// simulate runs the simulation with files that are edited.
func simulate(t *testing.T, edits []edit) (string, error) {
	t.Helper()
	replaced := map[string]string{}
	for _, e := range edits {
		original, err := filepath.Abs(e.file)
		require.NoError(t, err)
		from := original
		if earlier, ok := replaced[original]; ok {
			from = earlier
		}
		data, err := os.ReadFile(from)
		require.NoError(t, err)
		require.Equal(t, 1, strings.Count(string(data), e.text), "%s: %s", e.file, e.text)
		replaced[original] = filepath.Join(t.TempDir(), e.file)
		require.NoError(t, os.WriteFile(replaced[original],
			[]byte(strings.Replace(string(data), e.text, e.instead, 1)), 0o644))
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replaced})
	require.NoError(t, err)
	list := filepath.Join(t.TempDir(), "overlay.json")
	require.NoError(t, os.WriteFile(list, overlay, 0o644))
	command := exec.Command("go", "test", "-vet=off", "-overlay", list, "-run",
		"^TestWhateverMeetsARootImpliesItsObjects$", ".")
	command.Env = append(os.Environ(), "ORILLA_SOAK=1")
	out, err := command.CombinedOutput()
	return string(out), err
}
