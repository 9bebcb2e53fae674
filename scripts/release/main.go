// Release makes what is published of a version, from the last commit and nothing else:
//
//	go run ./scripts/release [-to FOLDER]
//
//	orilla_0.1.0_linux_amd64.tar.gz …    for six systems: the program, manual pages, completions, units
//	orilla_0.1.0_amd64.deb, .rpm …       packages for Linux (made by nfpm, which is fetched)
//	orilla_0.1.0.cdx.json                what it is made of (CycloneDX), with versions and licences
//	SHA256SUMS                           of all of these, for sha256sum --check
//
// Whoever runs it again, anywhere, with the same commit and the same version of Go, gets the same
// bytes: times are the commit's, names are sorted, nobody's folder or name is in them.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	cyclonedx "github.com/CycloneDX/cyclonedx-go"
)

// What a release is not: it is not signed, and nothing of it is published. Whoever publishes it signs
// SHA256SUMS with what readers know.

// nfpm makes packages. It is run as a program of its own, so that what it is made of is no part of
// this one.
const nfpm = "github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.43.1"

// target is a system that the program is made for.
type target struct{ system, arch string }

// targets are the systems.
var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"},
	{"windows", "amd64"}, {"windows", "arm64"}}

// name is how the files of a target are called.
func (t target) name(version string) string {
	return "orilla_" + version + "_" + t.system + "_" + t.arch
}

// program is how the program is called there.
func (t target) program() string {
	if t.system == "windows" {
		return "orilla.exe"
	}
	return "orilla"
}

// release is one version on its way.
type release struct {
	source  string // a clone of the commit
	stage   string // what goes into archives
	to      string
	version string
	when    time.Time // of the commit
}

func main() {
	to := flag.String("to", "dist", "the `FOLDER` that gets the files")
	flag.Parse()
	if err := run(*to); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// run makes a release of the last commit.
func run(to string) error {
	to, err := filepath.Abs(to)
	if err != nil {
		return err
	}
	if err = os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "orilla-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work) //nolint:errcheck // a temporary folder
	r := &release{source: filepath.Join(work, "source"), stage: filepath.Join(work, "stage"), to: to}
	for _, step := range []struct {
		what string
		do   func() error
	}{{"the commit, in a clone of its own", r.clone}, {"programs", r.programs},
		{"what goes with them", r.texts}, {"archives", r.archives}, {"packages", r.packages},
		{"what it is made of", r.materials},
		{"checksums", r.sums}} {
		began := time.Now()
		if err := step.do(); err != nil {
			return fmt.Errorf("%s: %w", step.what, err)
		}
		fmt.Printf("%-36s %6.1f s\n", step.what, time.Since(began).Seconds())
	}
	fmt.Printf("version %s of %s in %s\n", r.version, r.when.Format(time.DateOnly), to)
	return nil
}

// command runs a program and returns what it printed.
func (r *release) command(folder string, environment []string, name string, args ...string) (string, error) {
	command := exec.Command(name, args...)
	command.Dir, command.Env = folder, append(os.Environ(), environment...)
	command.Env = append(command.Env, "SOURCE_DATE_EPOCH="+strconv.FormatInt(r.when.Unix(), 10))
	var said bytes.Buffer
	command.Stderr = &said
	out, err := command.Output()
	if err != nil {
		return "", fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, said.String())
	}
	return strings.TrimSpace(string(out)), nil
}

// Each step leaves what the next one needs in the stage:
//
//	orilla__linux_amd64/orilla …   the programs
//	man/, completions/             what the program of this system writes
//	common/                        what to read, units, examples, licences
//	tree-amd64/ …                  as packages install it

// clone takes the last commit out into a clone: what is not in it cannot get into a release.
func (r *release) clone() error {
	left, err := r.command(".", nil, "git", "status", "--porcelain")
	if err != nil {
		return err
	}
	if left != "" {
		return errors.New("there are changes that are in no commit: commit or stash them")
	}
	if _, err = r.command(".", nil, "git", "clone", "-q", "--no-hardlinks", ".", r.source); err != nil {
		return err
	}
	when, err := r.command(r.source, nil, "git", "log", "-1", "--format=%ct")
	if err != nil {
		return err
	}
	seconds, err := strconv.ParseInt(when, 10, 64)
	r.when = time.Unix(seconds, 0).UTC()
	return err
}

// Nothing of the machine gets in: no path (-trimpath), no C library (CGO_ENABLED=0), no newer
// instructions than the oldest of the architecture (GOAMD64, GOARM64), no build id, which is made
// from paths. The commit does: the program says from which it was built.

// programs builds the program for each system, and asks the one of this system for its version.
func (r *release) programs() error {
	own := ""
	for _, t := range targets {
		program := filepath.Join(r.stage, t.name(""), t.program())
		_, err := r.command(r.source, []string{"CGO_ENABLED=0", "GOOS=" + t.system, "GOARCH=" + t.arch,
			"GOFLAGS=", "GOAMD64=v1", "GOARM64=v8.0"},
			"go", "build", "-trimpath", "-ldflags=-s -w -buildid=", "-o", program, "./cmd/orilla")
		if err != nil {
			return err
		}
		if t.system == runtime.GOOS && t.arch == runtime.GOARCH {
			own = program
		}
	}
	if own == "" {
		return fmt.Errorf("a release is made on one of its own systems, not on %s/%s", runtime.GOOS,
			runtime.GOARCH)
	}
	out, err := r.command(r.source, nil, own, "version", "--json")
	if err != nil {
		return err
	}
	var said struct{ Version string }
	if err := json.Unmarshal([]byte(out), &said); err != nil || said.Version == "" {
		return fmt.Errorf("the program does not say its version: %s", out)
	}
	r.version = said.Version
	return r.makeTexts(own)
}

// makeTexts has the program write its manual pages and completions.
func (r *release) makeTexts(program string) error {
	if _, err := r.command(r.source, nil, program, "man", filepath.Join(r.stage, "man")); err != nil {
		return err
	}
	folder := filepath.Join(r.stage, "completions")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for shell, file := range map[string]string{"bash": "orilla.bash", "zsh": "_orilla", "fish": "orilla.fish",
		"powershell": "orilla.ps1"} {
		text, err := r.command(r.source, nil, program, "completion", shell)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, file), []byte(text+"\n"), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// texts gathers what goes with each program: what to read, units, examples, and the licences of
// what it is made of, which their owners want to be passed on.
func (r *release) texts() error {
	common := filepath.Join(r.stage, "common")
	for _, file := range []string{"LICENSE", "README.md", "CHANGELOG.md", "packaging"} {
		if _, err := os.Stat(filepath.Join(r.source, file)); err != nil {
			return err
		}
		if err := copyTo(filepath.Join(common, file), filepath.Join(r.source, file)); err != nil {
			return err
		}
	}
	licences, err := r.licences()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(common, "LICENSES-of-others.txt"), licences, 0o644)
}

// copyTo copies a file or a folder.
func copyTo(to, from string) error {
	return filepath.WalkDir(from, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		below, err := filepath.Rel(from, at)
		if err != nil {
			return err
		}
		data, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		target := filepath.Join(to, below)
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		return os.WriteFile(target, data, info.Mode().Perm())
	})
}

// What a program is made of says the program: the compiler writes it there, after all conditions of
// systems. A list made from go.mod would have what only tests use.

// modules are the modules that any of the programs is made of, but for this one.
func (r *release) modules() ([]*debug.Module, string, error) {
	seen, toolchain := map[string]*debug.Module{}, ""
	for _, t := range targets {
		info, err := buildinfo.ReadFile(filepath.Join(r.stage, t.name(""), t.program()))
		if err != nil {
			return nil, "", err
		}
		toolchain = info.GoVersion
		for _, module := range info.Deps {
			if module.Replace != nil {
				module = module.Replace
			}
			seen[module.Path] = module
		}
	}
	list := make([]*debug.Module, 0, len(seen))
	for _, module := range seen {
		list = append(list, module)
	}
	slices.SortFunc(list, func(a, b *debug.Module) int { return strings.Compare(a.Path, b.Path) })
	return list, toolchain, nil
}

// A licence of others mostly asks for one thing: that its text goes along. So each archive and each
// package has all of them, and a module whose text cannot be found stops the release.

// licences are the texts of the licences of others, module by module.
func (r *release) licences() ([]byte, error) {
	modules, _, err := r.modules()
	if err != nil {
		return nil, err
	}
	text := bytes.NewBufferString("Orilla is made with what others have written. Their licences follow.\n")
	goRoot, err := r.command(r.source, nil, "go", "env", "GOROOT")
	if err != nil {
		return nil, err
	}
	if err := addLicences(text, "Go "+runtime.Version(), goRoot); err != nil {
		return nil, err
	}
	for _, module := range modules {
		folder, err := r.command(r.source, nil, "go", "list", "-m", "-f", "{{.Dir}}", module.Path)
		if err != nil {
			return nil, err
		}
		if err := addLicences(text, module.Path+" "+module.Version, folder); err != nil {
			return nil, err
		}
	}
	return text.Bytes(), nil
}

// addLicences adds the licences that lie in a folder. That there is none is an error: who publishes
// something without one does not allow it to be passed on.
func addLicences(text *bytes.Buffer, name, folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	found := false
	for _, entry := range entries {
		upper := strings.ToUpper(entry.Name())
		notice := strings.HasPrefix(upper, "NOTICE")
		// LICENSE, LICENCE, UNLICENSE, with and without an ending.
		if entry.IsDir() || strings.HasSuffix(upper, ".GO") || !notice && !strings.Contains(upper, "LICEN") &&
			!strings.HasPrefix(upper, "COPYING") {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, entry.Name()))
		if err != nil {
			return err
		}
		found = found || !notice
		line := strings.Repeat("=", 80)
		fmt.Fprintf(text, "\n%s\n%s (%s)\n%s\n\n%s\n", line, name, entry.Name(), line, bytes.TrimSpace(data))
	}
	if !found {
		return fmt.Errorf("%s has no licence in %s", name, folder)
	}
	return nil
}

// An archive has one folder, so that unpacking it somewhere leaves one thing there, and holds what a
// package would install: manual pages, completions, examples.

// member is a file of an archive.
type member struct {
	name string
	data []byte
	mode fs.FileMode
}

// members are the files of a target's archive, in the order of their names.
func (r *release) members(t target) (list []member, err error) {
	top := t.name(r.version)
	add := func(below, folder string) error {
		return filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			rest, err := filepath.Rel(folder, at)
			if err != nil {
				return err
			}
			data, err := os.ReadFile(at)
			mode := fs.FileMode(0o644)
			if path.Base(at) == t.program() {
				mode = 0o755
			}
			list = append(list, member{path.Join(top, below, filepath.ToSlash(rest)), data, mode})
			return err
		})
	}
	err = errors.Join(add("", filepath.Join(r.stage, t.name(""))), add("", filepath.Join(r.stage, "common")),
		add("completions", filepath.Join(r.stage, "completions")), add("man", filepath.Join(r.stage, "man")))
	// What only packages use, and systems without systemd cannot.
	list = slices.DeleteFunc(list, func(m member) bool {
		return strings.Contains(m.name, "/packaging/package/") ||
			t.system != "linux" && strings.Contains(m.name, "/packaging/systemd/")
	})
	slices.SortFunc(list, func(a, b member) int { return strings.Compare(a.name, b.name) })
	return list, err
}

// archives writes an archive for each system: a zip file for Windows, else a compressed tar file.
func (r *release) archives() error {
	for _, t := range targets {
		list, err := r.members(t)
		if err != nil {
			return err
		}
		pack, ending := tarball, ".tar.gz"
		if t.system == "windows" {
			pack, ending = zipped, ".zip"
		}
		data, err := pack(list, r.when)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(r.to, t.name(r.version)+ending), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// tarball packs files as a compressed tar file, of nobody, at one time.
func tarball(list []member, when time.Time) ([]byte, error) {
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	w := tar.NewWriter(zip)
	for _, m := range list {
		err := w.WriteHeader(&tar.Header{Name: m.name, Size: int64(len(m.data)), Mode: int64(m.mode),
			ModTime: when, Typeflag: tar.TypeReg, Format: tar.FormatUSTAR})
		if err == nil {
			_, err = w.Write(m.data)
		}
		if err != nil {
			return nil, err
		}
	}
	err = errors.Join(w.Close(), zip.Close()) // only now all of it is there
	return out.Bytes(), err
}

// zipped packs files as a zip file.
func zipped(list []member, when time.Time) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, m := range list {
		header := &zip.FileHeader{Name: m.name, Method: zip.Deflate, Modified: when}
		header.SetMode(m.mode)
		file, err := w.CreateHeader(header)
		if err == nil {
			_, err = file.Write(m.data)
		}
		if err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return out.Bytes(), err
}

// materials writes what the programs are made of, as CycloneDX has it.
func (r *release) materials() error {
	modules, toolchain, err := r.modules()
	if err != nil {
		return err
	}
	library := func(path, version string) cyclonedx.Component {
		purl := "pkg:golang/" + path + "@" + version
		return cyclonedx.Component{Type: cyclonedx.ComponentTypeLibrary, Name: path, Version: version,
			BOMRef: purl, PackageURL: purl}
	}
	bom := cyclonedx.NewBOM()
	bom.Metadata = &cyclonedx.Metadata{Timestamp: r.when.Format(time.RFC3339),
		Component: &cyclonedx.Component{Type: cyclonedx.ComponentTypeApplication, Name: "orilla",
			Version: r.version, BOMRef: "orilla"}}
	components := []cyclonedx.Component{library("std", strings.TrimPrefix(toolchain, "go"))}
	for _, module := range modules {
		components = append(components, library(module.Path, module.Version))
	}
	bom.Components = &components
	needs := make([]string, 0, len(components))
	for _, component := range components {
		needs = append(needs, component.BOMRef)
	}
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: "orilla", Dependencies: &needs}}
	file, err := os.Create(filepath.Join(r.to, "orilla_"+r.version+".cdx.json"))
	if err != nil {
		return err
	}
	err = cyclonedx.NewBOMEncoder(file, cyclonedx.BOMFileFormatJSON).SetPretty(true).Encode(bom)
	return errors.Join(err, file.Close())
}

// The list of checksums is what people compare, and what is signed. It has names without folders, so
// that it is checked where the files lie.

// sums writes the checksums of all files, in order of their names.
func (r *release) sums() error {
	entries, err := os.ReadDir(r.to)
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, entry := range entries {
		// An earlier version may lie there too, and has sums of its own.
		if !strings.HasPrefix(entry.Name(), "orilla_"+r.version+"_") &&
			!strings.HasPrefix(entry.Name(), "orilla_"+r.version+".") {
			continue
		}
		data, err := os.ReadFile(filepath.Join(r.to, entry.Name()))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		fmt.Fprintf(&text, "%s  %s\n", hex.EncodeToString(sum[:]), entry.Name())
	}
	return os.WriteFile(filepath.Join(r.to, "SHA256SUMS"), []byte(text.String()), 0o644)
}
