package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/pipeline"
)

// ciScript is where the script for CI is written, in the project.
const ciScript = "ci/publish.sh"

// initCI shows a script for CI systems, and writes it if that is agreed to.
func (a *app) initCI(ctx context.Context, p *pipeline.Project, o initOptions) error {
	if !p.Configured {
		return fault.New(fault.Usage, "no-site", "there is no orilla.yaml yet, so there is nothing to publish").At("%s", p.Root).Then("orilla init first")
	}
	text, err := ciText(p)
	if err != nil {
		return err
	}
	a.Print("%s", strings.TrimSuffix(text, "\n"))
	file := filepath.Join(p.Root, filepath.FromSlash(ciScript))
	if _, err := os.Stat(file); err == nil {
		return fault.New(fault.Refused, "there-already", "there is a script already; the one above was not written").At("%s", file).Then("compare them, or remove it and run this again")
	}
	a.Note("")
	if address, _ := a.storeAddress(p); !strings.Contains(address, "://") || strings.HasPrefix(address, "file:") {
		a.Note("%s the store is a folder, which a machine of CI does not share: set store: sftp://... or s3://... in orilla.yaml", console.Warn("note:"))
	}
	if o.dryRun {
		a.Note("%s", console.Faint("nothing was written: --dry-run"))
		return nil
	}
	write := o.yes
	if !write && a.Asks {
		if write, err = a.Confirm(ctx, "Write it to "+ciScript+"?", "It is yours to change. In your CI system, one step runs: sh "+ciScript, true); err != nil {
			return err
		}
	}
	if !write {
		a.Note("nothing was written; %s writes it to %s", console.Accent("orilla init --ci --yes"), ciScript)
		return nil
	}
	err = os.MkdirAll(filepath.Dir(file), 0o755)
	if err == nil {
		err = os.WriteFile(file, []byte(text), 0o755)
	}
	if err != nil {
		return fault.New(fault.Failed, "unwritable", "the script cannot be written").At("%s", file).Because(err)
	}
	a.Note("%s %s", console.Good("wrote"), file)
	a.Note("%s put the program where CI can fetch it, set ORILLA_DOWNLOAD and the secrets there, commit the script, and let one step run: sh %s", console.Accent("next:"), ciScript)
	return nil
}

// ciText makes the script.
func ciText(p *pipeline.Project) (string, error) {
	sum, err := ownSum()
	if err != nil {
		return "", err
	}
	build, site := p.Standing.Build, p.Site()
	secrets := append([]string{}, build.Secrets...)
	switch scheme, _, _ := strings.Cut(p.Standing.Store, "://"); scheme {
	case "s3":
		secrets = append(secrets, "AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY")
	case "sftp":
		secrets = append(secrets, "a key for the SSH agent, or ?key=FILE in the store's address")
	}
	needed := "none"
	if len(secrets) > 0 {
		needed = strings.Join(secrets, ", ")
	}
	steps := strings.Join(strings.Fields(strings.Join(build.Steps(), "; ")), " ") // on one line, behind a comment sign
	elsewhere := "#               This script builds nothing by itself: orilla.yaml has no steps.\n"
	if steps != "" {
		elsewhere = "# Switch off:   other steps or services that build the site on each push (" + steps + "): this\n" +
			"#               script builds each commit once, and not at all where the same content was built before.\n"
	}
	folder := ""
	if p.Prefix != "" {
		folder = "cd '" + strings.ReplaceAll(p.Prefix, "'", `'\''`) + "'\n"
	}
	return fmt.Sprintf(`#!/bin/sh
# Publishes %[1]s from CI: builds the commit that was checked out and puts it where its branch belongs.
#
# Keep:         the folder $ORILLA_HOME between runs: dependencies and downloads lie there.
# Secrets:      %[2]s
# Checkout:     a shallow one will do.
%[3]s#
# The program is pinned by version and checksum. To change to another version, run "orilla init --ci" with that one.
set -eu
ORILLA_VERSION=%[4]s
ORILLA_SHA256=%[5]s # of %[6]s
: "${ORILLA_DOWNLOAD:?set it to the address where you keep orilla $ORILLA_VERSION for %[6]s}"
: "${ORILLA_HOME:=$PWD/.orilla}"
export ORILLA_HOME

program=$ORILLA_HOME/bin/orilla-$ORILLA_SHA256
sum() { if command -v sha256sum >/dev/null; then sha256sum "$1"; else shasum -a 256 "$1"; fi | cut -d' ' -f1; }
if [ ! -x "$program" ] || [ "$(sum "$program")" != "$ORILLA_SHA256" ]; then
  mkdir -p "$ORILLA_HOME/bin"
  curl --fail --silent --show-error --location --retry 3 --output "$program.new" "$ORILLA_DOWNLOAD"
  if [ "$(sum "$program.new")" != "$ORILLA_SHA256" ]; then
    echo "what $ORILLA_DOWNLOAD gave is not orilla $ORILLA_VERSION: its checksum differs" >&2
    exit 1
  fi
  chmod +x "$program.new"
  mv "$program.new" "$program"
fi
# What is kept is no part of the project.
if [ -d .git/info ] && ! grep -qsx '/.orilla' .git/info/exclude; then echo '/.orilla' >>.git/info/exclude; fi
%[7]sexec "$program" follow --once ${ORILLA_OUTPUTS:+--outputs "$ORILLA_OUTPUTS"} ${ORILLA_SUMMARY:+--summary "$ORILLA_SUMMARY"} "$@"
`, site, needed, elsewhere, version, sum, runtime.GOOS+"/"+runtime.GOARCH, folder), nil
}

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
