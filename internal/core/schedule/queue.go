// Package schedule decides what becomes of new commits: which are built, in which
// order, and which give way. It is pure; the clock and the repository are told to
// it.
//
//	queue := schedule.Queue{Parallel: 2}
//	queue.Push(a) // main at 4f1c…
//	queue.Push(b) // main at 9be0…: supersedes a, which was not begun
//	queue.Push(c) // fares at 77d1…
//	queue.Next()  // b, then c: production goes first
//
// Of a ref only the newest commit counts; the state of an environment is a place
// to arrive at, not a list of commits to pass through. A Pace keeps refs from
// outside from taking the whole machine, and Pause says how long a commit waits
// that could not be built for a reason that may pass.
package schedule

import (
	"slices"
	"strings"
)

// Job is a commit that should become what its ref's environment serves.
type Job struct {
	Ref    string // in full: refs/heads/main
	Commit string
	Rank   int // lower ones go first: production, fixed environments, previews
	turn   int // in which order they came
}

// Queue orders builds: for each ref the newest commit only, several refs at
// once, the lowest rank first. The zero value with Parallel set is empty. It is
// not safe for concurrent use.
type Queue struct {
	Parallel int // how many at once; at least 1
	waiting  []Job
	running  map[string]Job
	turns    int
}

// Push adds a commit. superseded is the older one of its ref that had waited,
// running the one that is being built; each nil if there is none. A commit that
// waits or is being built already changes nothing.
func (q *Queue) Push(job Job) (superseded, running *Job) {
	if now, ok := q.running[job.Ref]; ok {
		if now.Commit == job.Commit {
			return q.Drop(job.Ref), nil
		}
		running = &now
	}

	q.turns++
	job.turn = q.turns
	for i, waiting := range q.waiting {
		if waiting.Ref != job.Ref {
			continue
		}
		if waiting.Commit == job.Commit {
			return nil, running
		}

		job.turn = waiting.turn // it keeps the place of the one that gives way
		q.waiting[i] = job
		return &waiting, running
	}
	q.waiting = append(q.waiting, job)
	return nil, running
}

// Drop takes out what waits for a ref, and returns it.
func (q *Queue) Drop(ref string) *Job {
	at := slices.IndexFunc(q.waiting, func(j Job) bool { return j.Ref == ref })
	if at < 0 {
		return nil
	}
	job := q.waiting[at]
	q.waiting = slices.Delete(q.waiting, at, at+1)
	return &job
}

// Next returns what should begin now and takes it for running; false if nothing
// may. A ref whose older commit is being built waits.
//
// Two builds of one ref at once would race for the same environment, and the
// older could end last.
func (q *Queue) Next() (Job, bool) {
	if len(q.running) >= max(1, q.Parallel) {
		return Job{}, false
	}
	best := -1
	for i, job := range q.waiting {
		if _, busy := q.running[job.Ref]; busy {
			continue
		}
		if best < 0 || job.Rank < q.waiting[best].Rank ||
			job.Rank == q.waiting[best].Rank && job.turn < q.waiting[best].turn {
			best = i
		}
	}

	if best < 0 {
		return Job{}, false
	}
	job := q.waiting[best]
	q.waiting = slices.Delete(q.waiting, best, best+1)
	if q.running == nil {
		q.running = map[string]Job{}
	}
	q.running[job.Ref] = job
	return job, true
}

// Done says that what ran for a ref has ended.
func (q *Queue) Done(ref string) { delete(q.running, ref) }

// Waiting returns what waits, in the order in which it came.
func (q *Queue) Waiting() []Job {
	return slices.SortedFunc(slices.Values(q.waiting), func(a, b Job) int { return a.turn - b.turn })
}

// Idle reports whether nothing waits or runs.
func (q *Queue) Idle() bool { return len(q.waiting)+len(q.running) == 0 }

// skipTrailer is what a commit's message ends with that asks not to be built, in the
// form of a trailer (git-interpret-trailers): Orilla: skip.
const skipTrailer, skipValue = "orilla", "skip"

// Skips returns the words with which a commit's message asks not to be built; "" if it
// does not. The marker is our own, so that a message written for another system does
// not keep a site from being published.
func Skips(message string) string {
	lines := strings.Split(strings.TrimSpace(message), "\n")
	for _, line := range slices.Backward(lines) {
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			break // trailers are the last lines
		}
		if strings.EqualFold(name, skipTrailer) && strings.EqualFold(strings.TrimSpace(value), skipValue) {
			return strings.TrimSpace(line)
		}
	}
	return ""
}
