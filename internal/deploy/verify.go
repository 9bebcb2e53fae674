package deploy

import (
	"context"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
)

// Verification is what came of verifying an activation.
type Verification struct {
	Outcome environments.Outcome
	Back    *journal.Entry // that went back, since a probe failed; nil if nothing did
}

// verifier probes what an activation put live.
type verifier struct {
	*Prepared
	entry   journal.Entry
	before  *journal.Entry // what is gone back to
	stay    bool           // nothing is gone back to, on purpose
	pass    string         // lets requests in where a password is asked for
	address string         // of the environment, for commands
}

// Verify probes what is live, and goes back if a probe fails: the error is a
// message of kind fault.Findings then. A probe is an address, such as /fares/
// or https://corvane.example/fares/, which must be answered with a status from
// 200 to 299, or a command, which must end with status 0. told is called for
// each when it has ended. Nothing is probed if there is nothing to probe, or if
// the release was live before; then the verification is nil.
//
// It is not interrupted between a failed probe and going back.
func (a *Activation) Verify(ctx context.Context, probes []string, told func(environments.Probe),
) (*Verification, error) {
	if len(probes) == 0 || a.Same {
		return nil, nil
	}
	v := &verifier{Prepared: a.release.prepared, entry: a.Entry, before: a.Before,
		stay: a.stay}
	// Where a password is asked for, a probe gets in by a pass that whoever can
	// read the store can sign; no password is kept for it anywhere.
	claim, err := site.ReadClaim(ctx, v.Store, v.Plan.Site)
	if err != nil {
		return nil, err
	}

	v.pass = access.Pass(claim.Incarnation, v.Plan.Environment, v.now())
	if v.address, err = v.findAddress(ctx); err != nil {
		return nil, err
	}

	// Whoever is killed while checking leaves that behind.
	end := environments.BeginChecking(ctx, v.Store, v.entry, probes, v.Plan.Project.Person(ctx))
	defer end(context.WithoutCancel(ctx))
	verified := &Verification{Outcome: environments.Outcome{Entry: v.entry.Number, Attempt: v.entry.Attempt,
		Passed: true}}
	// Whoever interrupts now still wants what is broken to be gone, so what
	// follows a probe is not interrupted.
	failed := v.probeAll(ctx, probes, &verified.Outcome, told)
	return verified, v.conclude(context.WithoutCancel(ctx), verified, failed)
}

// probeAll probes one after another, until one fails:
// failed says which, and why.
func (v *verifier) probeAll(ctx context.Context, probes []string, outcome *environments.Outcome,
	told func(environments.Probe),
) (failed string) {
	for _, what := range probes {
		began := time.Now()
		probe := v.probe(ctx, what)
		if ctx.Err() != nil {
			probe.Passed, probe.Text = false, "was interrupted"
		}

		probe.What, probe.Milliseconds = what, time.Since(began).Milliseconds()
		outcome.Probes = append(outcome.Probes, probe)
		told(probe)
		outcome.Passed = outcome.Passed && probe.Passed
		if !probe.Passed && !probe.Unchecked {
			failed = what + ": " + probe.Text
			break
		}
	}
	outcome.When = v.now().UTC().Truncate(time.Millisecond)
	return failed
}

// conclude keeps the outcome, after it went back if a probe failed.
func (v *verifier) conclude(ctx context.Context, verified *Verification, failed string) error {
	outcome := &verified.Outcome
	// No node could be asked. That is no reason to take a release back that may
	// be fine, and none to call it verified.
	if !outcome.Passed && failed == "" {
		v.Report.Notice(fault.Notice{
			Code: "not-checked",
			What: v.entry.Label() + " is live but was not checked: " +
				outcome.Probes[len(outcome.Probes)-1].Text,
			Next: "Orilla did not roll back; start a node and check it: orilla edge",
		})
	}

	var problem *fault.Error
	if failed != "" {
		back, err := v.back(ctx, failed)
		problem = v.backText(back, failed, err)
		if back != nil && err == nil {
			outcome.Back, verified.Back = back.Number, back
		}
	}

	// The outcome is created once: of two who verify the same entry, the first
	// has said it.
	*outcome = outcome.WithFormat()
	data, err := record.Encode(outcome)
	if err == nil {
		err = v.Store.Create(ctx, storage.OutcomeKey(v.Plan.Site, v.entry.Environment, v.entry.Number), data)
	}

	if problem != nil {
		return problem
	}
	return err
}

// backText says what did not pass, and what became of that. back is the entry
// that went back; nil if there was nothing to go back to.
func (v *verifier) backText(back *journal.Entry, failed string, err error) *fault.Error {
	problem := fault.New(fault.Findings, "wait-failed", "%s failed its --wait-for checks",
		v.entry.Label()).With(failed)
	name := journal.DisplayName(v.entry.Environment)
	switch {
	case err != nil:
		return problem.With("the rollback failed too, so it is still live").Because(err).
			Then("orilla rollback %s", name)
	case back == nil && v.stay:
		return problem.With("it is still live: a rollback is not undone by its checks").
			Then("to choose another release: orilla history %s", name)
	case back == nil:
		return problem.With("there is no earlier release to roll back to, so it is still live, or " +
			"someone has moved it since")
	}
	return problem.
		With(name+" was rolled back to "+back.Release.Short()+" ("+back.Label()+"), and is frozen").
		Then("fix it, then: orilla thaw %s", name)
}

// errMovedOn ends a decision: somebody has moved the environment since.
var errMovedOn = errors.New("moved on")

// back returns to what was live before, unless nothing was or somebody has
// moved the environment since: then it returns nil.
func (v *verifier) back(ctx context.Context, why string) (*journal.Entry, error) {
	if v.before == nil || v.before.Release.IsZero() || v.before.Release == v.entry.Release {
		return nil, nil
	}
	j := v.journal()
	decide := j.Return(ctx, journal.Back{
		Cause: v.Cause, Who: v.Plan.Project.Person(ctx), Why: "failed: " + why,
		To: func(e journal.Entry) bool { return e.Number < v.entry.Number && e.Release == v.before.Release },
	})

	// Only what this job put live is taken back. Whoever has deployed since has
	// decided otherwise.
	entry, err := j.Append(ctx, v.entry, func(head *journal.Entry) (journal.Entry, error) {
		if head == nil || head.Attempt != v.entry.Attempt {
			return journal.Entry{}, errMovedOn
		}
		return decide(head)
	})
	if errors.Is(err, errMovedOn) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v.hints.Pulse(ctx, v.Store, entry)
	return &entry, nil
}
