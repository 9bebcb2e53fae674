//go:build unix

package test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKeysOfServe do what they are offered for.
func TestKeysOfServe(t *testing.T) {
	t.Parallel()
	t.Run("a missing output, once it is there", func(t *testing.T) {
		t.Parallel()
		p := newPlace(t)
		p.write(map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['sh build.sh'], output: dist}\n"})
		s := p.terminal("serve", "--no-build", "--listen", "127.0.0.1:0")
		s.reads("next: sh build.sh")
		s.reads("then press r here")
		p.write(map[string]string{"dist/index.html": "home"})
		s.types("r")
		s.reads("fixed")
		s.types("q")
		s.ends(0)
	})
	t.Run("a development server, anew", func(t *testing.T) {
		t.Parallel()
		p, other := newPlace(t), newPlace(t)
		other.write(map[string]string{"index.html": "home"})
		p.write(map[string]string{"orilla.yaml": "site: corvane\n", "dev.sh": "echo $$ >> pids; exec " + program + " -C " +
			other.folder + " serve . --no-reload --listen \"$1\"\n"})
		address := freeAddress(t)
		s := p.terminal("serve", "--listen", "127.0.0.1:0", "--in-front-of", "http://"+address, "--run", "sh dev.sh "+address)
		s.reads("r restart the development server")
		pids := func() int {
			text, err := os.ReadFile(filepath.Join(p.folder, "pids"))
			require.NoError(t, err)
			return strings.Count(string(text), "\n")
		}
		require.Equal(t, 1, pids())
		s.types("r")
		require.Eventually(t, func() bool {
			response, err := http.Get("http://" + address + "/")
			if err != nil {
				return false
			}
			return response.Body.Close() == nil && pids() == 2
		}, patience, tick)
		s.types("q")
		assert.NotContains(t, s.ends(0), "ended", "it was asked for")
	})
}
