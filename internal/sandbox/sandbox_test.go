package sandbox_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/sandbox"
)

// arguments are those of a cell on a machine where some
// paths are there, and /bin is a link.
func arguments(cell sandbox.Cell, there ...string) string {
	links := func(path string) string {
		if path == "/bin" {
			return "usr/bin"
		}
		return ""
	}
	exists := func(path string) bool { return slices.Contains(there, path) }
	return strings.Join(cell.Arguments("/usr/bin/bwrap", "site", []string{"/bin/sh", "-c", "make"}, links,
		exists), " ") + " "
}

func TestACellShowsProgramsAndNothingOfTheUser(t *testing.T) {
	t.Parallel()
	cell := sandbox.Cell{Tree: "/cache/tree", Temporary: "/cache/tmp", Files: "/cache/etc",
		Home: "/home/ines", Tasks: 7, Strict: true,
		Hidden: []string{"/opt/orilla", "/srv/store", "/usr/share/orilla"},
		Path: []string{"/usr/bin", "/home/ines/bin", "/home/ines/.local/bin",
			"/home/ines/.nvm/versions/node/v20/bin", "/srv/tools/bin", "/srv/store/bin", "/opt/orilla/bin",
			"relative", "/", "/home", "/home/ines", "/nowhere/bin"}}
	line := arguments(cell, "/usr", "/opt", "/home/ines/bin", "/home/ines/lib", "/home/ines/share",
		"/home/ines/.local/bin", "/home/ines/.local/share", "/home/ines/.nvm/versions/node/v20/bin",
		"/home/ines/.nvm/versions/node/v20/lib", "/srv/tools/bin", "/srv/tools/lib", "/srv/store/bin",
		"/opt/orilla/bin", "/opt/orilla", "/usr/share/orilla", "/home", "/home/ines", "/etc/ssl/certs")

	for _, shown := range []string{"--ro-bind /usr /usr", "--symlink usr/bin /bin", "--ro-bind /opt /opt",
		"--ro-bind /etc/ssl/certs /etc/ssl/certs", "--ro-bind /home/ines/bin /home/ines/bin",
		"--ro-bind /home/ines/.nvm/versions/node/v20/lib ", "--ro-bind /srv/tools/bin ",
		"--ro-bind /srv/tools/lib ", "--bind /cache/tree /build", "--bind /cache/tmp /tmp",
		"--tmpfs /opt/orilla ", "--tmpfs /usr/share/orilla ", "--unshare-net ", "--disable-userns ",
		"--cap-drop ALL ", "--remount-ro / ", "--chdir /build/site -- "} {
		assert.Contains(t, line, shown)
	}
	for _, hidden := range []string{"/home/ines/.local/share", "/home/ines/share", "/home/ines/lib",
		"/srv/store", "/opt/orilla/bin", "--ro-bind / ", "--ro-bind /home ", "--ro-bind /home/ines ",
		"/nowhere", "relative", "--ro-bind /etc /etc"} {
		assert.NotContains(t, line, hidden)
	}
	assert.Less(t, strings.Index(line, "--ro-bind /opt /opt"), strings.Index(line, "--tmpfs /opt/orilla"),
		"what is hidden is hidden after what is shown")
	assert.True(t, strings.HasSuffix(line, " 7 /bin/sh -c make "), line)

	cell.Outside, cell.Strict = true, false
	line = arguments(cell, "/usr")
	assert.NotContains(t, line, "--unshare-net", "the network is the keeper's")
	assert.NotContains(t, line, "--disable-userns")
	assert.Contains(t, cell.FileTexts()["resolv.conf"], sandbox.ResolverPlace)
}

func TestWhereAFolderIsInside(t *testing.T) {
	t.Parallel()
	cell := sandbox.Cell{Tree: "/cache/tree"}
	for folder, want := range map[string]string{"/cache/tree": ".", "/cache/tree/a/b": "a/b", "/cache": ".",
		"/cache/tree-2": ".", "/etc": "."} {
		t.Run(folder, func(t *testing.T) {
			assert.Equal(t, want, cell.Inside(folder), folder)
		})
	}
}

func TestClosedAddresses(t *testing.T) {
	t.Parallel()
	closed := sandbox.Closed([]netip.Addr{netip.MustParseAddr("203.0.113.7"),
		netip.MustParseAddr("2001:db8::7"), netip.MustParseAddr("127.0.0.1"),
		netip.MustParseAddr("fe80::1%eth0"), {}})
	is := func(text string) bool {
		address := netip.MustParseAddr(text)
		return slices.ContainsFunc(closed, func(p netip.Prefix) bool { return p.Contains(address) })
	}
	for _, address := range []string{"10.1.2.3", "172.31.0.1", "192.168.1.1", "169.254.169.254",
		"100.100.100.200", "0.0.0.0", "224.0.0.1", "255.255.255.255", "203.0.113.7", "2001:db8::7",
		"fd00:ec2::254", "fe80::1", "ff02::1", "64:ff9b::a00:1", "64:ff9b::a9fe:a9fe", "64:ff9b::cb00:7107",
		"2002:a00:1::"} {
		assert.True(t, is(address), address)
	}
	for _, address := range []string{"203.0.113.8", "8.8.8.8", "2606:4700::1", "64:ff9b::808:808",
		sandbox.ResolverPlace} {
		assert.False(t, is(address), address)
	}
	for text, public := range map[string]bool{"8.8.8.8": true, "::ffff:10.0.0.1": false, "127.0.0.1": false,
		"::1": false, "169.254.169.254": false, "2606:4700::1": true, "::": false} {
		t.Run(text, func(t *testing.T) {
			assert.Equal(t, public, sandbox.IsPublic(netip.MustParseAddr(text)), text)
		})
	}
}

func TestPastaOpensNothing(t *testing.T) {
	t.Parallel()
	line := sandbox.Connect("/usr/bin/pasta", "42", false)
	text := strings.Join(line, " ")
	for _, part := range []string{"--no-map-gw", "-t none", "-u none", "-T none", "-U none",
		"--netns /proc/42/ns/net", "--userns /proc/42/ns/user"} {
		assert.Contains(t, text, part)
	}
	require.NotContains(t, line, "--runas")
	assert.Contains(t, sandbox.Connect("pasta", "42", true), "--runas")
}

func TestABrowserSeesProgramsAndFontsAndNoNetwork(t *testing.T) {
	t.Parallel()
	links := func(path string) string {
		if path == "/bin" {
			return "usr/bin"
		}
		return ""
	}
	there := []string{"/usr", "/etc/fonts", "/etc/chromium", "/home/ines/.fonts", "/etc/passwd", "/etc/ssh"}
	exists := func(path string) bool { return slices.Contains(there, path) }
	line := strings.Join(sandbox.BrowserArguments("/usr/bin/bwrap", []string{"/usr/bin/chromium", "about:blank"},
		[]string{"/home/ines/.fonts", "/nowhere"}, links, exists), " ") + " "
	for _, part := range []string{" --unshare-net ", " --unshare-pid ", " --cap-drop ALL ", " --uid 1000 ", " --die-with-parent ",
		" --ro-bind /usr /usr ", " --symlink usr/bin /bin ", " --ro-bind /etc/fonts /etc/fonts ", " --ro-bind /etc/chromium /etc/chromium ",
		" --ro-bind /home/ines/.fonts /home/ines/.fonts ", " --tmpfs /tmp ", " --remount-ro / ", " -- /usr/bin/chromium about:blank "} {
		assert.Contains(t, line, part)
	}
	for _, part := range []string{" --bind ", "/etc/passwd", "/etc/ssh", "/nowhere", " --share-net "} {
		assert.NotContains(t, line, part)
	}
	// What is shown comes after the empty folders that would hide it.
	assert.Less(t, strings.Index(line, "--tmpfs /tmp"), strings.Index(line, "/home/ines/.fonts"))
}
