package notices

import (
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/canon"
)

// Format is the version of the record of a turn.
const Format = 1

// Bounds of a record.
const (
	// mostWaiting is how many notices may wait for one recipient. With more, nobody looks for
	// what is new: it stays in the journals, and is found when there is room.
	mostWaiting = 1000
	// mostDone is how many of those that were sent, or given up, are listed.
	mostDone = 200
	// triedFor is after what time a notice is given up that nobody takes.
	triedFor = 3 * 24 * time.Hour
	// goneFor is how long it is kept what was told of an environment that is no more.
	goneFor = 8 * 24 * time.Hour
)

// The record holds cursors and queues together, so that they cannot disagree: what is behind a
// cursor is either in the queues of those who want it, or was sent, or is wanted by nobody. It is
// read leniently. A program that knows more may add to it; one that knows less, which takes the next
// turn, drops that again, and nothing is told twice or lost for it that this one knows of.

// Record is what the holder of a turn leaves to the next one.
type Record struct {
	Format int   `json:"format"`
	Turn   int64 `json:"turn"`
	// The holder, and whether it has ended by itself.
	Who     string    `json:"who"`
	Where   string    `json:"where"`
	Process int       `json:"process"`
	Began   time.Time `json:"began"` // UTC
	Ended   bool      `json:"ended,omitempty"`
	Beat    int64     `json:"beat,omitempty"` // changes while the holder is there

	// What was looked at: the last entry of each environment by its stored name, the last build,
	// builds that have not ended, entries whose checks have no result yet, releases that wait,
	// and what nodes said, with the time.
	Since   time.Time            `json:"since"` // what happened before is not told
	Entries map[string]int64     `json:"entries,omitempty"`
	Frozen  map[string]bool      `json:"frozen,omitempty"` // environments that are, as far as it was seen
	Gone    map[string]time.Time `json:"gone,omitempty"`   // environments that were removed
	Builds  int64                `json:"builds,omitempty"`
	Open    []Ref                `json:"open,omitempty"`
	Checks  []Ref                `json:"checks,omitempty"`
	Waiting map[string]time.Time `json:"waiting,omitempty"` // by environment/release
	Alarms  map[string]time.Time `json:"alarms,omitempty"`
	Queues  map[string]*Queue    `json:"queues,omitempty"` // by recipient
	Done    []Done               `json:"done,omitempty"`   // the newest last
	Counts  map[string]int64     `json:"counts,omitempty"` // how many were sent, by recipient
}

// Queue is what one recipient is still to be told, in order.
type Queue struct {
	Since   time.Time `json:"since"` // it is told of nothing older
	Waiting []Ref     `json:"waiting,omitempty"`
	// Of the first one: how often it was tried, when it was tried first and is to be again, and
	// why it was not taken.
	Tries   int        `json:"tries,omitempty"`
	First   *time.Time `json:"first,omitempty"`
	Next    *time.Time `json:"next,omitempty"`
	Problem string     `json:"problem,omitempty"`

	fresh bool // it was made in this turn, and nothing was added yet
}

// Done is a notice that was sent, or given up.
type Done struct {
	To           string    `json:"to"`
	Ref          Ref       `json:"notice"`
	When         time.Time `json:"when"` // UTC
	Milliseconds int64     `json:"milliseconds"`
	Tries        int       `json:"tries"`
	Problem      string    `json:"problem,omitempty"` // why it was given up; "" for one that was sent
}

// ErrUnreadable: the record is of a later version, or damaged.
var ErrUnreadable = errors.New("the record of notices cannot be read")

// Decode reads a record. It is read leniently: what a later program notes besides is kept out of
// the way, and decides nothing here.
func Decode(data []byte) (*Record, error) {
	r := &Record{}
	if err := json.Unmarshal(data, r); err != nil || r.Format != Format || r.Turn <= 0 {
		return nil, ErrUnreadable
	}
	return r, nil
}

// Encode returns the record's bytes.
func (r *Record) Encode() ([]byte, error) { return canon.Marshal(r) }

// Next is the record of the next turn: with what was left, and another holder.
func (r *Record) Next(who, where string, process int, now time.Time) *Record {
	next := &Record{Since: now.UTC()}
	if r != nil {
		copied := *r
		next = &copied
	}
	next.Format, next.Turn, next.Ended, next.Beat = Format, next.Turn+1, false, 0
	next.Who, next.Where, next.Process = who, where, process
	next.Began = now.UTC().Truncate(time.Millisecond)
	for _, m := range []*map[string]time.Time{&next.Gone, &next.Waiting, &next.Alarms} {
		if *m == nil {
			*m = map[string]time.Time{}
		}
	}
	if next.Entries == nil {
		next.Entries = map[string]int64{}
	}
	if next.Frozen == nil {
		next.Frozen = map[string]bool{}
	}
	if next.Queues == nil {
		next.Queues = map[string]*Queue{}
	}
	if next.Counts == nil {
		next.Counts = map[string]int64{}
	}
	return next
}

// Recipients makes a queue for each recipient that has none, and drops those that nobody asks for
// any more. Who is new is told of what happens from now on.
func (r *Record) Recipients(names []string, now time.Time) {
	for name := range r.Queues {
		if !slices.Contains(names, name) {
			delete(r.Queues, name)
			delete(r.Counts, name)
		}
	}
	for _, name := range names {
		if r.Queues[name] == nil {
			r.Queues[name] = &Queue{Since: now.UTC().Truncate(time.Millisecond), fresh: true}
		}
	}
}

// HasRoom reports whether more may be looked for.
func (r *Record) HasRoom() bool {
	for _, queue := range r.Queues {
		if len(queue.Waiting) >= mostWaiting {
			return false
		}
	}
	return true
}

// Add queues what was found for whoever wants it, in the order in which it happened. What is
// found later may have happened earlier than what is queued already, elsewhere: within an
// environment the order is that of its journal.
func (r *Record) Add(found []Ref, wants map[string]Wants) {
	found = inOrder(found)
	for name, queue := range r.Queues {
		for _, ref := range found {
			// Of what was found already when a recipient came, only time tells what is new to it.
			// What is found later is new, whatever the clock of whoever did it says.
			if wants[name].Wants(ref) && !(queue.fresh && ref.When.Before(queue.Since)) {
				queue.Waiting = append(queue.Waiting, ref)
			}
		}
		queue.fresh = false
	}
}

// Due returns what a recipient is to be told next: false if that is nothing, or not yet. With
// force, a pause after a failure is passed over.
func (q *Queue) Due(now time.Time, force bool) (Ref, bool) {
	if len(q.Waiting) == 0 || !force && q.Next != nil && now.Before(*q.Next) {
		return Ref{}, false
	}
	return q.Waiting[0], true
}

// Sent notes that a recipient took the first notice of its queue.
func (r *Record) Sent(name string, now time.Time, took time.Duration) {
	queue := r.Queues[name]
	r.done(name, now, took, "")
	r.Counts[name]++
	queue.forget()
}

// Failed notes that the first notice of a queue was not taken, and why. It is tried again after a
// pause that grows, for three days; one that is refused for good is given up at once.
func (r *Record) Failed(name string, now time.Time, took time.Duration, problem string, final bool) {
	queue := r.Queues[name]
	queue.Tries++
	if queue.First == nil {
		first := now.UTC().Truncate(time.Millisecond)
		queue.First = &first
	}
	if final || now.Sub(*queue.First) >= triedFor {
		r.done(name, now, took, problem)
		queue.forget()
		return
	}
	next := now.Add(pause(queue.Tries)).UTC().Truncate(time.Millisecond)
	queue.Next, queue.Problem = &next, problem
}

// The pauses are squares: short at first, since most troubles are short, and long enough after a few
// tries that a server which is down for a night is asked some ten times.

// pause is how long to wait after so many tries: a minute, four, nine, and at most six hours.
func pause(tries int) time.Duration {
	return min(time.Duration(tries*tries)*time.Minute, 6*time.Hour)
}

// done lists the first notice of a queue as done.
func (r *Record) done(name string, now time.Time, took time.Duration, problem string) {
	queue := r.Queues[name]
	r.Done = append(r.Done, Done{To: name, Ref: queue.Waiting[0], When: now.UTC().Truncate(time.Millisecond),
		Milliseconds: took.Milliseconds(), Tries: max(queue.Tries, 1), Problem: problem})
	if problem == "" {
		r.Done[len(r.Done)-1].Tries = queue.Tries + 1
	}
	if len(r.Done) > mostDone {
		r.Done = slices.Delete(r.Done, 0, len(r.Done)-mostDone)
	}
}

// forget takes the first notice away, with what was noted of it.
func (q *Queue) forget() {
	*q = Queue{Since: q.Since, Waiting: slices.Delete(q.Waiting, 0, 1)}
}

// tidy drops what was told of environments that have been gone for long.
func tidy(r *Record, now time.Time) {
	for name, when := range r.Gone {
		if now.Sub(when) > goneFor {
			delete(r.Gone, name)
			delete(r.Entries, name)
			delete(r.Frozen, name)
		}
	}
	for _, m := range []map[string]time.Time{r.Alarms, r.Waiting} {
		maps.DeleteFunc(m, func(_ string, when time.Time) bool { return now.Sub(when) > 30*24*time.Hour })
	}
}

// Last returns the newest of what was sent to a recipient, or given up; nil for none.
func (r *Record) Last(name string) *Done {
	for i := range slices.Backward(r.Done) {
		if r.Done[i].To == name {
			return &r.Done[i]
		}
	}
	return nil
}

// Left counts what is still to be sent.
func (r *Record) Left() (count int) {
	for _, queue := range r.Queues {
		count += len(queue.Waiting)
	}
	return count
}

// In an environment the journal's order counts, and not the clocks of those who wrote it: one that is
// behind would put a rollback before the deploy that it takes back. So what comes later in a journal
// counts as no earlier than what comes before it, and only journals are sorted into each other.

// inOrder sorts what was found, which comes in the order of each journal, by time.
func inOrder(found []Ref) []Ref {
	type timed struct {
		Ref
		at time.Time
	}
	list, latest := make([]timed, len(found)), map[string]time.Time{}
	for i, ref := range found {
		stream := ref.Environment
		if ref.IsOfBuild() {
			stream = "builds" // an environment has journals, and a build may be of several
		}
		at := ref.When
		if at.Before(latest[stream]) {
			at = latest[stream]
		}
		list[i], latest[stream] = timed{ref, at}, at
	}
	slices.SortStableFunc(list, func(a, b timed) int { return a.at.Compare(b.at) })
	sorted := make([]Ref, len(list))
	for i, one := range list {
		sorted[i] = one.Ref
	}
	return sorted
}
