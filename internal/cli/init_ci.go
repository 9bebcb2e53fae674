package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/site"
)

// The scripts for CI, in the project.
const (
	ciScript        = "ci/publish.sh"
	ciProposedBuild = "ci/proposed-build.sh"
	ciProposedLive  = "ci/proposed-publish.sh"
	ciClosed        = "ci/closed.sh"
)

// ciFile is one of them.
type ciFile struct{ name, text string }

// What is written is a beginning that works, and the project's from then on: nothing of ours reads it again.

// initCI shows scripts for CI systems, and writes them if that is agreed to.
func (a *initCmd) initCI(ctx context.Context, p *site.Project, o initOptions) error {
	if !p.Configured {
		return fault.New(fault.Usage, "no-site",
			"no orilla.yaml yet, so there is nothing to publish").At("%s", p.Root).
			Then("orilla init")
	}

	// Shown before anything is written: they run with the store's credentials.
	files, err := ciFiles(p)
	if err != nil {
		return err
	}
	for i, file := range files {
		if i > 0 {
			a.Print("\n# ---- %s ----", file.name)
		}
		a.Print("%s", strings.TrimSuffix(file.text, "\n"))
	}

	for _, file := range files {
		if there := filepath.Join(p.Root, filepath.FromSlash(file.name)); exists(there) {
			return fault.New(fault.Refused, "there-already",
				"a script already exists; the ones above were not written").At("%s", there).
				Then("compare them, or remove it and run this again")
		}
	}

	a.Note("")
	// The commonest mistake of a first CI job is a store on the machine that is
	// gone after it.
	if address, _ := a.storeAddress(p); !strings.Contains(address, "://") ||
		strings.HasPrefix(address, "file:") {
		a.Note("%s the store is a local folder, which CI machines cannot reach: set store: "+
			"sftp://... or s3://... in orilla.yaml", console.Warn("note:"))
	}

	if o.dryRun {
		a.Note("%s", console.Faint("--dry-run wrote nothing"))
		return nil
	}
	write := o.yes
	if !write && a.Asks {
		about := "They are yours to change. For each push, one step runs: sh " + ciScript +
			". For proposed changes, one job without credentials runs " + ciProposedBuild +
			", and one with them " + ciProposedLive + ". When a branch or a change is closed, " +
			ciClosed + "."
		if write, err = a.Confirm(ctx, "Write them to "+filepath.Dir(ciScript)+"/?", about,
			true); err != nil {
			return err
		}
	}

	if !write {
		a.Note("nothing was written; %s writes %s", a.Command("orilla init --ci --yes"),
			ciScript+", "+ciProposedBuild+", "+ciProposedLive+" and "+ciClosed)
		return nil
	}

	for _, file := range files {
		if err := a.writeCI(p, file); err != nil {
			return err
		}
	}

	a.Note("%s put the program where CI can download it, set ORILLA_DOWNLOAD and the secrets, "+
		"commit the scripts, and run in one step: sh %s", console.Accent("next:"), ciScript)
	return nil
}

// exists reports whether something is at a path.
func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// writeCI writes one file for CI, executable, over what is there: the caller
// has asked.
func (a *initCmd) writeCI(p *site.Project, file ciFile) error {
	path := filepath.Join(p.Root, filepath.FromSlash(file.name))
	err := os.MkdirAll(filepath.Dir(path), 0o755)
	if err == nil {
		err = os.WriteFile(path, []byte(file.text), 0o755)
	}
	if err != nil {
		return fault.New(fault.Failed, "unwritable", "cannot write the script").At("%s", path).
			Because(err)
	}
	a.Note("%s %s", console.Good("wrote"), path)
	return nil
}

// ciFiles makes the scripts, with the version and the digest of this very
// program in them.
func ciFiles(p *site.Project) ([]ciFile, error) {
	sum, err := ownSum()
	if err != nil {
		return nil, err
	}
	build, site := p.ProductionConfig.Build, p.Site()
	var keys []string // of the store

	switch scheme, _, _ := strings.Cut(p.ProductionConfig.Store, "://"); scheme {
	case "s3":
		keys = append(keys, "AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY")
	case "sftp":
		keys = append(keys, "a key for the SSH agent, or ?key=FILE in the store's address")
	}

	list := func(names ...string) string { return cmp.Or(strings.Join(names, ", "), "none") }
	// The job that runs a stranger's code gets neither; the one that publishes
	// gets the store's keys, and not the build's.
	needed, storeOnly := list(slices.Concat(build.Secrets, keys)...), list(keys...)

	// on one line, behind a comment sign
	steps := strings.Join(strings.Fields(strings.Join(build.Steps(), "; ")), " ")
	elsewhere := "#               This script builds nothing by itself: orilla.yaml has no steps.\n"
	if steps != "" {
		elsewhere = "# Switch off:   other steps or services that build the site on each push (" + steps +
			"): this\n" +
			"#               script builds each commit once, and not at all where the " +
			"same content was built before.\n"
	}

	folder := ""
	if p.Prefix != "" {
		folder = "cd '" + strings.ReplaceAll(p.Prefix, "'", `'\''`) + "'\n"
	}
	fetch := fmt.Sprintf(ciFetch, version, sum, runtime.GOOS+"/"+runtime.GOARCH)

	return []ciFile{
		{ciScript, fmt.Sprintf(ciPublish, site, needed, elsewhere, fetch, folder)},
		{ciProposedBuild, fmt.Sprintf(ciBuildProposed, site, fetch, folder)},
		{ciProposedLive, fmt.Sprintf(ciPublishProposed, site, storeOnly, fetch, folder)},
		{ciClosed, fmt.Sprintf(ciEnd, site, storeOnly, fetch, folder)},
	}, nil
}

// ciFetch is the part of the scripts that gets the program.
const ciFetch = `set -eu
ORILLA_VERSION=%[1]s
ORILLA_SHA256=%[2]s # of %[3]s
: "${ORILLA_DOWNLOAD:?set it to the address where you keep orilla $ORILLA_VERSION for %[3]s}"
: "${ORILLA_HOME:=$PWD/.orilla}"
export ORILLA_HOME

program=$ORILLA_HOME/bin/orilla-$ORILLA_SHA256
sum() { if command -v sha256sum >/dev/null; then sha256sum "$1"; else shasum -a 256 "$1"; fi | cut -d' ' -f1; }
if [ ! -x "$program" ] || [ "$(sum "$program")" != "$ORILLA_SHA256" ]; then
  mkdir -p "$ORILLA_HOME/bin"
  curl --fail --silent --show-error --location --retry 3 --output "$program.new" "$ORILLA_DOWNLOAD"
  if [ "$(sum "$program.new")" != "$ORILLA_SHA256" ]; then
    echo "the file from $ORILLA_DOWNLOAD is not orilla $ORILLA_VERSION: its checksum differs" >&2
    exit 1
  fi
  chmod +x "$program.new"
  mv "$program.new" "$program"
fi
`

const ciPublish = `#!/bin/sh
# Publishes %[1]s from CI: builds the checked-out commit and publishes it to the environment of its branch.
#
# Cache:        the folder $ORILLA_HOME between runs, for dependencies and downloads.
# Secrets:      %[2]s
# Checkout:     a shallow one is enough. Not for proposed changes: use proposed-build.sh and proposed-publish.sh.
%[3]s#
# The program is pinned by version and checksum. To change to another version, run "orilla init --ci" with that one.
%[4]s# The cache is not part of the project.
if [ -d .git/info ] && ! grep -qsx '/.orilla' .git/info/exclude; then echo '/.orilla' >>.git/info/exclude; fi
%[5]sexec "$program" follow --once ${ORILLA_OUTPUTS:+--write "lines:$ORILLA_OUTPUTS"} ${ORILLA_SUMMARY:+--write "markdown:$ORILLA_SUMMARY"} "$@"
`

const ciBuildProposed = `#!/bin/sh
# Builds a proposed change of %[1]s into site.tar.gz. This job runs a stranger's code, so it must hold no credentials: none
# of the store, none of other services, no cache that other jobs read. Hand site.tar.gz on to the job that runs proposed-publish.sh.
#
# Checkout:     the proposed change.
%[2]s
for name in AWS_SECRET_ACCESS_KEY SSH_AUTH_SOCK ORILLA_WAKE_SECRET; do
  if [ -n "$(printenv "$name")" ]; then
    echo "$name is set: a job that runs a stranger's code must not hold it" >&2
    exit 1
  fi
done
%[3]sexec "$program" build HEAD --archive site.tar.gz "$@"
`

const ciPublishProposed = `#!/bin/sh
# Publishes site.tar.gz, which proposed-build.sh made of a proposed change of %[1]s, to a preview of its own. This job holds credentials, so it
# must run none of the change's code: its checkout is the production branch.
#
# Secrets:      %[2]s
# Checkout:     the production branch, never the change.
%[3]s
: "${PROPOSED_REF:?set it to the full name of the change, such as refs/proposed/7/head}"
: "${PROPOSED_COMMIT:?set it to the hash of its commit}"
%[4]sexec "$program" deploy --from site.tar.gz --proposed "$PROPOSED_REF" --commit "$PROPOSED_COMMIT" "$@"
`

const ciEnd = `#!/bin/sh
# Ends the preview of a branch or of a proposed change of %[1]s: its URL then answers 410 Gone. Let CI run it when one is
# closed, merged or not. Removing what is gone already is no error. publish.sh also notices deleted branches.
#
# Secrets:      %[2]s
# Checkout:     the production branch; a shallow one is enough.
%[3]s
: "${CLOSED:?set it to the name of the branch, or to the full name of the change, such as refs/proposed/7/head}"
%[4]sexec "$program" preview remove "$CLOSED" --yes "$@"
`

// ownSum returns the SHA-256 of this program.
func ownSum() (string, error) {
	path, err := os.Executable()
	if err != nil {
		return "", err
	}
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close() //nolint:errcheck // read only
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return "", err
	}

	return hex.EncodeToString(hash.Sum(nil)), nil
}
