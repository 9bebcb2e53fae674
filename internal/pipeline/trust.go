package pipeline

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/sandbox"
	"orilla.example/orilla/internal/store/file"
)

// docs/trust.md says who is trusted with what.

// Machine knows how this machine can isolate builds, and what people were told of that already. Builds of one process share it; it is
// safe for concurrent use.
type Machine struct {
	file    string   // in which what was found out is kept for a day
	noticed sync.Map // codes of notices

	mutex sync.Mutex
	known bool
	means builder.Means
}

// NewMachine returns what knows nothing yet. cache is the folder in which what was found out is kept.
func NewMachine(cache string) *Machine { return &Machine{file: filepath.Join(cache, "isolation")} }

// Means returns how this machine can isolate builds. It is found out once, which takes a moment.
func (m *Machine) Means(ctx context.Context) builder.Means {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if !m.known {
		m.means = builder.Probe(ctx, m.file)
		m.known = ctx.Err() == nil
	}
	return m.means
}

// forget lets the next build find out again how this machine can isolate builds.
func (m *Machine) forget() {
	os.Remove(m.file) //nolint:errcheck // it lasts a day at most
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.known = false
}

// holding decides how the plan's build is held. r.untrusted is nil afterwards if it is trusted. A change from
// outside the repository is built in isolation or not at all.
func (r *Run) holding(ctx context.Context) error {
	plan := r.Plan
	if !plan.Untrusted() {
		return nil
	}
	r.untrusted = &builds.Untrusted{Isolation: builds.IsolationNone}
	if len(plan.Config.Build.Steps()) == 0 && !plan.Outside() {
		r.untrusted.Isolation = builds.IsolationNoSteps
		return nil
	}
	if plan.ByHand {
		return nil // it runs with that person's rights, as a build of their own would
	}
	build := plan.Project.ProductionConfig.Build
	if build.Isolation != project.IsolateOff {
		r.means = r.machine().Means(ctx)
	}

	if r.means.Bubblewrap != "" {
		r.untrusted.Isolation, r.untrusted.Network = builds.IsolationBubblewrap, project.NetworkNone
		if build.Network == project.NetworkOutside && r.means.Pasta != "" {
			r.untrusted.Network = project.NetworkOutside
		}
		if build.Network == project.NetworkOutside && r.means.Pasta == "" {
			r.noticeOnce("no-network", r.means.Why, r.means.Hint)
		}
		return nil
	}
	why, hint := r.means.Why, r.means.Hint
	if build.Isolation == project.IsolateOff {
		why, hint = "build.isolation is off", "set build.isolation: auto on the production branch"
	}
	if build.Isolation == project.IsolateRequired || plan.Outside() {
		return r.notIsolated(why, hint)
	}
	if build.Isolation != project.IsolateOff {
		r.noticeOnce("not-isolated", "builds of untrusted branches are not isolated on this machine: "+why+"; their releases serve previews only", hint)
	}
	return nil
}

// notIsolated is the refusal of a build that needs isolation and cannot have it.
func (r *Run) notIsolated(why, hint string) error {
	what := "builds of untrusted branches must be isolated (build.isolation: required)"
	if r.Plan.Outside() {
		what = "a change from outside the repository is built in isolation only"
	}
	problem := fault.New(fault.Refused, "not-isolated", "%s", what).At("%s", r.Plan.ref()).With(why)
	if hint != "" {
		problem = problem.Then("%s", hint)
	}
	if !r.Plan.Outside() {
		problem = problem.Then("or name the branch as trusted on the production branch: build.trust in orilla.yaml")
	}
	return problem
}

// noticeOnce tells something about this machine, once for the project.
func (r *Run) noticeOnce(code, what, next string) {
	if _, before := r.machine().noticed.LoadOrStore(code, true); before {
		return
	}
	r.Report.Notice(fault.Notice{Code: code, What: what, Next: next})
}

// mayReuse reports whether the plan may put live what an earlier build made. What an untrusted build made
// without isolation may hold anything that runs on this machine, so only untrusted previews show it.
func (r *Run) mayReuse(record builds.Record) bool {
	return record.Untrusted.Contained() || r.Plan.Untrusted() && (r.Plan.Environment == "" || journal.IsPreview(r.Plan.Environment))
}

// options say how the steps of a build in a workspace are held.
func (r *Run) options(w *workspace) builder.Options {
	o := builder.Options{ID: r.id(), Means: r.means}
	if r.untrusted == nil || r.Plan.ByHand {
		return o
	}
	limits := r.Plan.Project.ProductionConfig.Limits
	o.Bounds = sandbox.Bounds{Memory: int64(limits.BuildMemory), Tasks: int(limits.BuildProcesses), Disk: int64(limits.BuildDisk)}
	if o.Bounds.Memory == 0 {
		o.Bounds.Memory = builder.Memory() / 4 * 3
	}
	o.Folders = []string{w.Tree(), w.temporary()}
	if r.untrusted.Isolation != builds.IsolationBubblewrap {
		return o
	}

	home, _ := os.UserHomeDir()
	path := append(builder.Managed(r.Plan.Config.Build.Needs), filepath.SplitList(os.Getenv("PATH"))...)
	o.Cell = &sandbox.Cell{Tree: w.Tree(), Temporary: w.temporary(), Files: filepath.Join(w.Folder, "etc"), Hidden: r.hidden(), Path: path, Home: home,
		Outside: r.untrusted.Network == project.NetworkOutside, Tasks: o.Bounds.Tasks, Strict: r.means.Strict}
	return o
}

// checkSession makes sure that steps can run. If isolation stopped working, the next build finds out anew what this machine can do.
func (r *Run) checkSession(ctx context.Context, session *builder.Session) error {
	if session == nil {
		return nil
	}
	err := session.Check(ctx)
	if err == nil || ctx.Err() != nil {
		return ctx.Err()
	}
	problem := fault.New(fault.Failed, "keeper", "the process that runs the steps does not work").Because(err)
	if r.untrusted == nil || r.untrusted.Isolation != builds.IsolationBubblewrap {
		return problem
	}
	r.machine().forget()

	return fault.New(fault.Failed, "isolation", "isolated builds do not work on this machine any more").Because(err).
		Then("orilla doctor says what is missing")
}

// hidden are the places that no isolated build sees, wherever they lie.
func (r *Run) hidden() []string {
	p := r.Plan.Project
	places := []string{p.Places.Data, p.Places.Cache, p.Root}
	if p.Repository != nil {
		places = append(places, p.Repository.Top, p.Repository.Dir)
	}
	if folder, isFolder := r.Store.(*file.Store); isFolder {
		places = append(places, folder.Address())
	}

	var absolute []string
	for _, place := range places {
		if real, err := filepath.EvalSymlinks(place); err == nil {
			place = real
		}
		if place, err := filepath.Abs(place); err == nil && place != "/" {
			absolute = append(absolute, place)
		}
	}
	return absolute
}

// home is the home folder that the steps of a commit see. That of trusted builds stays, for the caches of
// package managers.
func (r *Run) home(w *workspace) (string, error) {
	switch {
	case r.untrusted != nil && r.untrusted.Isolation == builds.IsolationBubblewrap:
		return sandbox.HomePlace, nil
	case r.untrusted != nil:
		home := filepath.Join(w.temporary(), "home")
		return home, os.MkdirAll(home, 0o700)
	}
	home := filepath.Join(filepath.Dir(w.Folder), "home")
	return home, os.MkdirAll(home, 0o700)
}

// limitedBy returns the limits on what the plan publishes: of an untrusted build no more than the production
// branch allows.
func (r *Run) limitedBy() project.Limits {
	limits := r.Plan.Config.Limits
	if !r.Plan.Untrusted() || r.Plan.ByHand {
		return limits
	}
	standing := r.Plan.Project.ProductionConfig.Limits
	limits.Files, limits.Size = min(limits.Files, standing.Files), min(limits.Size, standing.Size)
	if standing.FileSize > 0 && (limits.FileSize == 0 || limits.FileSize > standing.FileSize) {
		limits.FileSize = standing.FileSize
	}
	return limits
}

// noSecrets tells of a build that names secrets and is given none.
func (r *Run) noSecrets() {
	if named := r.Plan.Config.Build.Secrets; len(named) > 0 && len(r.Plan.Secrets()) == 0 {
		r.Report.Notice(fault.Notice{Code: "no-secrets", What: r.Plan.named() + " is given no secrets: " + strings.Join(named, ", "),
			Next: "if all who can push it may know them, name it in build.secrets_for on the production branch"})
	}
}

func (r *Run) machine() *Machine {
	if r.Machine == nil {
		r.Machine = NewMachine(r.Plan.Project.Places.Cache)
	}
	return r.Machine
}
