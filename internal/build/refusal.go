package build

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// Refusal is a commit that is not built, since its rules or its orilla.yaml are
// wrong, or for another reason that was found before a build began. It is recorded
// as a build that did not begin: people look for it where they look for builds.
type Refusal struct {
	Commit      source.Commit
	Branch      string
	Environment string // stored name; where it was meant to go
	Cause       string // as of a build
	Who         string
	Why         error
}

// maxReason is how many bytes of what is said of a refusal are kept.
const maxReason = 256 << 10

// Record takes a number for a refusal and keeps what is wrong as its log, unless
// another follower does or did: then the number is that one's, or 0. hint is as
// builds.Runs takes it.
func (r Refusal) Record(ctx context.Context, store storage.Store, site string, now time.Time, hint int64,
) (number int64, err error) {
	// Two followers see a push at the same moment. One of them records it; should it be
	// killed in that moment, the lease goes with those of lost builds.
	lease := storage.RunningKey(site, "refused-"+digest.Short(r.Commit.Hash, r.Environment)) + leaseName
	data, err := record.Encode(Running{Format: runningFormat, Process: os.Getpid(),
		Begun: builds.Begun{Commit: r.Commit.Hash, When: now}})
	if err != nil {
		return 0, err
	}
	if err := store.Create(ctx, lease, data); err != nil {
		if errors.Is(err, storage.ErrExists) {
			err = nil
		}
		return 0, err
	}
	defer store.Delete(context.WithoutCancel(ctx), lease) //nolint:errcheck // who comes next finds it gone
	runs := builds.Runs{Store: store, Site: site}
	before, err := runs.Of(ctx, r.Commit.Hash, r.Environment, r.Cause, hint)
	// The same, found again, is no news: what a stranger pushes leaves one record.
	problem := fault.Line(r.Why)
	if err == nil && len(before) > 0 && before[0].Ended != nil && before[0].Ended.Problem == problem {
		return before[0].Number, nil
	}
	if err != nil {
		return 0, err
	}
	return r.record(ctx, store, site, now, hint)
}

// record takes a number, and writes both halves of the run.
func (r Refusal) record(ctx context.Context, store storage.Store, site string, now time.Time, hint int64,
) (number int64, err error) {
	where, _ := os.Hostname()
	runs := builds.Runs{Store: store, Site: site}
	begun, err := runs.Begin(ctx, builds.Begun{Source: journal.FromCommit, Commit: r.Commit.Hash,
		Branch: r.Branch, Subject: r.Commit.Subject, Author: r.Commit.Author, Environment: r.Environment,
		Cause: r.Cause, Who: r.Who, Where: where, When: now}, hint)
	if err != nil {
		return 0, err
	}

	ended := builds.Ended{Number: begun.Number, Outcome: outcome(r.Why), Problem: fault.Line(r.Why),
		When: now}
	if ended.Outcome == builds.Failed {
		ended.Outcome = builds.Refused
	}
	// Why comes before that it ended: who reads the record finds its log.
	text := []byte(strings.Join(fault.Lines(r.Why), "\n") + "\n")
	text = text[:min(len(text), maxReason)]
	sum := digest.Of(text)
	batch, err := store.Begin(ctx)
	if err == nil {
		defer batch.Discard()
		if _, err = batch.Add(ctx, sum.Key(), text); err == nil {
			_, err = batch.Commit(ctx)
		}
	}
	if err == nil {
		ended.Log = []digest.Digest{sum}
	}
	if ending := runs.End(ctx, ended); ending != nil {
		return begun.Number, ending
	}
	return begun.Number, err
}
