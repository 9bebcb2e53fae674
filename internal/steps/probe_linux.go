package steps

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"orilla.example/orilla/internal/sandbox"
)

// Probe finds out, by trying, how this machine can isolate builds. That
// everything works is remembered in a file, for a day and as long as the same
// programs are there and the machine is not started anew; "" remembers nothing.
// What does not work is tried each time.
func Probe(ctx context.Context, remember string) Means {
	bubblewrap, err := exec.LookPath("bwrap")
	if err != nil {
		return Means{Why: "bubblewrap is not installed", Hint: "install it: apt-get install bubblewrap passt"}
	}
	pasta, missing := exec.LookPath("pasta")
	means := Means{Bubblewrap: bubblewrap, Pasta: pasta}
	state := surroundings(bubblewrap, pasta)
	if strict, known := recall(remember, state); known && missing == nil {
		means.Strict = strict
		return means
	}

	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	why := ""
	for _, strict := range []bool{true, false} { // versions before 0.8 know no --disable-userns
		means.Strict = strict
		if why = tryCell(ctx, means, false); why == "" {
			break
		}
	}

	if why != "" {
		return Means{Why: "bubblewrap does not work here: " + why, Hint: namespacesHint()}
	}
	if missing != nil {
		means.Why = "isolated builds have no network: pasta is not installed"
		means.Hint = "install it: apt-get install passt"
		return means
	}

	if why := tryCell(ctx, means, true); why != "" {
		means.Pasta = ""
		means.Why, means.Hint = "isolated builds have no network: pasta does not work here: "+
			why, "check that this user may open /dev/net/tun"
		return means
	}

	if remember != "" && os.MkdirAll(filepath.Dir(remember), 0o700) == nil {
		//nolint:errcheck // then it is tried again
		os.WriteFile(remember, []byte(fmt.Sprintln(state, means.Strict)), 0o600)
	}
	return means
}

// surroundings names what the result of a probe depends on: the programs, the
// user, and this start of the machine.
func surroundings(programs ...string) string {
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	text := strings.TrimSpace(string(boot)) + "," + strconv.Itoa(os.Getuid())
	for _, program := range programs {
		if info, err := os.Stat(program); err == nil {
			text += fmt.Sprintf(",%d-%d", info.Size(), info.ModTime().UnixNano())
		}
	}
	return text
}

// recall returns what was remembered under the same surroundings, not long ago.
func recall(file, state string) (strict, known bool) {
	info, err := os.Stat(file)
	if err != nil || time.Since(info.ModTime()) > 24*time.Hour {
		return false, false
	}
	text, err := os.ReadFile(file)
	before, after, found := strings.Cut(strings.TrimSpace(string(text)), " ")
	return after == "true", err == nil && found && before == state
}

// namespacesHint says what usually keeps a user from having namespaces.
func namespacesHint() string {
	for file, bad := range map[string]string{
		"/proc/sys/kernel/apparmor_restrict_unprivileged_userns": "1",
		"/proc/sys/kernel/unprivileged_userns_clone":             "0",
		"/proc/sys/user/max_user_namespaces":                     "0",
	} {
		if value, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(value)) == bad {
			name := strings.ReplaceAll(strings.TrimPrefix(file, "/proc/sys/"), "/", ".")
			return name + " is " + bad +
				": allow user namespaces for bwrap, with an AppArmor profile or that setting"
		}
	}
	return "it needs user namespaces, which containers and CI often forbid"
}

// tryCell runs nothing in a cell, and returns why that
// does not work; "" if it does.
func tryCell(ctx context.Context, means Means, outside bool) string {
	folder, err := os.MkdirTemp("", "orilla-probe-")
	if err != nil {
		return err.Error()
	}
	defer os.RemoveAll(folder) //nolint:errcheck // litter of the system's temporary folder
	cell := &sandbox.Cell{Tree: filepath.Join(folder, "tree"), Temporary: filepath.Join(folder, "tmp"),
		Files:   filepath.Join(folder, "etc"),
		Outside: outside, Strict: means.Strict, Tasks: 100}

	if err := Furnish(*cell); err != nil {
		return err.Error()
	}

	session, err := Open(Options{ID: "probe-" + filepath.Base(folder), Cell: cell, Means: means})
	if err != nil {
		return err.Error()
	}
	defer session.Close()
	if err := session.Check(ctx); err != nil {
		return err.Error()
	}

	return ""
}
