// Package devserver keeps a working tree served while it is worked on: it builds,
// watches, and shows what came of it, with the rules, fields and addresses that
// the edge will have.
//
//	files change -> wait until it is quiet -> build -> check -> reload the browsers
//	                                           |
//	                                           fails: the last good output stays, with a notice on top
//
// Local serves an output, Front stands before a generator's own server, Beside
// shows two releases next to each other, and Bench builds and watches. The script
// that reloads pages is put into them after the answer was decided, so `orilla
// explain` and the browser agree.
package devserver

import (
	"bytes"
	"context"
	"errors"
	"io"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/steps"
)

// Reporter is told what happens. Its methods are called
// from one goroutine at a time.
type Reporter interface {
	Building(why string)                // a build begins: "" for the first, else what changed
	Line(text string)                   // of what a step prints
	Built(took time.Duration)           // it ended well
	Shown(changed []string, ruled bool) // what is served is new: files that changed, and whether rules did
	// a deploy of what is shown would refuse this; none: it would not any more
	Refused(found finding.List)
	Failed(err error) // something went wrong, and the last good state goes on being served
	Notice(fault.Notice)
}

// Options say what is served, as which environment, and whether the bench
// builds it itself.
type Options struct {
	Project     *site.Project
	Folder      string            // a folder to serve in the place of the project's output; "" for that
	Build       bool              // run the project's steps, at the start and when a source changes
	OnlyRules   bool              // files come from elsewhere
	Environment string            // as shown, whose upstreams count
	Upstreams   map[string]string // that override those of the environment
	Report      Reporter
}

// Bench is a working tree being served.
type Bench struct {
	Options
	local   *Local
	last    Shown
	refused string    // what a deploy of what is shown would refuse
	failed  bool      // what is shown is not the newest, or there is nothing yet
	broken  bool      // the last build failed: what lies in the output is not to be shown
	ended   time.Time // of the last build
	kept    string    // a folder with the content of what is shown, by digest; "" to read the output itself
	rebuild chan string
	streaks map[string]int  // how many builds in a row a path changed in
	ignored map[string]bool // paths that every build changes
}

// New returns a bench that shows what it has in local.
func New(options Options, local *Local) *Bench {
	return &Bench{Options: options, local: local, failed: true, rebuild: make(chan string, 1),
		streaks: map[string]int{}, ignored: map[string]bool{}}
}

// Rebuild asks for a build now. It does not wait, and any number of calls
// before the build begins are one.
func (b *Bench) Rebuild() {
	select {
	case b.rebuild <- "asked for":
	default:
	}
}

// output is the folder that is served.
func (b *Bench) output() string {
	if b.Folder != "" {
		return b.Folder
	}
	return site.Output(b.Project)
}

// builds reports whether there is anything to run before there is something to
// show.
func (b *Bench) builds() bool { return b.Build && len(b.Project.LocalConfig.Build.Run) > 0 }

// Run builds, shows, and follows changes until the context ends. ready is
// called when the first state is shown, or has failed.
func (b *Bench) Run(ctx context.Context, ready func()) {
	// Watching begins before the first build, so that what is saved during it
	// is not missed.
	watch := newWatch(b.Project.Root, skip(b.Project))
	defer watch.close()
	if b.builds() {
		// A build empties its output before it fills it again. What is shown is
		// kept beside, so that a page loads at any moment.
		if folder, err := os.MkdirTemp("", "orilla-serve-"); err == nil {
			b.kept = folder
			defer os.RemoveAll(folder) //nolint:errcheck // the system cleans its folder for temporary files
		}
	}

	changes := watch.changes(ctx)
	b.make(ctx, "")
	ready()
	for {
		select {
		case <-ctx.Done():
			return
		case why := <-b.rebuild:
			b.make(ctx, why)
		case paths := <-changes:
			b.changed(ctx, paths)
		}
	}
}

// environmentConfig is what the environment answers with of itself: as the file at hand says,
// else as the production branch does.
func environmentConfig(b *Bench) *answer.EnvironmentConfig {
	environment := journal.StoredName(b.Environment)
	for _, config := range []project.Config{b.Project.LocalConfig, b.Project.ProductionConfig} {
		if document := config.Document(environment); document.Settings != nil {
			return answer.EnvironmentConfigOf(document.Settings, document.SettingsPath)
		}
	}
	return nil
}

// afterBuild is for how long after a build a change may come of it.
const afterBuild = 500 * time.Millisecond

// count remembers which sources changed while a build ran. One that changes in
// each of several builds in a row is made by the build, and from then on left
// alone: else it would never end. The others are returned.
func count(b *Bench, sources []string) []string {
	// A change long after a build is somebody's; one right behind it may be the
	// build's own work.
	if time.Since(b.ended) > afterBuild {
		clear(b.streaks)
		return sources
	}
	for _, path := range sources {
		if b.streaks[path]++; b.streaks[path] == 3 {
			b.ignored[path] = true
			b.Report.Notice(fault.Notice{Code: "made-by-build", What: "every build changes " + b.name(path) +
				", so its changes start no build from now on",
				Next: "let Git ignore what the build makes"})
		}
	}
	return slices.DeleteFunc(sources, func(path string) bool { return b.ignored[path] })
}

// changed does what a change asks for: rules and configuration are read again,
// sources are built, output is looked at.
func (b *Bench) changed(ctx context.Context, paths []string) {
	file := filepath.Join(b.Project.Root, project.FileName)
	// What a change means depends on where it is: the configuration, a rules
	// file, the output, or anything else, which is a source.
	configured, ruled, outside := slices.Contains(paths, file), false, false
	build := b.Project.LocalConfig.Build
	if configured && !b.reload(ctx) {
		return
	}

	// Only if the steps are others: a new address needs no build.
	if configured && b.builds() && !reflect.DeepEqual(build, b.Project.LocalConfig.Build) {
		b.make(ctx, b.name(file))
		return
	}
	var sources []string
	rulesAt := rulesFiles(b)
	for _, path := range paths {
		switch {
		case path == file:
		case rulesAt[path]:
			ruled = true
		case b.inside(path):
			// Somebody else writes the output, a generator's own watcher for
			// example. After a failed build what lies there is half of
			// something.
			outside = !b.broken
		default:
			sources = append(sources, path)
		}
	}

	if b.builds() {
		if sources = count(b, b.sources(ctx, sources)); len(sources) > 0 {
			b.make(ctx, b.name(sources[0]))
			return
		}
	}

	if configured || ruled || outside {
		b.show(ctx)
	}
}

// name is a path as people write it: within the project, with slashes.
func (b *Bench) name(path string) string {
	if name, err := filepath.Rel(b.Project.Root, path); err == nil {
		return filepath.ToSlash(name)
	}
	return path
}

// rulesFiles are the files whose change changes rules, and needs no build.
func rulesFiles(b *Bench) map[string]bool {
	files := map[string]bool{}
	for _, file := range b.Project.LocalConfig.Rules {
		files[filepath.Join(site.Folder(b.Project), filepath.FromSlash(file))] = true
	}
	return files
}

// inside reports whether a path is in what is served.
func (b *Bench) inside(path string) bool {
	return !b.OnlyRules && (path == b.output() ||
		strings.HasPrefix(path, b.output()+string(filepath.Separator)))
}

// skip says which folders are not looked into: what packages bring, what is
// kept from build to build, hidden ones, and Orilla's own.
func skip(p *site.Project, own ...string) func(folder string) bool {
	// A store inside the project would start a build with every deploy.
	kept := append([]string{p.Places.Data, p.Places.Cache}, own...)
	for _, folder := range p.LocalConfig.Build.Keep {
		kept = append(kept, filepath.Join(site.Folder(p), filepath.FromSlash(folder)))
	}
	return func(folder string) bool {
		name := filepath.Base(folder)
		return name == "node_modules" || strings.HasPrefix(name, ".") && name != ".well-known" ||
			slices.Contains(kept, folder)
	}
}

// sources leaves out what no build begins for: what Git
// ignores, and what the build itself makes.
func (b *Bench) sources(ctx context.Context, paths []string) []string {
	paths = slices.DeleteFunc(slices.Clone(paths), func(path string) bool { return b.ignored[path] })
	// What Git ignores is made and not written.
	if b.Project.Repository != nil && len(paths) > 0 {
		ignored := source.Ignored(ctx, b.Project.Repository, paths)
		paths = slices.DeleteFunc(paths, func(path string) bool { return ignored[path] })
	}
	return paths
}

// reload reads the configuration again. With a mistake in it the one before
// stays in force, and false is returned.
func (b *Bench) reload(ctx context.Context) bool {
	again, err := site.Load(ctx, b.Project.Root, b.Project.Places)
	if err != nil {
		b.fail(err)
		return false
	}
	b.Project = again
	return true
}

// make builds, and shows what came of it.
func (b *Bench) make(ctx context.Context, why string) {
	if b.builds() {
		b.Report.Building(why)
		started := time.Now()
		err := b.build(ctx)
		b.ended = time.Now()
		b.broken = err != nil

		if err != nil {
			if ctx.Err() == nil {
				b.fail(err)
			}
			return
		}
		b.Report.Built(time.Since(started))
	}
	b.show(ctx)
}

// build runs the project's steps where the developer works. Dependencies are
// theirs to fetch.
func (b *Bench) build(ctx context.Context) error {
	build := b.Project.LocalConfig.Build
	// The same plan as a deploy of the working tree has, so that the steps are
	// told the same.
	plan, err := site.MakePlan(ctx, b.Project, site.Order{WorkingTree: true, NoTarget: true})
	if err != nil {
		return err
	}

	ready, err := steps.Prepare(ctx, steps.Wanted{Steps: build.Run, Variables: build.Variables,
		Secrets: build.Secrets, Needs: build.Needs, Told: plan.Variables()})
	if err != nil {
		return err
	}

	_, err = steps.Run(ctx, steps.Spec{
		Folder: site.Folder(b.Project), Steps: build.Run, Environment: ready.Environment,
		Secrets: ready.Secrets, TimeLimit: time.Duration(build.TimeLimit),
		Log: io.Discard, Line: b.Report.Line,
	})
	return err
}

// show reads rules and output, and shows them. Where
// either has a mistake, the last good one stays.
func (b *Bench) show(ctx context.Context) {
	next := Shown{Settings: b.Project.LocalConfig.Settings(), Upstreams: b.upstreams(),
		Config: environmentConfig(b), Sources: map[string]string{}}
	if !b.OnlyRules {
		if info, err := os.Stat(b.output()); err != nil || !info.IsDir() {
			b.fail(noOutput(b))
			return
		}
		_, scan, files, err := site.Fingerprint(ctx, b.Project, b.output())
		if err != nil {
			if ctx.Err() == nil {
				b.fail(err)
			}
			return
		}

		next.Files = files
		for _, found := range scan.Files {
			next.Sources[found.Path] = filepath.Join(b.output(), filepath.FromSlash(found.Source))
		}
		if err := b.keep(&next); err != nil {
			b.fail(err)
			return
		}
	}

	// Rules with a mistake leave the last good ones in force; the new files are
	// shown all the same.
	set, err := b.rules()
	if err != nil {
		next.Rules = b.last.Rules
		b.last = next
		b.local.Show(next)
		b.fail(err)
		return
	}

	next.Rules = set
	// After trouble it is told that all is well, though nothing may have
	// changed.
	again := b.failed
	b.last, b.failed = next, false
	if changed, ruled := b.local.Show(next); len(changed) > 0 || ruled || again {
		b.Report.Shown(changed, ruled)
		b.judge(ctx)
	}
}

// judge tells what a deploy of what is shown would refuse, if that has changed.
func (b *Bench) judge(ctx context.Context) {
	if b.OnlyRules {
		return
	}
	found, err := inspect.Refused(ctx, b.Project, b.output(), b.last.Files, b.last.Sources)
	if err != nil {
		return // what cannot be read is told by whoever reads it
	}

	var keys []string
	for _, f := range found {
		keys = append(keys, check.Key(f))
	}
	if now := strings.Join(keys, "\n"); now != b.refused {
		b.refused = now
		b.Report.Refused(found)
	}
}

// keep copies what is shown to where no later build changes it: so the last
// good site stays whole while a build is at work, and when it fails. Content
// that is there already is not copied again.
func (b *Bench) keep(next *Shown) error {
	if b.kept == "" {
		return nil
	}
	// Under their digests: what two builds have in common is copied once.
	for _, file := range next.Files {
		at := filepath.Join(b.kept, file.Digest.String())
		if _, err := os.Stat(at); err != nil {
			if err := copyFile(at, next.Sources[file.Path]); err != nil {
				return fault.New(fault.Failed, "not-kept", "the output cannot be copied").
					At("%s", next.Sources[file.Path]).Because(err)
			}
		}
		next.Sources[file.Path] = at
	}

	return nil
}

// copyFile copies a file so that it is there whole or not at all.
func copyFile(to, from string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close() //nolint:errcheck // read only
	out, err := os.Create(to + ".part")
	if err != nil {
		return err
	}

	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	return os.Rename(to+".part", to)
}

// Counts returns how many files and rules are shown.
func (b *Bench) Counts() (files, rules int) {
	if b.last.Rules != nil {
		rules = len(b.last.Rules.Rules)
	}
	return len(b.last.Files), rules
}

// rules reads the rules as they are now; nil if there are none. The error says
// what is wrong with them.
func (b *Bench) rules() (*rules.Set, error) {
	files, err := site.LocalRules(b.Project, b.output())
	if err != nil || len(files) == 0 {
		return nil, err
	}
	program, found := rules.Parse(files, b.Project.LocalConfig.RuleOptions(b.Project.ProductionConfig))
	if err := found.Problem(); err != nil {
		return nil, err
	}
	return program.Compile()
}

// upstreams are those of the environment, and those that override them.
func (b *Bench) upstreams() map[string]string {
	all := map[string]string{}
	// The later one wins: production's, the working tree's, and what was said
	// on the command line.
	maps.Copy(all, b.Project.ProductionConfig.Document(journal.StoredName(b.Environment)).Upstreams)
	maps.Copy(all, b.Project.LocalConfig.Document(journal.StoredName(b.Environment)).Upstreams)
	maps.Copy(all, b.Upstreams)
	return all
}

// noOutput says how to come by an output that is not there.
func noOutput(b *Bench) error {
	problem := fault.New(fault.Failed, "no-output", "the output folder is not there").At("%s", b.output())
	if !b.Build {
		for _, step := range b.Project.LocalConfig.Build.Run {
			problem = problem.Then("%s", step)
		}
	}
	return problem.Then("build.output in orilla.yaml says where it should be; or name " +
		"a folder: orilla serve FOLDER")
}

// fail reports a mistake in the terminal and in open pages.
func (b *Bench) fail(err error) {
	b.failed = true
	b.Report.Failed(err)
	var text bytes.Buffer
	if problem, ok := errors.AsType[*fault.Error](err); ok {
		text.WriteString(problem.What + "\n")
		if problem.Where != "" {
			text.WriteString(problem.Where + "\n")
		}
		for _, line := range problem.Detail {
			text.WriteString(line + "\n")
		}

		for _, next := range problem.Next {
			text.WriteString("next: " + next + "\n")
		}
	} else {
		text.WriteString(err.Error())
	}
	b.local.Fail(text.String())
}
