package deploy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/deploy"
)

func TestWhatIsProbed(t *testing.T) {
	t.Parallel()
	list, err := deploy.ReadProbes([]string{"/fares", "@pages", "npm run audit"},
		func(name string) ([]byte, error) {
			assert.Equal(t, "pages", name)
			return []byte("# pages\r\n\n  /a  \nsh audit.sh /b\n"), nil
		})
	require.NoError(t, err)
	assert.Equal(t, []string{"/fares", "/a", "sh audit.sh /b", "npm run audit"}, list)
	_, err = deploy.ReadProbes([]string{"@none"}, func(string) ([]byte, error) { return nil, assert.AnError })
	assert.Equal(t, "no-list", fault.Code(err))
	list, err = deploy.ReadProbes(nil, nil)
	require.NoError(t, err)
	assert.Nil(t, list, "nothing was said")
}
