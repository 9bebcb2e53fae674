package golden_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/golden"
)

// failing takes note of failures instead of failing.
type failing struct {
	testing.TB
	said string
}

func (f *failing) Errorf(format string, args ...any) { f.said += fmt.Sprintf(format, args...) }

func TestADifferenceIsShownWithWhatToDo(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "status.txt")
	require.NoError(t, os.WriteFile(path, []byte("production\nlive\n"), 0o644))

	same := &failing{TB: t}
	golden.EqualFile(same, path, "production\nlive\n")
	assert.Empty(t, same.said)

	differs := &failing{TB: t}
	golden.EqualFile(differs, path, "production\nfrozen\n")
	assert.Contains(t, differs.said, "-live\n+frozen\n")
	assert.Contains(t, differs.said, "-update")

	missing := &failing{TB: t}
	golden.EqualFile(missing, path+".not-there", "text\n")
	assert.Contains(t, missing.said, "+text\n", "a file that is missing is a difference")
}
