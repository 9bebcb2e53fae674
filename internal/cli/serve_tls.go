package cli

import (
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"runtime"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
)

// secured has a listener speak TLS with this machine's own authority, and returns the
// file that browsers are to trust; "" if the system trusts it already.
func (a *serveCmd) secured(listener net.Listener) (net.Listener, string, error) {
	folder := filepath.Join(a.places.Data, "authority")
	authority, err := certificates.OpenAuthority(folder)
	if err != nil {
		return nil, "", fault.New(fault.Failed, "authority", "cannot use this machine's own authority").
			At("%s", folder).Because(err).Then("move the folder away; a new authority is made then")
	}
	file := authority.File
	// Of browsers that have a store of their own this cannot be known; they warn.
	if c, err := authority.For("localhost"); err == nil {
		if _, err := c.Leaf.Verify(x509.VerifyOptions{DNSName: "localhost"}); err == nil {
			file = ""
		}
	}
	return connections.Secure(listener, authority.Config()), file, nil
}

// trustWith is the command with which a browser on this system learns to trust a file.
func trustWith(system, file string) string {
	switch system {
	case "darwin":
		return "security add-trusted-cert -r trustRoot -k ~/Library/Keychains/login.keychain-db " + file
	case "windows":
		return "certutil -user -addstore Root " + file
	}
	// Chromium's and its relatives' store; docs/serving.md has the others.
	return "certutil -d sql:$HOME/.pki/nssdb -A -t C,, -n orilla -i " + file
}

// noteTrust says how browsers learn to trust a certificate, where they may not.
func (a *serveCmd) noteTrust(file string) {
	if file == "" {
		return
	}
	// Shorter, and it works as it is printed.
	if home, err := os.UserHomeDir(); err == nil {
		if within, err := filepath.Rel(home, file); err == nil && filepath.IsLocal(within) &&
			runtime.GOOS != "windows" {
			file = "~/" + filepath.ToSlash(within)
		}
	}
	a.Note("%s", console.Faint("browsers warn until they trust this machine's own authority, once:"))
	a.Note("  %s", trustWith(runtime.GOOS, file))
}
