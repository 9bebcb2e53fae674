package sandbox

import "strconv"

// A browser that shows a page of a stranger needs less than a build: programs, libraries and fonts to
// read, memory for its profile, and no network at all. What the page asks for comes through the pipe
// by which the browser is driven.

// browserConfiguration is what a browser reads of /etc besides what a build may.
var browserConfiguration = []string{"chromium", "chromium.d", "opt/chrome"}

// browserMemory is the size of each of a browser's folders in memory, in bytes.
const browserMemory = 512 << 20

// BrowserArguments returns the command line of bubblewrap that runs a browser in a place of its own.
// shown are folders and files with more fonts, and with the browser; for links and exists see Cell.Arguments.
func BrowserArguments(bubblewrap string, command, shown []string, links func(string) string,
	exists func(string) bool,
) []string {
	args := []string{bubblewrap, "--die-with-parent", "--new-session", "--unshare-user", "--unshare-ipc",
		"--unshare-pid", "--unshare-uts", "--unshare-net", "--unshare-cgroup-try", "--uid", "1000", "--gid",
		"1000", "--cap-drop", "ALL", "--hostname", "pictures"}
	for _, place := range system {
		switch target := links(place); {
		case target != "":
			args = append(args, "--symlink", target, place)
		case exists(place):
			args = append(args, "--ro-bind", place, place)
		}
	}
	for _, list := range [][]string{configuration, browserConfiguration} {
		for _, name := range list {
			if place := "/etc/" + name; exists(place) {
				args = append(args, "--ro-bind", place, place)
			}
		}
	}
	size := strconv.Itoa(browserMemory)
	args = append(args, "--proc", "/proc", "--dev", "/dev", "--size", size, "--tmpfs", "/dev/shm",
		"--size", size, "--tmpfs", TemporaryPlace, "--dir", "/run", "--dir", HomePlace)
	for _, place := range append([]string{"/var/cache/fontconfig"}, shown...) {
		if exists(place) {
			args = append(args, "--ro-bind", place, place)
		}
	}
	args = append(args,
		"--setenv", "HOME", HomePlace, "--remount-ro", "/", "--chdir", TemporaryPlace, "--")
	return append(args, command...)
}
