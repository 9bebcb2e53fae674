package courier

import (
	"context"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/gallery"
	"orilla.example/orilla/internal/past"
	"orilla.example/orilla/internal/source"
)

// A notice is described when it is sent, from what the store says then. Mostly that is a moment
// after it happened; after days it is what is left: a release that was pruned cannot be compared
// any more, and a build of long ago may have no record. The notice says what there is to say.

// compareTime is how long it may take to find out how two releases differ: without it a notice
// says everything else.
const compareTime = 5 * time.Second

// describe reads what is known of what happened. What the store has no more is left out; the
// error is that of a store that does not answer.
func describe(ctx context.Context, o Options, ref notices.Ref) (data notices.Data, err error) {
	data = notices.Data{Site: o.Site}
	switch {
	case ref.Kind == notices.Certificate:
		data.Problem = ref.What
		data.Next = []string{"orilla doctor"}
	case ref.IsOfBuild():
		err = describeBuild(ctx, o, ref, &data)
	case ref.Kind == notices.Waiting:
		err = describeWaiting(ctx, o, ref, &data)
	default:
		err = describeEntry(ctx, o, ref, &data)
	}
	if errors.Is(err, storage.ErrNotFound) || errors.Is(err, journal.ErrDamaged) ||
		errors.Is(err, journal.ErrUnknown) || errors.Is(err, builds.ErrUnreadable) {
		err = nil
	}
	data.Code = o.Config.CommitLink(data.Commit)
	return data, err
}

// origin fills in where a release comes from.
func origin(data *notices.Data, from journal.Origin) {
	data.Commit, data.Branch, data.Summary = from.Commit, from.Branch, from.Subject
}

// describeBuild tells of a build.
func describeBuild(ctx context.Context, o Options, ref notices.Ref, data *notices.Data) error {
	run, err := builds.Runs{Store: o.Store, Site: o.Site}.Get(ctx, ref.Number)
	if err != nil {
		return err
	}
	data.Build, data.Who = run.Label(), source.PersonName(run.Who)
	data.Commit, data.Branch, data.Summary = run.Commit, run.Branch, run.Subject
	data.Next = []string{"orilla log " + run.Label()}
	if run.Ended == nil || ref.Kind == notices.BuildStarted {
		return nil
	}
	data.TookMS = run.Ended.When.Sub(run.When).Milliseconds()
	data.Problem = run.Ended.Problem
	if !run.Ended.Release.IsZero() {
		data.Release = run.Ended.Release.Short()
	}
	return nil
}

// describeWaiting tells of a release that waits for a thaw.
func describeWaiting(ctx context.Context, o Options, ref notices.Ref, data *notices.Data) error {
	raw, err := o.Store.Get(ctx, storage.WaitingKey(o.Site, ref.Environment)+"/"+ref.What)
	if err != nil {
		return err
	}
	var pending environments.PendingRelease
	if !record.Lenient(raw, &pending) {
		return nil
	}
	origin(data, pending.Origin)
	data.Release, data.Who = pending.Release.Short(), source.PersonName(pending.Who)
	data.Next = []string{"orilla thaw " + journal.DisplayName(ref.Environment)}
	return nil
}

// describeEntry tells of an entry of a journal: what it made live, and what it replaced.
func describeEntry(ctx context.Context, o Options, ref notices.Ref, data *notices.Data) error {
	j := environments.JournalOf(o.Store, o.Site, ref.Environment, o.Now)
	entry, err := j.Get(ctx, ref.Number)
	if err != nil {
		return err
	}
	origin(data, entry.Origin)
	data.Entry, data.Who, data.Why = entry.Label(), source.PersonName(entry.Who), entry.Why
	if !entry.Release.IsZero() {
		data.Release = entry.Release.Short()
	}
	if document, err := environments.DocumentOf(ctx, o.Store, entry); err == nil {
		data.URLs = document.Addresses
	}
	before, there := journal.Entry{}, false
	if entry.Number > 1 {
		previous, err := j.Get(ctx, entry.Number-1)
		before, there = previous, err == nil && !previous.Release.IsZero()
	}
	name := journal.DisplayName(entry.Environment)
	switch ref.Kind {
	case notices.Frozen:
		if entry.Frozen != nil {
			data.Why, data.Until = entry.Frozen.Why, entry.Frozen.Until
			data.Who = source.PersonName(entry.Frozen.Who)
		}
		data.Next = []string{"orilla thaw " + name}
	case notices.PreviewEnded, notices.Removed:
		data.Why, data.URLs = ended(entry), nil
		if entry.Ended != nil {
			data.Commit, data.Branch = entry.Ended.Commit, entry.Ended.Branch
		}
	case notices.Thawed:
		data.Next = []string{"orilla status"}
	case notices.CheckFailed:
		failedChecks(ctx, o, entry, data)
	default:
		data.Until, data.Frozen = entry.Expires, entry.Frozen != nil
		data.Picture = pictureOf(ctx, o, entry)
		if there {
			changed(ctx, o, before, entry, data)
		}
		if data.Frozen {
			data.Next = append(data.Next, "orilla thaw "+name)
		}
	}
	return nil
}

// The reasons are few, and each has a word in the journal; people get a sentence.

// ended says in words why an environment is no more.
func ended(entry journal.Entry) string {
	if entry.Ended == nil {
		return entry.Why
	}
	switch entry.Ended.Reason {
	case journal.Expired:
		return "it expired"
	case journal.Merged:
		return "its branch was merged"
	case journal.Deleted:
		return "its branch was deleted"
	case journal.Room:
		return "it made room for a newer preview"
	}
	return entry.Why
}

// failedChecks tells which checks an entry did not pass, and whether Orilla went back.
func failedChecks(ctx context.Context, o Options, entry journal.Entry, data *notices.Data) {
	outcome, err := environments.ReadOutcome(ctx, o.Store, entry)
	if err != nil || outcome == nil {
		return
	}
	for _, probe := range outcome.Probes {
		if !probe.Passed && !probe.Unchecked {
			data.Checks = append(data.Checks, notices.Check{What: probe.What, Text: probe.Text})
		}
	}
	name := journal.DisplayName(entry.Environment)
	if outcome.Back > 0 {
		data.Why = "Orilla rolled back: " + journal.Entry{Environment: entry.Environment,
			Number: outcome.Back}.Label() + " is live"
		data.Next = []string{"orilla history " + name}
	} else {
		data.Next = []string{"orilla rollback " + name}
	}
}

// A mail that waits for a picture would be a mail that comes late: what is there is taken, and what is not
// there is left out. So the mail of a deploy mostly has none, and that of a promotion mostly has one.

// pictureOf is the home page of what an entry put live, if a picture was taken of it; nil if not.
func pictureOf(ctx context.Context, o Options, entry journal.Entry) []byte {
	const width, height = 560, 360 // pixels: as wide as the mail
	// A mail goes further than a password does.
	if entry.Access.Protects() || journal.IsPreview(entry.Environment) {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, compareTime)
	defer cancel()
	data, _ := gallery.Small(ctx, o.Store, o.Site, entry.Release, width, height) // the rest is worth telling
	return data
}

// The command that undoes names the entry, and not only the environment: when the mail is read,
// something else may be live, and "one back" would be another release.

// changed tells what was live before, how it differs, and how to go back to it.
func changed(ctx context.Context, o Options, before, entry journal.Entry, data *notices.Data) {
	data.Before = &notices.Before{Entry: before.Label(), Release: before.Release.Short(),
		Commit: before.Commit, Summary: before.Subject}
	data.Next = []string{"orilla rollback " + before.Label(), "orilla diff " + before.Label() + " " +
		entry.Label()}
	ctx, cancel := context.WithTimeout(ctx, compareTime)
	defer cancel()
	data.Changed, _ = past.Compare(ctx, o.Store, before, entry) // the rest is worth telling without it
}
