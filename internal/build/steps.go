package build

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/sandbox"
	"orilla.example/orilla/internal/steps"
)

// stepRun runs the steps of a build in one folder.
type stepRun struct {
	*Build
	folder       string // that the steps begin in
	log          string // the file that gets what they print
	prepare, run []string
	prepared     bool           // what prepare fetches is there
	fetched      func()         // is told when it has been fetched; may be nil
	session      *steps.Session // in which they run; nil for one of their own
	temporary    string         // their folder for temporary files; "" for the system's
	home         string         // their home folder; "" for the user's own
}

// logTime is how long it may take to keep the log of a
// build that was ended: whoever ended it waits.
const logTime = 15 * time.Second

// all runs what prepares and what builds. A failed build is recorded in the
// store too, as far as that is possible.
func (s *stepRun) all(ctx context.Context) (record builds.Record, err error) {
	record = builds.Record{Started: s.Now(), Outcome: builds.Succeeded, Untrusted: s.isolation.untrusted}
	defer func() { record.Finished = s.Now() }()
	if s.prepared {
		s.prepare = nil
	}

	if len(s.prepare)+len(s.run) == 0 {
		return record, os.WriteFile(s.log, nil, 0o600)
	}
	if err := s.isolation.check(ctx, s.session, s.Machine); err != nil {
		return record, err
	}

	got, err := steps.Prepare(ctx, s.wanted())
	if err != nil {
		return record, s.notPrepared(err)
	}
	if len(got.Short) > 0 {
		s.Report.Notice(fault.Notice{Code: "secret-short", What: "too short to mask in logs: " +
			strings.Join(got.Short, ", ")})
	}

	log, err := steps.CreateLog(s.log)
	if err != nil {
		return record, err
	}
	s.announced.follow(log)
	err = s.steps(ctx, got, log, &record)
	s.announced.follow(nil)
	record.Finished = s.Now()
	if closed := log.Close(); err == nil && closed != nil {
		err = fault.New(fault.Failed, "log", "cannot write the build log").Because(closed)
	}

	if err != nil {
		record.Outcome = builds.Failed
		err = s.keepFailure(ctx, record, s.missing(s.noRoom(err), record))
	}
	return record, err
}

// steps runs each step, timed, and adds it to the record.
func (s *stepRun) steps(ctx context.Context, got steps.Ready, log *steps.Log, record *builds.Record) error {
	limit, byProduction := timeLimit(s.Plan)
	spec := steps.Spec{
		Folder: s.folder, Environment: got.Environment, Secrets: got.Secrets, Session: s.session,
		TimeLimit: limit, Log: log,
		Line: s.Report.Line,
	}

	for _, part := range []struct {
		phase string
		steps []string
		done  func()
	}{{"prepare", s.prepare, s.fetched}, {"step", s.run, nil}} {
		began := time.Now()
		if len(part.steps) > 0 {
			ran, err := steps.Run(ctx, s.part(spec, part.phase, part.steps, len(record.Steps)))
			record.Steps = append(record.Steps, ran...)
			if err != nil {
				return ofLimit(err, byProduction)
			}
			spec.Used += time.Since(began)
		}

		if part.done != nil {
			part.done()
		}
	}
	noteNearLimit(s.Request, spec.Used)
	return nil
}

// part is the specification of the steps of one part, of
// which first have run before.
func (s *stepRun) part(spec steps.Spec, phase string, steps []string, first int) steps.Spec {
	spec.Steps, spec.First = steps, first
	spec.Begin = func(i int) {
		s.Report.Begin("build", steps[i])
		s.Phases.now(steps[i])
	}

	spec.End = func(step builds.Step) {
		s.Phases.Add(phase, step.Command, time.Duration(step.Milliseconds)*time.Millisecond)
		s.Report.Step(step)
	}
	return spec
}

// ofLimit says, of steps that took too long, that it is
// not the configuration at hand that limits them.
func ofLimit(err error, byProduction bool) error {
	problem, ok := errors.AsType[*fault.Error](err)
	if ok && byProduction && errors.Is(err, steps.ErrTimeLimit) {
		problem.Next = []string{"the limit is limits.build_time on the production branch"}
	}
	return err
}

// wanted is what the steps ask of this machine and their environment.
func (s *stepRun) wanted() steps.Wanted {
	config := s.Plan.Config.Build
	w := steps.Wanted{
		Steps: append(slices.Clone(s.prepare), s.run...), Variables: config.Variables,
		Secrets: s.Plan.Secrets(),
		Needs:   config.Needs, Told: s.Plan.Variables(), Temporary: s.temporary, Home: s.home,
		Session: s.session, Folder: s.folder,
	}

	if s.temporary != "" {
		w.Ceiling = filepath.Dir(s.temporary)
	}
	if s.home == sandbox.HomePlace { // inside a sandbox its own places count
		w.Temporary, w.Ceiling = sandbox.TemporaryPlace, ""
	}
	return w
}

// noRoom adds to an error that the disk is full, if it is:
// steps say that in many ways, or not at all.
func (s *stepRun) noRoom(err error) error {
	full := fullDisk(s.folder)
	problem, ok := errors.AsType[*fault.Error](err)
	if full == "" || !ok {
		return err
	}
	problem.What += ", and the disk is full"
	problem.Next = append([]string{"free some space where builds run: " + full}, problem.Next...)
	return problem
}

// notPrepared adds to the error of a step whose program was not found what would
// install it, if the project says what it depends on and nobody fetches that: on the
// developer's machine it is there.
func (s *stepRun) notPrepared(err error) error {
	problem, ok := errors.AsType[*fault.Error](err)
	if !ok || len(s.Plan.Config.Build.Prepare) > 0 ||
		s.isolation.untrusted != nil { // files of strangers are not looked into
		return err
	}
	guess := project.Detect(os.DirFS(s.folder))
	if len(guess.Prepare) == 0 {
		return err
	}
	return problem.Then("a fresh checkout has no dependencies; in orilla.yaml: build: {prepare: [%s]}",
		strings.Join(guess.Prepare, ", "))
}

// missing is notPrepared for the step that failed last, if its shell did not find a
// command.
//
// Other statuses say nothing of what is missing: a program that fails for want of a
// module says so in its own words, above.
func (s *stepRun) missing(err error, record builds.Record) error {
	if last := len(record.Steps) - 1; last < 0 || record.Steps[last].Exit != notFound {
		return err
	}
	return s.notPrepared(err)
}

// notFound is the status of a shell that does not find a command (POSIX, 2.8.2).
const notFound = 127

// keepFailure keeps the record and the log of a build that
// failed, and says where the log can be read.
func (s *stepRun) keepFailure(ctx context.Context, record builds.Record, err error) error {
	keeping, done := context.WithTimeout(context.WithoutCancel(ctx), logTime)
	defer done()
	interrupted := ctx.Err() != nil
	s.failedLog = s.Failed(keeping, record, s.log, interrupted)
	if len(s.failedLog) == 0 {
		return s.keepLog(err)
	}

	if problem, ok := errors.AsType[*fault.Error](err); ok && !interrupted {
		return problem.Then("orilla log build:%d", s.Number())
	}
	return err
}

// keepLog moves the log of a failed build, of which the
// store could not be told, out of the workspace, which the
// next build cleans, and says where it is.
func (s *stepRun) keepLog(err error) error {
	problem, ok := errors.AsType[*fault.Error](err)
	if !ok {
		return err
	}
	kept := filepath.Join(s.Plan.Project.Places.Cache, "logs", s.Plan.Site+".log")
	if os.MkdirAll(filepath.Dir(kept), 0o700) != nil || os.Rename(s.log, kept) != nil {
		return err
	}
	return problem.Then("read the whole log: %s", kept)
}
