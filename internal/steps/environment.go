package steps

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/process"
)

// Wanted is what a build asks for of its surroundings.
type Wanted struct {
	Steps     []string
	Variables map[string]string // from the configuration
	Secrets   []string          // names: their values come from the environment of whoever builds
	Told      map[string]string // further variables
	Needs     map[string]string // versions of tools, by name
	Temporary string            // the folder for temporary files; "" for the system's
	Ceiling   string            // a folder above which Git looks for no repository; "" for none
	// Home is the home folder of the steps, of which nobody else's files are;
	// "" for the user's own, with the agent of their keys.
	Home    string
	Folder  string   // where the steps start
	Session *Session // where the steps run: programs and versions are looked for there; nil for here
}

// Ready is what the steps of a build get to see of the environment, and what of
// that must stay secret.
type Ready struct {
	Environment []string // NAME=value
	Secrets     []string // values that no log may show
	Short       []string // names of secrets too short to be masked
}

// inherited are the variables that are passed on: where programs and the user's
// files are, and how the network is reached. All others are made or left out,
// so that a build does not depend on who runs it.
var inherited = append([]string{"PATH", "USER", "LOGNAME", "SHELL", "SSL_CERT_FILE", "SSL_CERT_DIR",
	"NODE_EXTRA_CA_CERTS"}, process.Network...)

// inheritedByHand are those besides that a step run by
// hand has: the user's files and keys.
var inheritedByHand = []string{"HOME", "SSH_AUTH_SOCK"}

// toolPlaces are where version managers keep what they
// installed, below the home folder: a step with another home is
// told. Folders that hold credentials too are not among them.
var toolPlaces = map[string]string{
	"ASDF_DATA_DIR": ".asdf", "FNM_DIR": ".local/share/fnm", "MISE_DATA_DIR": ".local/share/mise",
	"NVM_DIR": ".nvm", "PYENV_ROOT": ".pyenv",
	"RBENV_ROOT": ".rbenv", "RUSTUP_HOME": ".rustup", "SDKMAN_DIR": ".sdkman", "VOLTA_HOME": ".volta",
}

var inheritedOnWindows = []string{"SystemRoot", "SystemDrive", "ComSpec", "PATHEXT", "TEMP", "TMP",
	"USERPROFILE", "APPDATA", "LOCALAPPDATA", "ProgramData",
	"ProgramFiles", "ProgramFiles(x86)", "NUMBER_OF_PROCESSORS", "PROCESSOR_ARCHITECTURE"}

// Environment makes what the steps see: PATH, HOME and the
// network's settings as here; a locale and a time zone that are
// the same everywhere; CI=true; and what the configuration says.
// Secrets that are not set are an error that names them all.
func Environment(w Wanted) (Ready, error) {
	// A list of what is let through, and never of what is kept out: tomorrow's
	// secrets have names that nobody knows today.
	names := inherited
	if runtime.GOOS == "windows" {
		names = append(slices.Clone(names), inheritedOnWindows...)
	}
	if w.Home == "" {
		names = append(slices.Clone(names), inheritedByHand...)
	}

	var ready Ready
	set := func(name, value string) { ready.Environment = append(ready.Environment, name+"="+value) }
	for _, name := range names {
		if value, ok := os.LookupEnv(name); ok {
			set(name, value)
		}
	}

	if w.Home != "" {
		setHome(set, w)
	}
	// The same language, time zone and CI flag on every machine: sorting, dates
	// and prompts depend on them.
	set("LANG", locale())
	set("LC_ALL", locale())
	set("TZ", "UTC")
	set("CI", "true")
	if w.Temporary != "" {
		set("TMPDIR", w.Temporary)
	}

	if w.Ceiling != "" {
		set("GIT_CEILING_DIRECTORIES", w.Ceiling)
	}
	for _, more := range []map[string]string{w.Variables, w.Told} {
		for _, name := range slices.Sorted(maps.Keys(more)) {
			set(name, more[name])
		}
	}

	var missing []string
	for _, name := range w.Secrets {
		value, ok := os.LookupEnv(name)
		if !ok || value == "" {
			missing = append(missing, name)
			continue
		}

		set(name, value)
		ready.Secrets = append(ready.Secrets, value)
		// Masking a secret of two letters would make a log unreadable, so it is
		// told instead.
		if len(strings.TrimSpace(value)) < shortestSecret {
			ready.Short = append(ready.Short, name)
		}
	}

	if len(missing) > 0 {
		return ready, fault.New(fault.Usage, "secret-missing", "the build needs secrets that are not set: %s",
			strings.Join(missing, ", ")).Marked(builds.ErrMachine).
			At("orilla.yaml: build.secrets").
			Then("set them in the environment of this command: export %s=...", missing[0])
	}
	return ready, nil
}

// setHome gives the steps a home folder of their own.
func setHome(set func(name, value string), w Wanted) {
	set("HOME", w.Home)
	if runtime.GOOS == "windows" {
		set("USERPROFILE", w.Home)
	}
	home, err := os.UserHomeDir()
	if err != nil || w.isolated() {
		return // inside, nothing of the user's is there
	}

	for _, name := range slices.Sorted(maps.Keys(toolPlaces)) {
		place, told := os.LookupEnv(name)
		if !told {
			place = filepath.Join(home, filepath.FromSlash(toolPlaces[name]))
		}
		if info, err := os.Stat(place); err == nil && info.IsDir() {
			set(name, place)
		}
	}
}

// isolated reports whether the steps run in a sandbox, which has an environment
// of its own.
func (w Wanted) isolated() bool { return w.Session != nil && w.Session.options.Cell != nil }

// locale is the character set that steps are told: tools that are told none
// take bytes for letters.
func locale() string {
	if runtime.GOOS == "darwin" {
		return "en_US.UTF-8" // C.UTF-8 is not there before macOS 15
	}
	return "C.UTF-8"
}

// Prepare makes what the steps see, and makes sure that
// secrets, programs and versions are here. All that is
// missing is told at once: the error is a fault.Error.
func Prepare(ctx context.Context, w Wanted) (Ready, error) {
	ready, trouble := Environment(w)
	// Programs are asked for their versions without secrets: a tool that is not
	// trusted yet needs none.
	public := w
	public.Secrets = nil
	shown, _ := Environment(public) // without secrets nothing can be missing
	ask := w.asker(shown.Environment)
	paths, wrong := versions(ctx, w.Needs, ask)
	if len(paths) > 0 {
		prependPath(ready.Environment, paths)
		prependPath(shown.Environment, paths)
	}

	missing := missing(ctx, w.Steps, ask)
	missing = slices.DeleteFunc(missing,
		func(name string) bool { _, told := w.Needs[name]; return told && len(wrong) > 0 })
	if len(missing)+len(wrong) == 0 {
		return ready, trouble
	}

	problem, secrets := errors.AsType[*fault.Error](trouble)
	var lines []string
	if len(missing) > 0 {
		lines = append(lines, "the build needs programs that are not installed: "+strings.Join(missing, ", "))
	}

	for _, one := range wrong {
		lines = append(lines, one.what)
	}
	code := "program-missing"
	if len(missing) == 0 {
		code = "version-wrong"
	}

	out := fault.New(fault.BuildFailed, code, "%s", lines[0]).Marked(builds.ErrMachine).
		At("orilla.yaml: build").With(lines[1:]...)
	if len(missing) > 0 {
		out = out.Then("install %s, then: orilla doctor", strings.Join(missing, ", "))
	}
	for _, one := range wrong {
		out = out.Then("%s", one.next)
	}

	if secrets {
		out = out.With(problem.What)
		out.Next = append(out.Next, problem.Next...)
	}
	return ready, out
}

// prependPath puts folders before those in PATH.
func prependPath(environment, paths []string) {
	for i, variable := range environment {
		if rest, ok := strings.CutPrefix(variable, "PATH="); ok {
			environment[i] = "PATH=" + strings.Join(append(paths, rest), string(os.PathListSeparator))
		}
	}
}

// asker runs a command, such as the question for a tool's version, with what a
// step sees but for its secrets, and returns what it prints.
type asker func(ctx context.Context, command ...string) ([]byte, error)

// asker asks where the steps will run. environment may
// change between questions.
func (w Wanted) asker(environment []string) asker {
	return func(ctx context.Context, command ...string) ([]byte, error) {
		var out bytes.Buffer
		if w.Session != nil {
			exit, err := w.Session.Run(ctx, command, w.Folder, environment, &out)
			if err == nil && exit != 0 {
				err = fmt.Errorf("status %d", exit)
			}
			return out.Bytes(), err
		}

		asked := exec.CommandContext(ctx, command[0], command[1:]...)
		asked.Env, asked.WaitDelay, asked.Stdout, asked.Stderr = environment, time.Second, &out, &out
		err := process.Run(asked)

		return out.Bytes(), err
	}
}

// missing returns the programs that steps begin with and that are neither in
// PATH nor known to the shell.
func missing(ctx context.Context, steps []string, ask asker) []string {
	var programs []string
	for _, step := range steps {
		program := firstWord(step)
		if program != "" && !slices.Contains(programs, program) {
			programs = append(programs, program)
		}
	}

	// One shell for all programs; a function or an alias of the user's does not
	// count, since steps have none.
	name, args := shell(`for program; do command -v "$program" >/dev/null || echo "$program"; done`)
	if base := filepath.Base(name); base != "sh" && base != "sh.exe" || len(programs) == 0 {
		return nil // another shell: its built-in commands are not known
	}
	out, err := ask(ctx, slices.Concat([]string{name}, args, []string{"sh"}, programs)...)
	if err != nil {
		return nil
	}

	return strings.Fields(string(out))
}

// firstWord returns the program that a step begins with, if that is plain to
// see: not a path, an assignment or shell syntax.
func firstWord(step string) string {
	words := strings.Fields(step)
	if len(words) == 0 || strings.ContainsAny(words[0], "/\\=$`\"'(){}<>|&;!*?[]~#") {
		return ""
	}
	return words[0]
}
