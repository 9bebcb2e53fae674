package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/sandbox"
	"orilla.example/orilla/internal/source"
)

// Output is a folder that can be scanned, and what is
// known of how it came about.
type Output struct {
	Folder           string // on this machine
	Name             string // of the folder, for messages
	Record           builds.Record
	Log              string // the file with what the steps printed; "" without steps
	Kept             bool   // an earlier try had finished it
	KeptDependencies bool   // dependencies were carried over from an earlier build

	made      bool // the folder is Orilla's, not the user's
	scratch   string
	workspace *workspace // that it lies in; nil for none. It is held until Close
}

// Open opens the output to be read. What a build left in a workspace is opened
// beneath that, whatever links the build made: the steps may be anybody's. done
// is called when nothing more is read.
func (o *Output) Open() (tree publish.Output, done func() error, err error) {
	if o.workspace == nil {
		if info, err := os.Stat(o.Folder); err != nil || !info.IsDir() {
			return publish.Output{}, nil, noOutput(o)
		}
		tree := source.Folder(o.Folder)
		tree.Root = filepath.Clean(o.Folder)
		return tree, func() error { return nil }, nil
	}

	within, err := filepath.Rel(o.workspace.Tree(), o.Folder)
	if err != nil {
		return publish.Output{}, nil, err
	}
	tree, done, err = o.workspace.Beneath(filepath.ToSlash(within))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return tree, nil, noOutput(o)
	case errors.Is(err, source.ErrOutside):
		return tree, nil, fault.New(fault.BuildFailed, "output-outside",
			"the output folder %q leads out of the checkout", o.Name).
			Then("make the build write a folder there, not a link")
	case err != nil:
		return tree, nil, fault.New(fault.Failed, "unreadable", "cannot read the output folder").
			At("%s", o.Name).Because(err)
	}
	tree.Seen = path.Join(sandbox.TreePlace, filepath.ToSlash(within))
	return tree, done, nil
}

// Stored says what came of putting the output into the store: nil if it is
// there. What could not be put for no fault of its own is kept for the next
// try, which then need not build.
func (o *Output) Stored(ctx context.Context, err error) {
	if o.workspace == nil || o.workspace.once {
		return
	}
	ofNoUse := ctx.Err() == nil && fault.KindOf(err) != fault.Failed
	if err == nil || ofNoUse {
		o.workspace.state.Output = nil
		o.workspace.save()
	}
}

// Close lets go of what the output lies in. Nothing can be read afterwards.
func (o *Output) Close() {
	if o.workspace != nil {
		o.workspace.release()
	}
	if o.scratch != "" {
		os.RemoveAll(o.scratch) //nolint:errcheck // cleaned with the cache
	}
}

// Rename makes a message speak of the output by the name that the user gave it,
// not by the path of a workspace.
func (o *Output) Rename(err error) error {
	problem, ok := errors.AsType[*fault.Error](err)
	if ok && (o.made || o.workspace != nil) && problem.Where == filepath.Clean(o.Folder) {
		problem.Where = o.Name
	}
	return err
}

// noOutput says which folders there are instead of the one that was expected.
func noOutput(output *Output) error {
	problem := fault.New(fault.Usage, "no-output", "the build left no folder %q", output.Name).
		At("build.output: %s (%s)", output.Name, project.FileName)
	beside, done := output.beside()
	defer done() //nolint:errcheck // read only
	entries, _ := fs.ReadDir(beside, ".")
	var folders []string
	with := ""
	for _, entry := range entries {
		if !entry.IsDir() || strings.HasPrefix(entry.Name(), ".") || entry.Name() == "node_modules" {
			continue
		}
		folders = append(folders, entry.Name()+"/")
		if _, err := fs.Stat(beside, path.Join(entry.Name(), "index.html")); err == nil {
			with = entry.Name()
		}
	}

	if len(folders) > 0 {
		problem = problem.With("there are: " + strings.Join(folders, " "))
	}
	if with != "" {
		return problem.With(with+"/ has an index.html").
			Then("in orilla.yaml: build.output: %s", path.Join(path.Dir(output.Name), with))
	}
	return problem.Then("set build.output to the folder that the build writes, or run the build")
}

// beside is the folder that the output should lie in.
func (o *Output) beside() (fs.FS, func() error) {
	nothing := func() error { return nil }
	if o.workspace == nil {
		return os.DirFS(filepath.Dir(o.Folder)), nothing
	}
	within, err := filepath.Rel(o.workspace.Tree(), filepath.Dir(o.Folder))
	if err != nil {
		return os.DirFS(o.workspace.Folder), nothing
	}

	tree, done, err := o.workspace.Beneath(filepath.ToSlash(within))
	if err != nil {
		return os.DirFS(o.workspace.Folder), nothing
	}
	return tree.FS, done
}

// logPart is how many bytes of a log become one object.
const logPart = 4 << 20

// LogParts reads the log of a build in pieces that fit into objects. add does
// not keep what it is given. A log named "" is empty.
func LogParts(log string, add func(data []byte) error) error {
	if log == "" {
		return nil
	}
	root, err := os.OpenRoot(filepath.Dir(log)) // a step that is not isolated could have put a link there
	if err != nil {
		return fmt.Errorf("reading the build's log: %w", err)
	}
	defer root.Close() //nolint:errcheck // only a handle
	file, err := root.Open(filepath.Base(log))
	if err != nil {
		return fmt.Errorf("reading the build's log: %w", err)
	}
	defer file.Close() //nolint:errcheck // read only

	buffer := make([]byte, logPart)
	for {
		n, err := io.ReadFull(file, buffer)
		if n > 0 {
			if err := add(buffer[:n]); err != nil {
				return err
			}
		}

		if err != nil {
			return nil // io.EOF or io.ErrUnexpectedEOF: the end; what cannot be read of a log is left out
		}
	}
}
