package build

import (
	"context"
	"os"
	"path/filepath"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/sandbox"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/store/file"
)

// isolation is how the build of a plan is kept apart from this machine.
// docs/trust.md says who is trusted with what.
type isolation struct {
	plan      *site.Plan
	store     storage.Store
	untrusted *builds.Untrusted // how it is recorded; nil for a build that is trusted
	means     steps.Means       // with what; the zero value if nothing is isolated
}

// decideIsolation says how a plan's build is kept apart. A
// change from outside the repository is built in isolation
// or not at all; the error is the refusal then.
func decideIsolation(ctx context.Context, request Request) (isolation, error) {
	plan := request.Plan
	i := isolation{plan: plan, store: request.Store}
	if !plan.Untrusted() {
		return i, nil
	}

	i.untrusted = &builds.Untrusted{Isolation: builds.IsolationNone}
	// Nothing runs, so nothing can do harm.
	if len(plan.Config.Build.Steps()) == 0 && !plan.Outside() {
		i.untrusted.Isolation = builds.IsolationNoSteps
		return i, nil
	}

	if plan.ByHand {
		return i, nil // it runs with that person's rights, as a build of their own would
	}

	wanted := plan.Project.ProductionConfig.Build
	if wanted.Isolation != project.IsolateOff {
		i.means = request.Machine.Means(ctx)
	}
	if i.means.Bubblewrap == "" {
		return i, i.without(request, wanted)
	}

	i.untrusted.Isolation, i.untrusted.Network = builds.IsolationBubblewrap, project.NetworkNone
	if wanted.Network == project.NetworkOutside {
		if i.means.Pasta != "" {
			i.untrusted.Network = project.NetworkOutside
		} else {
			noticeOnce(request, "no-network", i.means.Why, i.means.Hint)
		}
	}

	return i, nil
}

// without says whether a build goes on that cannot be
// isolated, or is not to be.
func (i *isolation) without(request Request, wanted project.Build) error {
	why, hint := i.means.Why, i.means.Hint
	if wanted.Isolation == project.IsolateOff {
		why, hint = "build.isolation is off", "set build.isolation: auto on the production branch"
	}
	if wanted.Isolation == project.IsolateRequired || i.plan.Outside() {
		return notIsolated(i.plan, why, hint)
	}

	if wanted.Isolation != project.IsolateOff {
		noticeOnce(request, "not-isolated", "builds of untrusted branches are not isolated on this machine: "+
			why+
			"; their releases serve previews only", hint)
	}
	return nil
}

// notIsolated is the refusal of a build that needs
// isolation and cannot have it.
func notIsolated(plan *site.Plan, why, hint string) error {
	what := "builds of untrusted branches must be isolated (build.isolation: required)"
	if plan.Outside() {
		what = "changes from outside the repository are built in isolation only"
	}
	problem := fault.New(fault.Refused, "not-isolated", "%s", what).Marked(builds.ErrMachine).
		At("%s", plan.FullRef()).With(why)
	if hint != "" {
		problem = problem.Then("%s", hint)
	}

	if !plan.Outside() {
		problem = problem.Then("or trust the branch: build.trust in orilla.yaml, on the production " +
			"branch")
	}
	return problem
}

// noticeOnce tells something about this machine, once for
// all builds that share what is known of it.
func noticeOnce(request Request, code, what, next string) {
	if request.Machine.first(code) {
		request.Report.Notice(fault.Notice{Code: code, What: what, Next: next})
	}
}

// isolated reports whether the build runs in a sandbox.
func (i *isolation) isolated() bool {
	return i.untrusted != nil && i.untrusted.Isolation == builds.IsolationBubblewrap
}

// options say how the steps of build id are held in a workspace.
func (i *isolation) options(id string, w *workspace) steps.Options {
	o := steps.Options{ID: id, Means: i.means}
	if i.untrusted == nil || i.plan.ByHand {
		return o
	}
	limits := i.plan.Project.ProductionConfig.Limits
	o.Bounds = sandbox.Bounds{
		Memory: int64(limits.BuildMemory), Tasks: int(limits.BuildProcesses), Disk: int64(limits.BuildDisk),
	}

	// Without a bound the kernel would choose what to end, and might choose the
	// follower.
	if o.Bounds.Memory == 0 {
		o.Bounds.Memory = steps.Memory() / 4 * 3
	}
	o.Folders = []string{w.Tree(), w.temporary()}
	if !i.isolated() {
		return o
	}

	home, _ := os.UserHomeDir()
	path := append(steps.Managed(i.plan.Config.Build.Needs), filepath.SplitList(os.Getenv("PATH"))...)
	o.Cell = &sandbox.Cell{
		Tree: w.Tree(), Temporary: w.temporary(), Files: filepath.Join(w.Folder, "etc"), Hidden: i.hidden(),
		Path: path,
		Home: home, Outside: i.untrusted.Network == project.NetworkOutside, Tasks: o.Bounds.Tasks,
		Strict: i.means.Strict,
	}

	return o
}

// hidden are the places that no isolated build sees, wherever they lie:
// absolute paths, with links resolved.
func (i *isolation) hidden() []string {
	p := i.plan.Project
	// Hidden even where the system around is readable: other builds, the store,
	// the repository with all its branches.
	places := []string{p.Places.Data, p.Places.Cache, p.Root}
	if p.Repository != nil {
		places = append(places, p.Repository.Top, p.Repository.Dir)
	}

	if folder, isFolder := i.store.(*file.Store); isFolder {
		places = append(places, folder.Address())
	}

	var absolute []string
	for _, place := range places {
		if resolved, err := filepath.EvalSymlinks(place); err == nil {
			place = resolved
		}
		if place, err := filepath.Abs(place); err == nil && place != "/" {
			absolute = append(absolute, place)
		}
	}

	return absolute
}

// home makes and returns the home folder that the steps of a commit see. That
// of trusted builds stays, for the caches of package managers.
func (i *isolation) home(w *workspace) (string, error) {
	switch {
	case i.isolated():
		return sandbox.HomePlace, nil
	case i.untrusted != nil:
		home := filepath.Join(w.temporary(), "home")
		return home, os.MkdirAll(home, 0o700)
	}
	home := filepath.Join(filepath.Dir(w.Folder), "home")
	return home, os.MkdirAll(home, 0o700)
}

// check makes sure that steps can run in a session. If isolation stopped
// working, the next build finds out anew what this machine can do.
func (i *isolation) check(ctx context.Context, session *steps.Session, machine *Machine) error {
	if session == nil {
		return nil
	}
	err := session.Check(ctx)
	if err == nil || ctx.Err() != nil {
		return ctx.Err()
	}

	if !i.isolated() {
		return fault.New(fault.Failed, "keeper", "the process that runs the build "+
			"steps does not work").Because(err)
	}
	// An upgrade of the system can take it away; the next build looks again.
	machine.forget()
	return fault.New(fault.Failed, "isolation", "isolated builds no longer work on this machine").
		Because(err).
		Then("to see what is missing: orilla doctor")
}
