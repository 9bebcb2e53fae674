package deploy

import (
	"context"
	"errors"
	"sync"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/inspect"
	"orilla.example/orilla/internal/source"
)

// Promote takes a release that is in the store for the plan's environment: the
// very same bytes, no build, no upload. The plan's origin says where it comes
// from. A release whose build was told that it goes elsewhere is refused, and
// one that breaks what is expected of the environment.
func (p *Prepared) Promote(ctx context.Context, id release.ID) (*Release, error) {
	// What the build was told decides whether its output belongs there at all,
	// so it is asked first.
	readAhead(ctx, p)
	var reader *release.Reader
	var unreadable error
	var reading sync.WaitGroup
	reading.Go(func() { reader, unreadable = openRelease(ctx, p, id) })
	record, err := readBuild(ctx, p)
	if reading.Wait(); err != nil {
		return nil, err
	}
	doomed := p.hold.Doomed(storage.ReleaseKey(p.Plan.Site, id.String()))
	err = unreadable
	if doomed || errors.Is(err, storage.ErrNotFound) || errors.Is(err, release.ErrDamaged) {
		return nil, fault.New(fault.Refused, "release-lost", "the release %s is no longer complete "+
			"in the store",
			id.Short()).Because(err).
			Then("orilla deploy %s", p.Plan.Origin.Commit)
	}
	if err != nil {
		return nil, err
	}

	made := Made{
		ID: id, Files: reader.Root.Files, Bytes: reader.Root.Bytes, Build: record, Reused: true,
		semantics: reader.Root.Semantics,
	}
	// The files are the same, but the place is another: other upstreams,
	// another base path, expectations that say when environment.
	subject, err := suits(ctx, p, reader)
	if err != nil {
		return nil, err
	}

	if err := errors.Join(noteUpstreams(ctx, p), noteOrigins(ctx, p, subject.Site.Rules)); err != nil {
		return nil, err
	}
	made.Rules.Expectations = len(subject.Program.Expectations)
	made.comparison, err = compare(ctx, p, reader, subject.Input, opener(subject.Open))
	if err != nil {
		return nil, err
	}
	return made.release(p), nil
}

// readBuild returns the record of the release's build, unless the release
// belongs elsewhere. It is zero if there is none any more.
func readBuild(ctx context.Context, p *Prepared) (builds.Record, error) {
	record, err := inspect.BuildRecord(ctx, p.Store, p.Plan.Site, p.Plan.Origin.Build)
	if err != nil || record == nil {
		return builds.Record{}, err
	}
	if err := vouched(p, *record); err != nil {
		return *record, err
	}
	return *record, unbound(p, *record)
}

// vouched asks whoever promotes something that an untrusted build made without
// isolation to a place that is no preview.
func vouched(p *Prepared, record builds.Record) error {
	if record.Untrusted.Contained() || journal.IsPreview(p.Plan.Environment) {
		return nil
	}
	if p.Ask.Uncontained != nil {
		return p.Ask.Uncontained(record)
	}
	return UncontainedRefusal(record, p.Plan.Environment)
}

// UncontainedRefusal is the message for a release that
// belongs in previews only.
func UncontainedRefusal(record builds.Record, environment string) *fault.Error {
	problem := fault.New(fault.Refused, "uncontained",
		"the release was built on the untrusted branch %s without isolation, so its files may "+
			"differ from what its commit builds", record.Branch)
	if record.Commit != "" && record.Source == journal.FromCommit {
		commit := source.Short(record.Commit)
		problem = problem.At("build of %s", commit).
			Then("merge it into a trusted branch, or rebuild it here: orilla deploy %s --to %s",
				commit, journal.DisplayName(environment))
	}
	return problem
}

// unbound refuses a release whose build was told of
// another place than the plan's environment.
func unbound(p *Prepared, record builds.Record) error {
	production := p.Plan.Project.ProductionConfig
	address := ""
	if addresses := production.Document(p.Plan.Environment).Addresses; len(addresses) > 0 {
		address = addresses[0]
	}

	// A build that was told its branch belongs where that branch goes.
	branch := production.Environments[p.Plan.Environment].Follows
	if branch == "" || branch == project.Nothing {
		branch = p.Plan.Origin.Branch // an environment that follows none takes what any was told
	}
	where := journal.DisplayName(p.Plan.Environment)
	what, told := record.Bound(where, branch, address)
	if what == "" {
		return nil
	}

	if told == "" {
		told = "none"
	}
	return fault.New(fault.Refused, "bound",
		"the build of this release used its %s, %s, so it does not fit %s", what, told, where).
		At("build key %s (orilla.yaml: build.tell)", record.Key[:min(12, len(record.Key))]).
		Then("build it for there: orilla deploy %s --to %s", source.Short(p.Plan.Origin.Commit), where).
		Then("or remove %s from build.tell, so that the reviewed release can go live unchanged", what)
}

// suits makes sure that a release does what is expected of the plan's
// environment: the expectations that were written with its rules hold, and all
// upstreams that its rules name have an address there.
func suits(ctx context.Context, p *Prepared, reader *release.Reader) (*inspect.Subject, error) {
	production := p.Plan.Project.ProductionConfig
	subject, err := inspect.Release(ctx, p.Plan.Project, p.Store, p.Plan.Site, reader.ID, p.Plan.Origin.Build)
	if err != nil {
		return nil, err
	}

	subject.Input.Now = p.now()
	found, err := inspect.CheckRules(ctx, subject.Input)
	if err != nil {
		return nil, err
	}

	if err := inspect.Accepted(found, production).Problem(); err != nil {
		return nil, err
	}
	// An expectation is only as good as the rules that it was written with;
	// running it against others would tell people of faults that are not there.
	if subject.Reworded {
		p.Report.Notice(fault.Notice{
			Code: "expectations-unknown",
			What: "did not run the release's expectations: its rules mean something else under " +
				"this configuration",
			Next: "run it from the production branch, with the release's languages and time zone",
		})
	}

	return subject, knowsUpstreams(p, subject.Program.Rules)
}

// knowsUpstreams refuses rules that pass requests on to
// what has no address in the plan's environment.
func knowsUpstreams(p *Prepared, list []rules.Rule) error {
	upstreams := p.Plan.Project.ProductionConfig.Document(p.Plan.Environment).Upstreams
	where := journal.DisplayName(p.Plan.Environment)
	for _, rule := range list {
		name := rule.Target.Upstream
		if _, there := upstreams[name]; rule.Verb == rules.Proxy && name != "" && !there {
			return fault.New(fault.Refused, "no-upstream",
				"a rule passes requests on to %s:, and %s has no such upstream", name, where).
				At("%s", rule.At).Then("give its address in orilla.yaml: environments.%s.upstreams.%s", where,
				name)
		}
	}
	return nil
}
