package source

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/fault"
)

// Limits bound what an archive may unpack to, whatever its size.
type Limits struct {
	Files int64
	Bytes int64
}

// Unpack writes the files of an archive (ZIP, tar, or tar compressed with gzip,
// told by its first bytes) into a new folder and returns where its content
// begins: below the one folder that wraps everything, if there is one. Entries
// with an absolute path, a ".." or a link that leads out are refused, and so is
// whatever exceeds the limits.
//
// It returns the folder that holds the site: the one inside, if the archive has
// just one. What was unpacked before an error stays, and the caller removes the
// folder.
func Unpack(ctx context.Context, archive io.Reader, name, folder string, limits Limits) (string, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return "", err
	}
	defer root.Close() //nolint:errcheck // only a handle
	u := &unpacker{ctx: ctx, name: name, root: root, limits: limits}
	if err := u.unpack(archive); err != nil {
		return "", err
	}

	if u.files == 0 {
		return "", fault.New(fault.Refused, "empty-archive", "the archive has no files").At("%s", name)
	}
	return unwrap(folder)
}

// unpacker is an archive being unpacked. Entries are anybody's: none is written
// outside root, and what all of them take is bounded.
type unpacker struct {
	ctx    context.Context
	name   string
	root   *os.Root
	limits Limits
	files  int64
	bytes  int64
}

// unpack tells from its first bytes what kind of archive it is: names lie.
func (u *unpacker) unpack(archive io.Reader) error {
	// By content, not by name: standard input has none.
	buffered := bufio.NewReaderSize(archive, 64<<10)
	start, err := buffered.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return u.broken(err)
	}

	switch {
	case bytes.HasPrefix(start, []byte("PK")):
		return u.zip(buffered)
	case bytes.HasPrefix(start, []byte{0x1f, 0x8b}):
		plain, err := gzip.NewReader(buffered)
		if err != nil {
			return u.broken(err)
		}
		return u.tar(plain)
	}

	return u.tar(buffered)
}

// tar unpacks a tar archive. Devices and the like are refused: a site has none.
func (u *unpacker) tar(archive io.Reader) error {
	reader := tar.NewReader(archive)
	for {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return u.broken(err)
		}

		switch header.Typeflag {
		case tar.TypeReg:
			err = u.file(header.Name, reader)
		case tar.TypeSymlink:
			err = u.link(header.Name, path.Join(path.Dir(header.Name), header.Linkname), header.Linkname)
		case tar.TypeLink:
			err = u.hardLink(header.Name, header.Linkname)
		case tar.TypeDir, tar.TypeXGlobalHeader:
		default:
			err = u.refuse(header.Name, "is not a file, folder or link")
		}

		if err != nil {
			return err
		}
	}
}

// zip needs the whole archive, since a ZIP file is read from its end.
func (u *unpacker) zip(archive io.Reader) error {
	// The index of a ZIP stands at its end, so it has to be stored first; a
	// bound on bytes holds already then.
	spool, err := os.CreateTemp("", "orilla-*.zip")
	if err != nil {
		return err
	}
	defer os.Remove(spool.Name()) //nolint:errcheck // litter of the system's temporary folder
	defer spool.Close()           //nolint:errcheck // read back already
	size, err := io.Copy(spool, io.LimitReader(archive, u.limits.Bytes+1))
	if err != nil {
		return u.broken(err)
	}

	if size > u.limits.Bytes {
		return u.tooMuch()
	}
	reader, err := zip.NewReader(spool, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return u.broken(err)
	}

	for _, entry := range reader.File {
		if err := u.zipEntry(entry); err != nil {
			return err
		}
	}
	return nil
}

// zipEntry unpacks one entry of a ZIP archive.
func (u *unpacker) zipEntry(entry *zip.File) error {
	if strings.HasSuffix(entry.Name, "/") {
		return nil
	}
	content, err := entry.Open()
	if err != nil {
		return u.broken(err)
	}
	defer content.Close() //nolint:errcheck // read only

	switch mode := entry.Mode(); {
	case mode.IsRegular():
		return u.file(entry.Name, content)
	case mode&fs.ModeSymlink != 0:
		target, err := io.ReadAll(io.LimitReader(content, 4096))
		if err != nil {
			return u.broken(err)
		}
		return u.link(entry.Name, path.Join(path.Dir(entry.Name), string(target)), string(target))
	}

	return u.refuse(entry.Name, "is not a file, folder or link")
}

// clean returns the path of an entry inside the folder.
func (u *unpacker) clean(name string) (string, error) {
	clean := strings.TrimPrefix(path.Clean(name), "./")
	if path.IsAbs(name) || strings.Contains(name, `\`) || !filepath.IsLocal(filepath.FromSlash(name)) ||
		strings.ContainsRune(name, 0) || clean == "." {
		return "", u.refuse(name, "would be written outside the folder")
	}

	if len(name) > 4096 {
		return "", u.refuse(name[:60]+"…", "has too long a name")
	}
	return clean, nil
}

// file writes one file, and counts what it really unpacks to.
func (u *unpacker) file(name string, content io.Reader) error {
	if u.ctx.Err() != nil {
		return u.ctx.Err()
	}
	clean, err := u.clean(name)
	if err != nil {
		return err
	}

	if u.files++; u.files > u.limits.Files {
		return u.tooMuch()
	}
	out, err := u.create(clean)
	if err != nil {
		return u.broken(err)
	}

	// Counted while it is written: what an archive says of its sizes is its own
	// claim.
	n, err := io.Copy(out, io.LimitReader(content, u.limits.Bytes-u.bytes+1))
	u.bytes += n
	if err = errors.Join(err, out.Close()); err != nil {
		return u.broken(err)
	}

	if u.bytes > u.limits.Bytes {
		return u.tooMuch()
	}
	return nil
}

// create makes the file. An entry that comes twice
// replaces the first, link or not.
func (u *unpacker) create(name string) (*os.File, error) {
	if err := u.root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return nil, err
	}
	// The last entry of a name counts, and one that is a link must not be
	// written through.
	if err := u.root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return u.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
}

// link makes a symbolic link that stays within the archive.
func (u *unpacker) link(name, target, written string) error {
	clean, err := u.clean(name)
	if err != nil {
		return err
	}
	if path.IsAbs(written) || strings.Contains(written, `\`) ||
		!filepath.IsLocal(filepath.FromSlash(target)) {
		return u.refuse(name, "is a link that leads out: "+written)
	}

	if u.files++; u.files > u.limits.Files {
		return u.tooMuch()
	}
	if err := u.root.MkdirAll(path.Dir(clean), 0o755); err != nil {
		return u.broken(err)
	}
	return u.broken(u.root.Symlink(written, clean))
}

// hardLink copies what the entry names, which must have come before.
func (u *unpacker) hardLink(name, target string) error {
	source, err := u.clean(target)
	if err != nil {
		return u.refuse(name, "is a link that leads out: "+target)
	}
	// A copy in the place of the link: a release has no links, and the root
	// keeps it inside.
	content, err := u.root.Open(source)
	if err != nil {
		return u.refuse(name, "is a link to "+target+", which does not come before it")
	}
	defer content.Close() //nolint:errcheck // read only
	return u.file(name, content)
}

// refuse is the error of an entry that may not be unpacked.
func (u *unpacker) refuse(entry, why string) error {
	return fault.New(fault.Refused, "archive-entry", "the archive's entry %q %s", entry, why).
		At("%s", u.name).
		Then("create the archive again from inside the output folder, or publish the folder: " +
			"--from FOLDER")
}

// tooMuch is the error of an archive that unpacks to more than it may: a few
// kilobytes can unpack to terabytes.
func (u *unpacker) tooMuch() error {
	return fault.New(fault.Refused, "archive-too-large", "the archive unpacks to more than %d files or %d MB",
		u.limits.Files, u.limits.Bytes/1e6).
		At("%s", u.name).Then("if that is right, raise limits.files or limits.size in orilla.yaml")
}

// broken is the error of an archive that cannot be read to its end.
func (u *unpacker) broken(err error) error {
	if err == nil {
		return nil
	}
	if known, ok := errors.AsType[*fault.Error](err); ok {
		return known
	}

	return fault.New(fault.Failed, "archive-broken",
		"cannot read the archive; ZIP, tar and tar.gz are supported").At("%s", u.name).Because(err).
		Then("check that it is complete, or create it again")
}

// unwrap sees through one folder that holds everything,
// which many tools put around what they pack.
func unwrap(folder string) (string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return "", fmt.Errorf("reading what was unpacked: %w", err)
	}
	var kept []os.DirEntry
	for _, entry := range entries {
		if entry.Name() != "__MACOSX" && entry.Name() != ".DS_Store" {
			kept = append(kept, entry)
		}
	}

	// Most people pack the folder and not what is in it.
	if len(kept) == 1 && kept[0].IsDir() {
		return filepath.Join(folder, kept[0].Name()), nil
	}
	return folder, nil
}
