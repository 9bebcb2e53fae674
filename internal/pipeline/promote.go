package pipeline

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
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
	if err := r.checkFrozen(ctx); err != nil {
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
	started := r.Now()
	r.kind = journal.Promotion
	if err := r.activate(ctx); err != nil {
		return nil, err
	}
	r.result.Timings = append(r.result.Timings, Timing{"activate", "", r.Now().Sub(started)})
	return &r.result, nil
}

// unbound refuses a release whose build was told of another place than the plan's environment.
func (r *Run) unbound(ctx context.Context) error {
	record, err := buildRecord(ctx, r.Store, r.Plan.Site, r.Plan.Origin.Build)
	if err != nil || record == nil {
		return err
	}
	r.result.Build = *record
	standing := r.Plan.Project.Standing.Environments[r.Plan.Environment]
	address := ""
	if len(standing.Addresses) > 0 {
		address = standing.Addresses[0]
	}
	branch := standing.Follows
	if branch == "" {
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
