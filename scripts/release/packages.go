package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Packages put the program where distributions have programs, with its pages, completions and units,
// and a configuration that an upgrade leaves alone. They start nothing: a node without a store is
// none. An upgrade restarts a node that runs, while visitors wait at its sockets.

// packages makes .deb and .rpm for the Linux programs.
func (r *release) packages() error {
	for _, t := range targets {
		if t.system != "linux" {
			continue
		}
		tree := filepath.Join(r.stage, "tree-"+t.arch)
		if err := errors.Join(r.tree(tree, t), readable(tree)); err != nil {
			return err
		}
		config := filepath.Join(r.stage, "nfpm-"+t.arch+".yaml")
		if err := os.WriteFile(config, []byte(r.nfpmConfig(t, tree)), 0o644); err != nil {
			return err
		}
		for _, kind := range []string{"deb", "rpm"} {
			target := filepath.Join(r.to, fmt.Sprintf("orilla_%s_%s.%s", r.version, t.arch, kind))
			if _, err := r.command(r.stage, []string{"GOFLAGS=-mod=mod"}, "go", "run", nfpm, "package",
				"--packager", kind, "--config", config, "--target", target); err != nil {
				return err
			}
		}
	}
	return nil
}

// tree lays files out as a package installs them.
func (r *release) tree(tree string, t target) error {
	common, installed := filepath.Join(r.stage, "common"), filepath.Join(r.source, "packaging", "package")
	completions := filepath.Join(r.stage, "completions")
	for to, from := range map[string]string{
		"usr/bin/orilla":                                  filepath.Join(r.stage, t.name(""), t.program()),
		"etc/orilla/edge.yaml":                            filepath.Join(installed, "edge.yaml"),
		"etc/logrotate.d/orilla":                          filepath.Join(installed, "logrotate"),
		"usr/lib/systemd/system":                          filepath.Join(r.source, "packaging", "systemd"),
		"usr/share/doc/orilla/examples/nginx":             filepath.Join(r.source, "packaging", "nginx"),
		"usr/share/doc/orilla/examples/haproxy":           filepath.Join(r.source, "packaging", "haproxy"),
		"usr/share/doc/orilla/README.md":                  filepath.Join(common, "README.md"),
		"usr/share/doc/orilla/LICENSES-of-others.txt":     filepath.Join(common, "LICENSES-of-others.txt"),
		"usr/share/doc/orilla/copyright":                  filepath.Join(common, "LICENSE"),
		"usr/share/bash-completion/completions/orilla":    filepath.Join(completions, "orilla.bash"),
		"usr/share/zsh/vendor-completions/_orilla":        filepath.Join(completions, "_orilla"),
		"usr/share/zsh/site-functions/_orilla":            filepath.Join(completions, "_orilla"),
		"usr/share/fish/vendor_completions.d/orilla.fish": filepath.Join(completions, "orilla.fish"),
	} {
		if err := copyTo(filepath.Join(tree, filepath.FromSlash(to)), from); err != nil {
			return err
		}
	}
	// The program lies elsewhere than where somebody who copies files puts it.
	unit := filepath.Join(tree, "usr/lib/systemd/system/orilla-edge.service")
	text, err := os.ReadFile(unit)
	if err != nil {
		return err
	}
	moved := strings.ReplaceAll(string(text), "/usr/local/bin/orilla", "/usr/bin/orilla")
	if moved == string(text) {
		return errors.New("the unit does not say where the program is")
	}
	if err := os.WriteFile(unit, []byte(moved), 0o644); err != nil {
		return err
	}
	docs := filepath.Join(tree, "usr/share/doc/orilla")
	// Of the package itself there is nothing to tell; Debian wants it told.
	own := filepath.Join(r.stage, "changelog")
	err = os.WriteFile(own, fmt.Appendf(nil, "orilla (%s-1) stable; urgency=medium\n\n"+
		"  * See changelog.gz.\n\n -- %s  %s\n", r.version, maintainer, r.when.Format(time.RFC1123Z)), 0o644)
	return errors.Join(err, r.compressed(filepath.Join(docs, "changelog.Debian.gz"), own),
		r.compressed(filepath.Join(docs, "changelog.gz"), filepath.Join(common, "CHANGELOG.md")),
		r.pages(filepath.Join(tree, "usr/share/man")))
}

// maintainer is who packages are from.
const maintainer = "Orilla <orilla@orilla.example>"

// readable gives files the modes that everybody's machine would: what is made here has those that the
// umask of whoever makes it leaves.
func readable(tree string) error {
	return filepath.WalkDir(tree, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if entry.IsDir() || filepath.Base(filepath.Dir(at)) == "bin" {
			mode = 0o755
		}
		return os.Chmod(at, mode)
	})
}

// pages lays manual pages out, compressed as distributions have them.
func (r *release) pages(to string) error {
	from := filepath.Join(r.stage, "man")
	return filepath.WalkDir(from, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		below, err := filepath.Rel(from, at)
		if err != nil {
			return err
		}
		return r.compressed(filepath.Join(to, below+".gz"), at)
	})
}

// compressed writes a file with gzip, without a name or a time.
func (r *release) compressed(to, from string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err = zip.Write(data); err == nil {
		err = zip.Close()
	}
	return errors.Join(err, os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, out.Bytes(), 0o644))
}

// A configuration is never replaced: an upgrade lays the new one beside the one that somebody edited.
// git is recommended and not required, since an edge node has no use for it.

// nfpmConfig is what nfpm reads. Whatever is not the program or a configuration keeps the modes that
// it has in the tree.
func (r *release) nfpmConfig(t target, tree string) string {
	scripts := filepath.Join(r.source, "packaging", "package")
	return fmt.Sprintf(`name: orilla
arch: %s
platform: linux
version: %q
release: "1"
section: web
priority: optional
maintainer: %q
homepage: https://orilla.example/
license: MIT
mtime: %q
description: |
  Publish a static site from each commit, whole or not at all
  Orilla builds a static site from a commit, uploads what is new, and switches
  an environment to the new release in one step. Going back takes milliseconds.
  Edge nodes answer visitors from a folder, an SSH server or a bucket.
rpm: { buildhost: orilla.example }
recommends: [git]
suggests: [bubblewrap]
overrides:
  deb: { depends: [passwd] }
  rpm: { depends: [shadow-utils] }
contents:
  - { src: %[5]s/usr/bin/orilla, dst: /usr/bin/orilla, file_info: { mode: 0755 } }
  - src: %[5]s/etc/orilla/edge.yaml
    dst: /etc/orilla/edge.yaml
    type: config|noreplace
    file_info: { mode: 0644 }
  - src: %[5]s/etc/logrotate.d/orilla
    dst: /etc/logrotate.d/orilla
    type: config|noreplace
    file_info: { mode: 0644 }
  - { src: %[5]s/usr/lib/systemd/system/, dst: /usr/lib/systemd/system/ }
  - { src: %[5]s/usr/share, dst: /usr/share, type: tree }
scripts:
  postinstall: %[6]s/postinst
  preremove: %[6]s/prerm
  postremove: %[6]s/postrm
`, t.arch, r.version, maintainer, r.when.Format(time.RFC3339), tree, scripts)
}
