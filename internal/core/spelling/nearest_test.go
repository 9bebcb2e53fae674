package spelling_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/spelling"
)

func TestNearest(t *testing.T) {
	t.Parallel()
	words := []string{"production", "staging", "preview/winter-times"}
	assert.Equal(t, "production", spelling.Nearest("prodction", words))
	assert.Equal(t, "staging", spelling.Nearest("stagin", words))
	assert.Empty(t, spelling.Nearest("elsewhere-entirely", words),
		"nothing near is better than something far")
	assert.Empty(t, spelling.Nearest("x", nil))
}
