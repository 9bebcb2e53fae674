package httpanswer_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/httpanswer"
)

// TestPublicIsWhatNoRegistryReserves asks for the first and the last address of
// what IANA's registries reserve, and for neighbours that are public.
func TestPublicIsWhatNoRegistryReserves(t *testing.T) {
	t.Parallel()
	for public, addresses := range map[bool][]string{
		false: {
			"0.0.0.0", "0.255.255.255", "10.0.0.1", "100.64.0.1", "100.127.255.255", "127.0.0.1", "127.255.255.255",
			"169.254.169.254", "172.16.0.1", "172.31.255.255", "192.0.0.1", "192.0.0.171", "192.0.2.1",
			"192.88.99.1", "192.168.0.1", "198.18.0.1", "198.19.255.255", "198.51.100.1", "203.0.113.255",
			"224.0.0.1", "239.255.255.255", "240.0.0.1", "255.255.255.255",
			"::", "::1", "::7f00:1", "::ffff:10.0.0.1", "::ffff:0:10.0.0.1", "64:ff9b::7f00:1", "64:ff9b::a00:1",
			"64:ff9b:1::1", "100::1", "100:0:0:1::1", "2001::1", "2001:2::1", "2001:10::1", "2001:db8::1",
			"2002:7f00:1::", "2002:a00:1::1", "3fff::1", "5f00::1", "fc00::1", "fd00::1", "fe80::1", "fe80::1%eth0",
			"febf::1", "fec0::1", "ff02::1",
		},
		true: {
			"1.1.1.1", "9.255.255.255", "11.0.0.0", "100.63.255.255", "100.128.0.0", "128.0.0.1", "169.253.0.1",
			"172.15.0.1", "172.32.0.1", "192.0.1.1", "192.167.0.1", "198.17.0.1", "198.20.0.1", "223.255.255.255",
			"::ffff:1.1.1.1", "2001:200::1", "2003::1", "2606:4700::1", "2a00::1",
		},
	} {
		for _, text := range addresses {
			assert.Equal(t, public, httpanswer.Reach{}.Allows(netip.MustParseAddr(text)), text)
			assert.True(t, httpanswer.Reach{All: true}.Allows(netip.MustParseAddr(text)), text)
		}
	}

	reach, err := httpanswer.ParseReach([]string{"10.1.0.0/16", "64:ff9b::/96"})
	require.NoError(t, err)
	for text, want := range map[string]bool{"10.1.2.3": true, "::ffff:10.1.2.3": true, "10.2.0.1": false,
		"64:ff9b::102:304": true} {
		assert.Equal(t, want, reach.Allows(netip.MustParseAddr(text)), text)
	}
}
