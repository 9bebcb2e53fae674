package devserver

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPoliciesThatStopReloading(t *testing.T) {
	t.Parallel()
	for policy, directive := range map[string]string{
		"":                                 "",
		"default-src 'self'":               "",
		"default-src *; script-src 'none'": "script-src",
		"default-src 'none'":               "default-src",
		"script-src 'self'; connect-src https://api.corvane.example": "connect-src",
		"script-src 'strict-dynamic' 'nonce-1' 'self'":               "script-src",
		"script-src-elem 'self'; script-src 'none'":                  "",
		"SCRIPT-SRC 'NONE'":                                             "script-src",
		"script-src 'none'; script-src 'self'":                          "script-src",
		"sandbox allow-forms":                                           "sandbox",
		"sandbox allow-scripts":                                         "sandbox",
		"sandbox allow-scripts allow-same-origin":                       "",
		"img-src 'none'; style-src 'none'":                              "",
		"default-src 'none'; script-src http: ; connect-src 'self'":     "",
		"script-src http://localhost:7430; connect-src localhost:7430 ": "",
	} {
		t.Run(policy, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, directive, blocked([]string{policy}))
		})
	}
	assert.Equal(t, "connect-src", blocked([]string{"default-src 'self'", "connect-src 'none'"}),
		"of several policies each counts")
}
