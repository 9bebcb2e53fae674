package pipeline

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/sandbox"
	"orilla.example/orilla/internal/source"
)

// ready is an output that can be scanned, and what is known of how it was made.
type ready struct {
	folder    string
	name      string // of the folder, for messages
	workspace *workspace
	made      bool // the folder is Orilla's, not the user's
	record    builds.Record
	log       string // the file with what the steps printed; "" without steps
}

// open opens the output to be read. What a build left in a workspace is opened beneath that, whatever links it made.
func (o ready) open() (publish.Output, func() error, error) {
	if o.workspace == nil {
		if info, err := os.Stat(o.folder); err != nil || !info.IsDir() {
			return publish.Output{}, nil, noOutput(o)
		}
		tree := source.Folder(o.folder)
		tree.Root = filepath.Clean(o.folder)
		return tree, func() error { return nil }, nil
	}

	within, err := filepath.Rel(o.workspace.Tree(), o.folder)
	if err != nil {
		return publish.Output{}, nil, err
	}
	tree, done, err := o.workspace.Beneath(filepath.ToSlash(within))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return tree, nil, noOutput(o)
	case errors.Is(err, source.ErrOutside):
		return tree, nil, fault.New(fault.BuildFailed, "output-outside", "the output folder %q leads out of the checkout", o.name).
			Then("let the build leave a folder there, not a link")
	case err != nil:
		return tree, nil, fault.New(fault.Failed, "unreadable", "the output folder cannot be read").At("%s", o.name).Because(err)
	}
	tree.Seen = path.Join(sandbox.TreePlace, filepath.ToSlash(within))
	return tree, done, nil
}

// make gets an output and uploads it. A finished output outlives a failed upload: the next try begins there.
func (r *Run) make(ctx context.Context) error {
	switch r.Plan.Origin.Source {
	case journal.FromOutput:
		return r.given(ctx)
	case journal.FromWorkingTree:
		return r.workingTree(ctx)
	}
	return r.commit(ctx)
}

// given takes ready output: a folder as it is, an archive unpacked.
func (r *Run) given(ctx context.Context) error {
	from := r.Plan.From
	now := r.Now()
	record := builds.Record{Started: now, Finished: now}
	if r.Plan.Outside() { // whoever built it, elsewhere, is nobody whom anybody trusts
		record.Untrusted = &builds.Untrusted{Isolation: builds.IsolationNone}
	}
	if from != "-" {
		info, err := os.Stat(from)
		if err != nil {
			return fault.New(fault.Usage, "no-output", "there is no such folder or archive").At("%s", from).Then("run the build first, or give the folder it leaves")
		}
		if info.IsDir() {
			return r.store(ctx, ready{folder: from, name: from, record: record})
		}
	}
	scratch, err := r.workFolder()
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch) //nolint:errcheck // cleaned with the cache
	archive, name := r.Stdin, "standard input"
	if from != "-" {
		file, err := os.Open(from)
		if err != nil {
			return fault.New(fault.Failed, "unreadable", "the archive cannot be read").At("%s", from).Because(err)
		}
		defer file.Close() //nolint:errcheck // read only
		archive, name = file, from
	}
	limits := source.Limits{Files: r.Plan.Config.Limits.Files, Bytes: int64(r.Plan.Config.Limits.Size)}
	var folder string
	err = r.timed("unpack", name, func() error {
		folder, err = source.Unpack(ctx, archive, name, scratch, limits)
		return err
	})
	if err != nil {
		return err
	}
	return r.store(ctx, ready{folder: folder, name: name, made: true, record: record})
}

// workingTree runs the steps where the user works, without fetching dependencies: those that are there count.
func (r *Run) workingTree(ctx context.Context) error {
	build := r.Plan.Config.Build
	folder := filepath.Join(r.Plan.Project.Root, filepath.FromSlash(build.Folder))
	output := ready{folder: filepath.Join(folder, filepath.FromSlash(build.Output)), name: path.Join(build.Folder, build.Output)}
	now := r.Now()
	output.record = builds.Record{Started: now, Finished: now}
	if len(build.Run) > 0 {
		scratch, err := r.workFolder()
		if err != nil {
			return err
		}
		defer os.RemoveAll(scratch) //nolint:errcheck // cleaned with the cache
		output.log = filepath.Join(scratch, "log")
		if output.record, err = r.build(ctx, folder, steps{run: build.Run}, scratchLog(output.log)); err != nil {
			return err
		}
	}
	return r.store(ctx, output)
}

// commit builds a commit in a checkout of its own, or takes up the output that an earlier try left.
func (r *Run) commit(ctx context.Context) error {
	key, err := r.Plan.Inputs.Key()
	if err != nil {
		return err
	}
	dependencies, err := r.dependencies(ctx)
	if err != nil {
		return err
	}
	w, err := r.takeWorkspace(key, dependencies)
	if err != nil {
		return fault.New(fault.Failed, "no-workspace", "there is no place to build in").At("%s", r.Plan.Project.Places.Cache).Because(err).
			Then("look whether that folder can be written, or set ORILLA_HOME to another one")
	}
	defer w.release()
	r.noSecrets()

	// The process that runs the steps gets ready while the commit is checked out.
	session, err := builder.Open(r.options(w))
	if err != nil {
		return fault.New(fault.Failed, "keeper", "the process that runs the steps cannot be started").Because(err)
	}
	defer session.Close()
	output, err := r.buildCommit(ctx, w, session, key, dependencies)
	if err != nil {
		return err
	}
	session.Close() // nothing of the build is alive while its output is read
	err = r.store(ctx, output)
	if w.once {
		return err
	}
	if err == nil || ctx.Err() == nil && fault.KindOf(err) != fault.Failed { // in the store, or of no use
		w.state.Output = nil
		w.save()
	}
	return err
}

// steps are the commands of a build.
type steps struct {
	prepare, run []string
	prepared     bool             // what prepare fetches is there
	done         func()           // is told when it has been fetched; may be nil
	session      *builder.Session // in which they run; nil for one of their own
	home         string           // their home folder; "" for the user's own
}

// logPlace says where a log goes.
type logPlace interface {
	log() string
	temporary() string
}

type scratchLog string

func (s scratchLog) log() string       { return string(s) }
func (s scratchLog) temporary() string { return "" }

// build runs steps and records how they went. A failed build is recorded in the store too, as far as that is possible.
func (r *Run) build(ctx context.Context, folder string, todo steps, at logPlace) (record builds.Record, err error) {
	record = builds.Record{Started: r.Now(), Outcome: builds.Succeeded, Untrusted: r.untrusted}
	defer func() { record.Finished = r.Now() }()
	if todo.prepared {
		todo.prepare = nil
	}
	if len(todo.prepare)+len(todo.run) == 0 {
		return record, os.WriteFile(at.log(), nil, 0o600)
	}
	if err := r.checkSession(ctx, todo.session); err != nil {
		return record, err
	}
	got, err := builder.Prepare(ctx, r.wanted(todo, at, folder))
	if err != nil {
		return record, err
	}
	if len(got.Short) > 0 {
		r.Report.Notice(fault.Notice{Code: "secret-short", What: "too short to be masked in logs: " + strings.Join(got.Short, ", ")})
	}
	log, err := builder.CreateLog(at.log())
	if err != nil {
		return record, err
	}
	r.watched.follow(log)
	limit, limited := r.timeLimit()
	spec := builder.Spec{Folder: folder, Environment: got.Environment, Secrets: got.Secrets, Session: todo.session, TimeLimit: limit, Log: log, Line: r.Report.Line}
	err = r.runSteps(ctx, spec, todo, &record)
	if problem, ok := errors.AsType[*fault.Error](err); ok && problem.Code == "time-limit" && limited {
		problem.Next = []string{"the limit is limits.build_time, which the production branch sets"}
	}
	r.watched.follow(nil)
	record.Finished = r.Now()
	if closed := log.Close(); err == nil && closed != nil {
		err = fault.New(fault.Failed, "log", "the log of the build cannot be written").Because(closed)
	}
	if full := r.diskFull(folder); err != nil && full != "" {
		if problem, ok := errors.AsType[*fault.Error](err); ok {
			problem.What += ", and there is no room left on the disk"
			problem.Next = append([]string{"make room where builds run: " + full}, problem.Next...)
		}
	}
	if err != nil {
		record.Outcome = builds.Failed
		keeping, done := context.WithTimeout(context.WithoutCancel(ctx), logTime)
		r.result.Log = r.recordFailure(keeping, record, at.log(), ctx.Err() == nil)
		done()
		if len(r.result.Log) == 0 {
			err = r.keepLog(err, at.log())
		} else if problem, ok := errors.AsType[*fault.Error](err); ok && ctx.Err() == nil {
			err = problem.Then("orilla log build:%d shows all that it printed", r.Number())
		}
	}
	return record, err
}

// logTime is how long it may take to keep the log of a build that was ended: whoever ended it waits.
const logTime = 15 * time.Second

// runSteps runs what prepares and then what builds, each step timed.
func (r *Run) runSteps(ctx context.Context, spec builder.Spec, todo steps, record *builds.Record) error {
	for _, part := range []struct {
		phase string
		steps []string
		done  func()
	}{{"prepare", todo.prepare, todo.done}, {"step", todo.run, nil}} {
		if len(part.steps) == 0 {
			if part.done != nil {
				part.done()
			}
			continue
		}
		began := time.Now()
		spec.Steps = part.steps
		spec.Begin = func(i int) {
			r.Report.Begin("build", part.steps[i])
			r.watched.phase(part.steps[i])
		}
		spec.End = func(step builds.Step) {
			r.result.Timings = append(r.result.Timings, Timing{part.phase, step.Command, time.Duration(step.Milliseconds) * time.Millisecond})
			r.Report.Step(step)
		}
		spec.First = len(record.Steps)
		ran, err := builder.Run(ctx, spec)
		record.Steps = append(record.Steps, ran...)
		if err != nil {
			return err
		}
		spec.Used += time.Since(began)
		if part.done != nil {
			part.done()
		}
	}
	r.nearTimeLimit(spec.Used)
	return nil
}

// wanted is what the plan's build asks for.
func (r *Run) wanted(todo steps, at logPlace, folder string) builder.Wanted {
	build := r.Plan.Config.Build
	w := builder.Wanted{Steps: append(slices.Clone(todo.prepare), todo.run...), Variables: build.Variables, Secrets: r.Plan.Secrets(), Needs: build.Needs,
		Told: r.Plan.Variables(), Temporary: at.temporary(), Home: todo.home, Session: todo.session, Folder: folder}
	if at.temporary() != "" {
		w.Ceiling = filepath.Dir(at.temporary())
	}
	if todo.home == sandbox.HomePlace {
		w.Temporary, w.Ceiling = sandbox.TemporaryPlace, ""
	}
	return w
}

// keepLog moves the log of a failed build, of which the store could not be told, out of the workspace, which the next build cleans,
// and says where it is.
func (r *Run) keepLog(err error, log string) error {
	problem, ok := errors.AsType[*fault.Error](err)
	if !ok {
		return err
	}
	kept := filepath.Join(r.Plan.Project.Places.Cache, "logs", r.Plan.Site+".log")
	if os.MkdirAll(filepath.Dir(kept), 0o700) != nil || os.Rename(log, kept) != nil {
		return err
	}
	return problem.Then("read the whole log: %s", kept)
}

// noOutput says which folders there are instead of the one that was expected.
func noOutput(output ready) error {
	problem := fault.New(fault.Usage, "no-output", "there is no output folder %q", output.name)
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
		return problem.Then("%s/ has an index.html: set build.output: %s", with, with)
	}
	return problem.Then("set build.output to the folder that the build leaves, or run the build")
}

// beside is the folder that the output should lie in.
func (o ready) beside() (fs.FS, func() error) {
	nothing := func() error { return nil }
	if o.workspace == nil {
		return os.DirFS(filepath.Dir(o.folder)), nothing
	}
	within, err := filepath.Rel(o.workspace.Tree(), filepath.Dir(o.folder))
	if err != nil {
		return os.DirFS(o.workspace.Folder), nothing
	}
	tree, done, err := o.workspace.Beneath(filepath.ToSlash(within))
	if err != nil {
		return os.DirFS(o.workspace.Folder), nothing
	}
	return tree.FS, done
}

// logParts reads the log of a build in pieces that fit into objects.
func logParts(log string, add func(data []byte) error) error {
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
			return nil
		}
	}
}

const logPart = 4 << 20
