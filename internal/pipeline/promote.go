package pipeline

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// Promote points the plan's environment at a release that is in the store: the very same bytes, no build, no upload. The plan's origin
// says where it comes from. A release whose build was told that it goes elsewhere is refused. Close is called as after Release.
func (r *Run) Promote(ctx context.Context, id release.ID) (*Result, error) {
	var err error
	if r.hold, err = r.Plan.Project.Pin(ctx, r.Store, r.Plan.Site, "promote"); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	r.kind = journal.Promotion
	if err := errors.Join(r.checkFrozen(ctx), r.ready(ctx), r.checkHosts(ctx)); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	if err := r.announceRoom(ctx); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	if err := r.unbound(ctx); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	doomed := r.hold.Doomed(storage.ReleaseKey(r.Plan.Site, id.String()))
	reader, err := r.open(ctx, id)
	if doomed || errors.Is(err, storage.ErrNotFound) || errors.Is(err, release.ErrDamaged) {
		return nil, fault.New(fault.Refused, "release-lost", "the release %s is no longer whole in the store", id.Short()).Because(err).Then("orilla deploy %s builds it again", r.Plan.Origin.Commit)
	}
	if err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	r.result.Release, r.result.Files, r.result.Bytes, r.result.Reused = id, reader.Root.Files, reader.Root.Bytes, true
	r.semantics = reader.Root.Semantics
	if err := r.suits(ctx, reader); err != nil {
		return nil, StoreTrouble(r.Store, err)
	}
	if r.DryRun {
		return &r.result, nil
	}
	started := r.Now()
	if err := r.activate(ctx); err != nil {
		return &r.result, err
	}
	r.result.Timings = append(r.result.Timings, Timing{"activate", "", r.Now().Sub(started)})
	return &r.result, nil
}

// suits runs what is expected of the plan's environment on a release: the expectations that were written with its rules, the checks of
// its pages as far as they differ from what is live there, under the base path that it will have, and whether all upstreams that its
// rules name have an address there.
func (r *Run) suits(ctx context.Context, reader *release.Reader) error {
	p := r.Plan.Project
	r.Plan.Config = p.ProductionConfig
	subject, err := ReleaseSubject(ctx, p, r.Store, r.Plan.Site, reader.ID, r.Plan.Origin.Build)
	if err != nil {
		return err
	}
	subject.Input.Now = r.now()
	found, err := CheckRules(ctx, subject.Input)
	if err != nil {
		return err
	}
	if err := Accepted(found, p.ProductionConfig).Problem(); err != nil {
		return err
	}
	r.result.Rules.Expectations = len(subject.Program.Expectations)
	if subject.Reworded {
		r.Report.Notice(fault.Notice{Code: "expectations-unknown", What: "the release's expectations were not run: its rules mean something else under the configuration here",
			Next: "run it from the production branch, with the languages and time zone that the release was made with"})
	}
	upstreams := p.ProductionConfig.Document(r.Plan.Environment).Upstreams
	for _, rule := range subject.Program.Rules {
		name := rule.Target.Upstream
		if _, there := upstreams[name]; rule.Verb == rules.Proxy && name != "" && !there {
			where := journal.DisplayName(r.Plan.Environment)
			return fault.New(fault.Refused, "no-upstream", "a rule passes requests on to %s:, and %s has no such upstream", name, where).At("%s", rule.At).
				Then("give its address in orilla.yaml: environments.%s.upstreams.%s", where, name)
		}
	}
	return r.compare(ctx, reader, subject.Input, subject.Open)
}

// vouched asks whoever promotes something that an untrusted build made without isolation to a place that is no preview.
func (r *Run) vouched(record builds.Record) error {
	if record.Untrusted.Contained() || journal.IsPreview(r.Plan.Environment) {
		return nil
	}
	if r.Uncontained != nil {
		return r.Uncontained(record)
	}
	return UncontainedRefusal(record, r.Plan.Environment)
}

// UncontainedRefusal is the message for a release that belongs in previews only.
func UncontainedRefusal(record builds.Record, environment string) *fault.Error {
	problem := fault.New(fault.Refused, "uncontained", "the release was built on the untrusted branch %s, without isolation, so its files may be something else than its commit makes", record.Branch)
	if record.Commit != "" && record.Source == journal.FromCommit {
		problem = problem.At("build of %s", source.Short(record.Commit)).
			Then("build it again where it counts: merge it, or orilla deploy %s --to %s", source.Short(record.Commit), journal.DisplayName(environment))
	}
	return problem
}

// unbound refuses a release whose build was told of another place than the plan's environment.
func (r *Run) unbound(ctx context.Context) error {
	record, err := buildRecord(ctx, r.Store, r.Plan.Site, r.Plan.Origin.Build)
	if err != nil || record == nil {
		return err
	}
	r.result.Build = *record
	if err := r.vouched(*record); err != nil {
		return err
	}
	address := ""
	if addresses := r.Plan.Project.ProductionConfig.Document(r.Plan.Environment).Addresses; len(addresses) > 0 {
		address = addresses[0]
	}
	branch := r.Plan.Project.ProductionConfig.Environments[r.Plan.Environment].Follows
	if branch == "" || branch == project.Nothing {
		branch = r.Plan.Origin.Branch // an environment that follows none takes what any was told
	}
	what, told := record.Bound(journal.DisplayName(r.Plan.Environment), branch, address)
	if what == "" {
		return nil
	}
	if told == "" {
		told = "none"
	}
	return fault.New(fault.Refused, "bound", "the build of this release was told its %s, %s, so it does not belong in %s", what, told, journal.DisplayName(r.Plan.Environment)).
		At("build key %s (orilla.yaml: build.tell)", record.Key[:min(12, len(record.Key))]).
		Then("build it for there: orilla deploy %s --to %s", source.Short(r.Plan.Origin.Commit), journal.DisplayName(r.Plan.Environment)).
		Then("or take %s out of build.tell, so that what was reviewed can go live as it is", what)
}
