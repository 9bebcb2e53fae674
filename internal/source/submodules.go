package source

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/sandbox"
)

// submodules fills in the submodules of one checkout.
//
// Of a trusted one, those that the user's repository has are taken
// from there, without network; the others come from where .gitmodules
// says, with the user's keys. Of one that is not trusted, .gitmodules
// is what a stranger wrote: they come from public addresses, over
// HTTPS, without keys, and nothing is taken from this machine.
type submodules struct {
	repository *Repository
	how        manner
	origin     string // where the repository comes from
	depth      int
}

// Bounds on submodules that are not trusted.
const (
	mostModules = 50
	deepest     = 5
	moduleTime  = 5 * time.Minute // for each
)

// module is one submodule that a checkout sees.
type module struct{ name, path string }

// fill fills in the submodules of a folder. gitDir is where the user's
// repository keeps what belongs to the folder, above where that comes from.
func (s submodules) fill(ctx context.Context, folder, gitDir, above string) error {
	modules, err := s.seen(ctx, folder)
	if err != nil || len(modules) == 0 {
		return err
	}
	if s.how == foreign && (len(modules) > mostModules || s.depth >= deepest) {
		return submoduleFailed(fmt.Errorf("more than %d submodules, or more than %d levels of them",
			mostModules, deepest))
	}

	if s.how != foreign {
		if _, err := run(ctx, folder, "submodule", "--quiet", "init"); err != nil {
			return submoduleFailed(err)
		}
	}

	for _, one := range modules {
		local := filepath.Join(gitDir, "modules", filepath.FromSlash(one.name))
		from := above
		// What .gitmodules says is the branch's own word: only public addresses
		// are followed, and no keys are used.
		if s.how == foreign {
			from, err = s.fetchPublic(ctx, folder, one, above)
		} else {
			err = s.update(ctx, folder, one, local)
		}

		if err != nil {
			return submoduleFailed(err)
		}
		below, place := s, filepath.Join(folder, filepath.FromSlash(one.path))
		below.depth++
		if err := below.fill(ctx, place, local, from); err != nil {
			return err
		}

		if s.how == foreign { // no step finds a repository there
			if err := os.RemoveAll(filepath.Join(place, ".git")); err != nil {
				return err
			}
		}
	}

	return nil
}

// seen returns the submodules that are in the index and in the view. A name or
// a path that leads out is refused, as Git refuses it.
func (s submodules) seen(ctx context.Context, folder string) ([]module, error) {
	if info, err := os.Lstat(filepath.Join(folder, ".gitmodules")); err != nil || !info.Mode().IsRegular() {
		return nil, nil
	}
	out, err := runAs(ctx, s.how, folder, "config", "--file", ".gitmodules", "--get-regexp",
		`^submodule\..*\.path$`)
	if err != nil {
		return nil, ctx.Err() // it lists none
	}

	// Only what the sparse checkout has: H is present, 160000 a submodule.
	listing, err := runAs(ctx, s.how, folder, "ls-files", "--stage", "-t")
	if err != nil {
		return nil, err
	}
	present := map[string]bool{}
	for entry := range strings.SplitSeq(listing, "\n") {
		if about, name, found := strings.Cut(entry, "\t"); found && strings.HasPrefix(about, "H 160000 ") {
			present[name] = true
		}
	}

	var modules []module
	for line := range strings.SplitSeq(out, "\n") {
		key, place, _ := strings.Cut(line, " ")
		name := strings.TrimSuffix(strings.TrimPrefix(key, "submodule."), ".path")
		if !present[place] {
			continue // outside of what the build sees
		}

		if !filepath.IsLocal(filepath.FromSlash(name)) || !filepath.IsLocal(filepath.FromSlash(place)) ||
			strings.HasPrefix(name, "-") || strings.HasPrefix(place, "-") {
			return nil, submoduleFailed(fmt.Errorf("%q is not the name of a submodule", name))
		}
		modules = append(modules, module{name, place})
	}

	return modules, nil
}

// update fills in one submodule of a trusted checkout.
func (s submodules) update(ctx context.Context, folder string, one module, local string) error {
	command := []string{"submodule", "--quiet", "update", "--force", "--", one.path}
	// What the user's own clone has needs no network.
	if info, err := os.Lstat(local); err == nil && info.IsDir() {
		if _, err := run(ctx, folder, "config", "submodule."+one.name+".url", local); err != nil {
			return err
		}
		// this one, not what .gitmodules names
		command = append([]string{"-c", "protocol.file.allow=always"}, command...)
	}

	if _, err := runAs(ctx, fetching, folder, command...); err != nil {
		return err
	}
	_, err := run(ctx, filepath.Join(folder, filepath.FromSlash(one.path)), "clean", "-ffdxq")
	return err
}

// fetchPublic fills in one submodule of a checkout that is not trusted, and
// returns where it came from.
func (s submodules) fetchPublic(ctx context.Context, folder string, one module, above string,
) (string, error) {
	address, err := runAs(ctx, foreign, folder, "config", "--file", ".gitmodules", "--get",
		"submodule."+one.name+".url")
	if err != nil {
		return "", fmt.Errorf("%s has no address", one.name)
	}

	if address, err = publicAddress(ctx, address, above); err != nil {
		return "", err
	}
	commit, err := runAs(ctx, foreign, folder, "rev-parse", "--verify", ":"+one.path)
	if err != nil {
		return "", err
	}

	limited, cancel := context.WithTimeout(ctx, moduleTime)
	defer cancel()
	place := filepath.Join(folder, filepath.FromSlash(one.path))
	for _, step := range [][]string{
		{"init", "--quiet", "--template=", "--", place}, {"-C", place, "config", "core.autocrlf", "false"},
		{"-C", place, "fetch", "--quiet", "--no-tags", "--no-recurse-submodules", "--depth=1", "--", address,
			commit},
		{"-C", place, "read-tree", "--reset", "-u", commit},
	} {
		if _, err := runAs(limited, foreign, folder, step...); err != nil {
			return "", err
		}
	}

	return address, nil
}

var errNotPublic = errors.New(
	"untrusted builds get submodules only from public HTTPS addresses, without credentials")

// publicAddress returns the address of a submodule, if anybody
// could fetch from there. One that begins with a dot is relative to
// where the repository above comes from. What a name leads to may
// change between this look and Git's own: docs/trust.md says so.
func publicAddress(ctx context.Context, address, above string) (string, error) {
	at, err := url.Parse(address)
	if base, wrong := url.Parse(above); wrong == nil && base.Scheme == "https" &&
		(strings.HasPrefix(address, "./") || strings.HasPrefix(address, "../")) {
		base.Path = path.Join("/", base.Path, address)
		at, err = base, nil
	}

	if err != nil || at.Scheme != "https" || at.Hostname() == "" || at.User != nil {
		return "", fmt.Errorf("%s: %w", address, errNotPublic)
	}
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	// A public name can lead to a private address.
	found, err := net.DefaultResolver.LookupNetIP(limited, "ip", at.Hostname())
	if err != nil {
		return "", err
	}

	if slices.ContainsFunc(found, func(a netip.Addr) bool { return !sandbox.IsPublic(a) }) {
		return "", fmt.Errorf("%s: %w", address, errNotPublic)
	}
	return at.String(), nil
}

// submoduleFailed is the error of a submodule that could not be fetched.
func submoduleFailed(err error) error {
	problem := fault.New(fault.Failed, "submodule", "cannot check out a submodule").Because(err)
	if errors.Is(err, errNotPublic) {
		problem.Kind = fault.BuildFailed // trying again changes nothing
		return problem.Then("trust the branch: build.trust in orilla.yaml, on the production branch")
	}
	return problem.Then("git submodule update --init --recursive, then deploy again")
}
