package pipeline

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/source"
)

// ready is an output that can be scanned, and what is known of how it was made.
type ready struct {
	folder    string
	name      string // of the folder, for messages
	workspace string // to remove when the release is in the store; "" for a folder of the user's
	record    builds.Record
	log       string // the file with what the steps printed; "" without steps
}

// make gets an output and uploads it. A workspace with a finished output outlives a failed upload: the next try begins there.
func (r *Run) make(ctx context.Context) error {
	output, err := r.output(ctx)
	if err != nil {
		return err
	}
	if err := r.store(ctx, output); err != nil {
		return err
	}
	if output.workspace != "" {
		os.RemoveAll(output.workspace) //nolint:errcheck // cleaned with the cache
	}
	return nil
}

func (r *Run) output(ctx context.Context) (ready, error) {
	switch r.Plan.Origin.Source {
	case journal.FromOutput:
		return r.given(ctx)
	case journal.FromWorkingTree:
		return r.workingTree(ctx)
	}
	return r.commit(ctx)
}

// given takes ready output: a folder as it is, an archive unpacked.
func (r *Run) given(ctx context.Context) (ready, error) {
	from := r.Plan.From
	now := r.Now()
	record := builds.Record{Started: now, Finished: now}
	if from != "-" {
		info, err := os.Stat(from)
		if err != nil {
			return ready{}, fault.New(fault.Usage, "no-output", "there is no such folder or archive").At("%s", from).Then("run the build first, or give the folder it leaves")
		}
		if info.IsDir() {
			return ready{folder: from, name: from, record: record}, nil
		}
	}
	workspace, err := r.workspace()
	if err != nil {
		return ready{}, err
	}
	archive, name := r.Stdin, "standard input"
	if from != "-" {
		file, err := os.Open(from)
		if err != nil {
			return ready{}, fault.New(fault.Failed, "unreadable", "the archive cannot be read").At("%s", from).Because(err)
		}
		defer file.Close() //nolint:errcheck // read only
		archive, name = file, from
	}
	limits := source.Limits{Files: r.Plan.Config.Limits.Files, Bytes: int64(r.Plan.Config.Limits.Size)}
	var folder string
	err = r.timed("unpack", name, func() error {
		folder, err = source.Unpack(ctx, archive, name, workspace, limits)
		return err
	})
	if err != nil {
		os.RemoveAll(workspace) //nolint:errcheck // cleaned with the cache
		return ready{}, err
	}
	return ready{folder: folder, name: name, workspace: workspace, record: record}, nil
}

// workingTree runs the steps where the user works, without fetching dependencies: those that are there count.
func (r *Run) workingTree(ctx context.Context) (ready, error) {
	build := r.Plan.Config.Build
	folder := filepath.Join(r.Plan.Project.Root, filepath.FromSlash(build.Folder))
	output := ready{folder: filepath.Join(folder, filepath.FromSlash(build.Output)), name: path.Join(build.Folder, build.Output)}
	if len(build.Run) == 0 {
		now := r.Now()
		output.record = builds.Record{Started: now, Finished: now}
		return output, nil
	}
	workspace, err := r.workspace()
	if err != nil {
		return ready{}, err
	}
	output.workspace, output.log = workspace, filepath.Join(workspace, "log")
	output.record, err = r.build(ctx, folder, build.Run, output.log)
	return output, err
}

// commit builds a commit in a checkout of its own, or takes up the output that an earlier try left.
func (r *Run) commit(ctx context.Context) (ready, error) {
	key, err := r.Plan.Inputs.Key()
	if err != nil {
		return ready{}, err
	}
	kept := filepath.Join(r.Plan.Project.Places.Cache, "outputs", r.Plan.Site+"-"+key)
	if output, ok := r.takeUp(kept); ok && !r.Rebuild {
		r.result.Kept = true
		return output, nil
	}
	workspace, err := r.workspace()
	if err != nil {
		return ready{}, err
	}
	output, err := r.buildCommit(ctx, workspace)
	if err != nil {
		os.RemoveAll(workspace) //nolint:errcheck // cleaned with the cache
		return ready{}, err
	}
	return r.keepOutput(workspace, kept, output), nil
}

func (r *Run) buildCommit(ctx context.Context, workspace string) (ready, error) {
	build := r.Plan.Config.Build
	checkout := filepath.Join(workspace, "tree")
	folder := filepath.Join(checkout, filepath.FromSlash(r.Plan.Project.Prefix), filepath.FromSlash(build.Folder))
	output := ready{
		folder: filepath.Join(folder, filepath.FromSlash(build.Output)), name: path.Join(build.Folder, build.Output),
		workspace: workspace, log: filepath.Join(workspace, "log"),
	}
	err := r.timed("checkout", r.Plan.Commit.Short(), func() error {
		return r.Plan.Project.Repository.Checkout(ctx, r.Plan.Commit.Hash, checkout)
	})
	if err != nil {
		return ready{}, err
	}
	steps := build.Run
	deps := r.dependencies(folder)
	if len(build.Prepare) > 0 {
		if r.result.KeptDeps = deps.take(); !r.result.KeptDeps {
			steps = build.Steps()
		}
	}
	output.record, err = r.build(ctx, folder, steps, output.log)
	if err == nil {
		deps.give()
	}
	return output, err
}

// build runs steps and records how they went. A failed build is recorded in the store too, as far as that is possible.
func (r *Run) build(ctx context.Context, folder string, steps []string, log string) (builds.Record, error) {
	record := builds.Record{Started: r.Now(), Outcome: builds.Succeeded}
	defer func() { record.Finished = r.Now() }()
	if len(steps) == 0 {
		record.Finished = r.Now()
		return record, os.WriteFile(log, nil, 0o600)
	}
	build := r.Plan.Config.Build
	environment, err := builder.Ready(ctx, steps, build.Variables, build.Secrets)
	if err != nil {
		return record, err
	}
	file, err := os.Create(log)
	if err != nil {
		return record, err
	}
	err = r.timed("build", strings.Join(steps, "; "), func() error {
		record.Steps, err = builder.Run(ctx, builder.Spec{
			Folder: folder, Steps: steps, Environment: environment, TimeLimit: time.Duration(build.TimeLimit),
			Log: file, Line: r.Report.Line, End: r.Report.Step,
		})
		return err
	})
	record.Finished = r.Now()
	err = errors.Join(err, file.Close())
	if err != nil && ctx.Err() == nil {
		record.Outcome = builds.Failed
		r.recordFailure(ctx, record, log)
		err = r.keepLog(err, log)
	}
	return record, err
}

// keepLog moves the log of a failed build out of the workspace, which goes, and says where it is.
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

func (r *Run) workspace() (string, error) {
	folder := filepath.Join(r.Plan.Project.Places.Cache, "work", r.Plan.Site+"-"+strings.ToLower(rand.Text()[:12]))
	r.cleanWork(filepath.Dir(folder))
	return folder, os.MkdirAll(folder, 0o700)
}

// oldWork is after what time a workspace that nobody came back to is removed.
const oldWork = 3 * 24 * time.Hour

// cleanWork removes workspaces of runs that were killed, and outputs that nobody took up.
func (r *Run) cleanWork(work string) {
	for _, folder := range []string{work, filepath.Join(r.Plan.Project.Places.Cache, "outputs")} {
		entries, _ := os.ReadDir(folder)
		for _, entry := range entries {
			if info, err := entry.Info(); err == nil && r.Now().Sub(info.ModTime()) > oldWork {
				os.RemoveAll(filepath.Join(folder, entry.Name())) //nolint:errcheck // the next run tries again
			}
		}
	}
}

// keptFile lies in a kept workspace and says what its output is.
const keptFile = "output.json"

type keptOutput struct {
	Folder string        `json:"folder"` // relative to the workspace
	Name   string        `json:"name"`
	Record builds.Record `json:"record"`
}

// keepOutput moves a workspace to where the next try of the same build finds it. If that fails, it stays where it is.
func (r *Run) keepOutput(workspace, kept string, output ready) ready {
	relative, err := filepath.Rel(workspace, output.folder)
	if err != nil {
		return output
	}
	data, err := json.Marshal(keptOutput{relative, output.name, output.record})
	if err == nil {
		err = os.WriteFile(filepath.Join(workspace, keptFile), data, 0o600)
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(kept), 0o700)
	}
	if err == nil {
		os.RemoveAll(kept) //nolint:errcheck // the rename tells
		err = os.Rename(workspace, kept)
	}
	if err != nil {
		return output
	}
	output.folder, output.workspace, output.log = filepath.Join(kept, relative), kept, filepath.Join(kept, "log")
	return output
}

func (r *Run) takeUp(kept string) (ready, bool) {
	data, err := os.ReadFile(filepath.Join(kept, keptFile))
	var output keptOutput
	if err != nil || json.Unmarshal(data, &output) != nil || !filepath.IsLocal(output.Folder) {
		return ready{}, false
	}
	folder := filepath.Join(kept, output.Folder)
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return ready{}, false
	}
	return ready{folder: folder, name: output.Name, workspace: kept, record: output.Record, log: filepath.Join(kept, "log")}, true
}

// noOutput says which folders there are instead of the one that was expected.
func noOutput(output ready) error {
	problem := fault.New(fault.Usage, "no-output", "there is no output folder %q", output.name)
	entries, _ := os.ReadDir(filepath.Dir(output.folder))
	var folders []string
	with := ""
	for _, entry := range entries {
		if !entry.IsDir() || strings.HasPrefix(entry.Name(), ".") || entry.Name() == "node_modules" {
			continue
		}
		folders = append(folders, entry.Name()+"/")
		if _, err := os.Stat(filepath.Join(filepath.Dir(output.folder), entry.Name(), "index.html")); err == nil {
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

// logParts reads the log of a build in pieces that fit into objects.
func logParts(log string, add func(data []byte) error) error {
	if log == "" {
		return nil
	}
	file, err := os.Open(log)
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
