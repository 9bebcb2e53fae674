package steps

import (
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Memory returns how much memory there is, in bytes: the
// machine's, or what the control group of this process allows
// (cgroups(7), version 2) if that is less. 0 if that is not known.
func Memory() int64 {
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) != nil {
		return 0
	}
	most := int64(info.Totalram) * int64(info.Unit)

	group, err := os.ReadFile("/proc/self/cgroup")
	_, path, found := strings.Cut(string(group), "0::")
	if err != nil || !found {
		return most
	}

	path, _, _ = strings.Cut(path, "\n")
	text, err := os.ReadFile("/sys/fs/cgroup" + path + "/memory.max")
	if limit, wrong := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil &&
		wrong == nil && limit < most {
		return limit
	}
	return most
}
