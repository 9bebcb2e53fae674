package builder

import (
	"context"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/fault"
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
}

// Ready is what a build gets.
type Ready struct {
	Environment []string // NAME=value
	Secrets     []string // values that no log may show
	Short       []string // names of secrets too short to be masked
}

// inherited are the variables that are passed on: where programs and the user's files are, and how the network is reached. All
// others are made or left out, so that a build does not depend on who runs it.
var inherited = []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "http_proxy", "https_proxy", "no_proxy",
	"SSL_CERT_FILE", "SSL_CERT_DIR", "NODE_EXTRA_CA_CERTS", "SSH_AUTH_SOCK"}

var inheritedOnWindows = []string{"SystemRoot", "SystemDrive", "ComSpec", "PATHEXT", "TEMP", "TMP", "USERPROFILE", "APPDATA", "LOCALAPPDATA", "ProgramData",
	"ProgramFiles", "ProgramFiles(x86)", "NUMBER_OF_PROCESSORS", "PROCESSOR_ARCHITECTURE"}

// Environment makes what the steps see: PATH, HOME and the network's settings as here; a locale and a time zone that are the same
// everywhere; CI=true; and what the configuration says. Secrets that are not set are an error that names them all.
func Environment(w Wanted) (Ready, error) {
	names := inherited
	if runtime.GOOS == "windows" {
		names = append(slices.Clone(names), inheritedOnWindows...)
	}
	var ready Ready
	set := func(name, value string) { ready.Environment = append(ready.Environment, name+"="+value) }
	for _, name := range names {
		if value, ok := os.LookupEnv(name); ok {
			set(name, value)
		}
	}
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
		if len(strings.TrimSpace(value)) < shortestSecret {
			ready.Short = append(ready.Short, name)
		}
	}
	if len(missing) > 0 {
		return ready, fault.New(fault.Usage, "secret-missing", "the build needs secrets that are not set: %s", strings.Join(missing, ", ")).
			At("orilla.yaml: build.secrets").Then("set them in the environment of this command: %s=... orilla deploy", missing[0])
	}
	return ready, nil
}

func locale() string {
	if runtime.GOOS == "darwin" {
		return "en_US.UTF-8" // C.UTF-8 is not there before macOS 15
	}
	return "C.UTF-8"
}

// Prepare makes what the steps see, and makes sure that secrets, programs and versions are here. All that is missing is told at
// once: the error is a fault.Error.
func Prepare(ctx context.Context, w Wanted) (Ready, error) {
	ready, trouble := Environment(w)
	paths, wrong := versions(ctx, w.Needs, ready.Environment)
	if len(paths) > 0 {
		prependPath(ready.Environment, paths)
	}
	missing := Missing(ctx, w.Steps, ready.Environment)
	missing = slices.DeleteFunc(missing, func(name string) bool { _, told := w.Needs[name]; return told && len(wrong) > 0 })
	if len(missing)+len(wrong) == 0 {
		return ready, trouble
	}
	problem, secrets := trouble.(*fault.Error)
	var lines []string
	if len(missing) > 0 {
		lines = append(lines, "the build needs programs that are not here: "+strings.Join(missing, ", "))
	}
	for _, one := range wrong {
		lines = append(lines, one.what)
	}
	code := "program-missing"
	if len(missing) == 0 {
		code = "version-wrong"
	}
	out := fault.New(fault.BuildFailed, code, "%s", lines[0]).At("orilla.yaml: build").With(lines[1:]...)
	if len(missing) > 0 {
		out = out.Then("install %s; orilla doctor looks again", strings.Join(missing, ", "))
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

func prependPath(environment, paths []string) {
	for i, variable := range environment {
		if rest, ok := strings.CutPrefix(variable, "PATH="); ok {
			environment[i] = "PATH=" + strings.Join(append(paths, rest), string(os.PathListSeparator))
		}
	}
}

// Missing returns the programs that steps begin with and that are neither in PATH nor known to the shell.
func Missing(ctx context.Context, steps []string, environment []string) []string {
	var missing, programs []string
	for _, step := range steps {
		program := firstWord(step)
		if program != "" && !slices.Contains(programs, program) {
			programs = append(programs, program)
		}
	}
	name, args := shell(`for program; do command -v "$program" >/dev/null || echo "$program"; done`)
	if base := filepath.Base(name); base != "sh" && base != "sh.exe" || len(programs) == 0 {
		return nil // another shell: its built-in commands are not known
	}
	check := exec.CommandContext(ctx, name, append(append(args, "sh"), programs...)...)
	check.Env = environment
	out, err := check.Output()
	if err == nil {
		missing = strings.Fields(string(out))
	}
	return missing
}

// firstWord returns the program that a step begins with, if that is plain to see: not a path, an assignment or shell syntax.
func firstWord(step string) string {
	words := strings.Fields(step)
	if len(words) == 0 || strings.ContainsAny(words[0], "/\\=$`\"'(){}<>|&;!*?[]~#") {
		return ""
	}
	return words[0]
}
