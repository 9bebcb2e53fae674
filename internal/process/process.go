// Package process is about this process and those that it starts: what they may
// know of each other.
//
// Whoever runs Orilla gives it secrets in its environment: keys of the store,
// secrets of builds. No child gets them but the build step that is to have them,
// so every child's environment is made, never inherited:
//
//	command := exec.CommandContext(ctx, "git", "fetch")
//	command.Env = process.Environment("GIT_TERMINAL_PROMPT=0")
//	err := process.Run(command)
//
// docs/trust.md says who is kept from what.
package process

import (
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// plain are the variables that every child may have: where programs and files
// are, and how to speak to people.
var plain = []string{
	"PATH", "HOME", "USER", "LOGNAME", "SHELL", "TMPDIR", "LANG", "LC_ALL", "LC_CTYPE", "TZ", "TERM",
	"XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME", "SSL_CERT_FILE", "SSL_CERT_DIR",
}

// plainOnWindows are those without which programs do not start there.
var plainOnWindows = []string{
	"SystemRoot", "SystemDrive", "ComSpec", "PATHEXT", "TEMP", "TMP", "USERPROFILE", "USERNAME", "APPDATA",
	"LOCALAPPDATA", "ProgramData",
	"ProgramFiles", "ProgramFiles(x86)", "HOMEDRIVE", "HOMEPATH", "NUMBER_OF_PROCESSORS",
	"PROCESSOR_ARCHITECTURE",
}

// Network are the variables that say how the network is reached. A proxy's
// address may hold a password.
var Network = []string{"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY", "http_proxy", "https_proxy",
	"no_proxy", "all_proxy"}

// Environment returns what a child may know: the plain
// variables as they are here, and more, by name. A name
// that ends in a star stands for all that begin so.
func Environment(more ...string) []string {
	names := slices.Concat(plain, more)
	if runtime.GOOS == "windows" {
		names = append(names, plainOnWindows...)
	}

	var environment []string
	for _, variable := range os.Environ() {
		name, _, _ := strings.Cut(variable, "=")
		if slices.ContainsFunc(names, func(one string) bool { return means(one, name) }) {
			environment = append(environment, variable)
		}
	}
	return environment
}

// means reports whether a pattern means a variable. On Windows names of
// variables are compared without regard to case.
func means(pattern, name string) bool {
	if before, starred := strings.CutSuffix(pattern, "*"); starred {
		return strings.HasPrefix(name, before)
	}
	if runtime.GOOS == "windows" {
		return strings.EqualFold(pattern, name)
	}
	return pattern == name
}

// started are the children that this process knows of. What else turns up among
// its children was left behind by a build step whose keeper was killed; see
// Adopted. The lock is held while a child is started, so that no child is ever
// there and not known. This is about the process as a whole, so there is one.
var started = struct {
	sync.RWMutex
	known sync.Map // int: a process id
}{}

// Start starts a child. Done is to be called once it was waited for.
func Start(command *exec.Cmd) error {
	started.RLock()
	defer started.RUnlock()

	err := command.Start()
	if err == nil {
		started.known.Store(command.Process.Pid, true)
	}
	return err
}

// Done forgets a child that was waited for.
func Done(command *exec.Cmd) {
	if command.Process != nil {
		started.known.Delete(command.Process.Pid)
	}
}

// Run runs a child to its end.
//
// It is what exec.Cmd.Run is, but for a child that ReapAdopted knows to leave
// alone.
func Run(command *exec.Cmd) error {
	if err := Start(command); err != nil {
		return err
	}
	defer Done(command)

	return command.Wait()
}

// Known reports whether a child was started by this process on purpose.
func Known(pid int) bool {
	_, known := started.known.Load(pid)
	return known
}
