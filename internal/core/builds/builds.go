// Package builds is how a release came to be: the key of what a build can see, and
// the record of one that ran.
//
//	Inputs   commit's tree, steps, variables, names of secrets, versions of tools
//	  | Key (SHA-256 of the canonical form)
//	  v
//	sites/corvane/builds/<key>/1    Record: outcome, release, phases, log
//	sites/corvane/builds/<key>/2    the same inputs, built again on request
//
// A build whose key has a successful record need not run: its release is put live
// as it is. That is only right if a build can see nothing beyond its Inputs, so
// everything that a build is given passes through them, and an isolated build can
// reach nothing else. What changes no output (rules, page settings, who asked, the
// time) is not part of a key: another rule does not cost another build.
package builds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// The versions of the layout of records and runs. What trusted
// builds made is written in the first, which says nothing of
// trust: earlier programs read it. The second says who made
// it, and earlier programs pass it over instead of reusing it.
const (
	Format          = 1
	FormatUntrusted = 2
)

// KeyFormat is the version of what a key is made of. Since
// 2 a build sees no more than its key names: no other
// folders of the repository, no history unless it is told.
const KeyFormat = 2

// Outcome says how a build ended.
type Outcome string

// The outcomes.
const (
	Succeeded   Outcome = "succeeded"
	Failed      Outcome = "failed"      // the commit is at fault: built again, it fails again
	Refused     Outcome = "refused"     // it did not begin: rules or orilla.yaml of the commit are wrong
	Errored     Outcome = "errored"     // it may succeed later, or on another machine
	Cancelled   Outcome = "cancelled"   // somebody ended it
	Interrupted Outcome = "interrupted" // its builder was told to end
	Superseded  Outcome = "superseded"  // a newer commit of its branch came
	Abandoned   Outcome = "abandoned"   // whoever ran it is gone
)

// Settled reports whether building the same again would be somebody's decision. In
// records of 0.1.0 Failed may also mean Errored, and Cancelled Interrupted.
func (o Outcome) Settled() bool { return o == Failed || o == Refused || o == Cancelled }

// Inputs is what a build can see. Its hash is the build key: what has a known
// key need not be built again. Rules and page settings are not part of it,
// since they change no output.
type Inputs struct {
	Format int            `json:"format"`
	Source journal.Source `json:"source"`
	// of the site's folder, but for rules files and the configuration
	Tree string `json:"tree,omitempty"`
	// what else of the repository is there, by path: Git's ids
	Also      map[string]string `json:"also,omitempty"`
	Folder    string            `json:"folder,omitempty"`  // where it lies
	Prepare   []string          `json:"prepare,omitempty"` // the steps
	Run       []string          `json:"run,omitempty"`
	Output    string            `json:"output,omitempty"`
	LeaveOut  []string          `json:"leave_out,omitempty"`
	Variables map[string]string `json:"variables,omitempty"`
	Secrets   []string          `json:"secrets,omitempty"` // their names, of those that the build is given
	// commit, branch, environment, address, history: if it asked for them
	Told    map[string]string `json:"told,omitempty"`
	Needs   map[string]string `json:"needs,omitempty"`  // versions of tools that it asked for
	Release release.ID        `json:"release,omitzero"` // for output that was ready: what it became
	// for output that was ready: where it was said to come from
	Commit string `json:"commit,omitempty"`
}

// Key returns the build key: 64 hexadecimal digits.
//
// Lists whose order means nothing are sorted first. Two checkouts with equal
// inputs have equal keys on every machine; that is what makes it right to put
// live what another one built.
func (i Inputs) Key() (string, error) {
	i.Format = KeyFormat
	i.LeaveOut, i.Secrets = slices.Sorted(slices.Values(i.LeaveOut)), slices.Sorted(slices.Values(i.Secrets))
	data, err := canon.Marshal(i)
	return digest.Of(data).String(), err
}

// Record says how one build went. It is written once, when the build has ended,
// and never changed.
type Record struct {
	Format  int            `json:"format"`
	Key     string         `json:"key"`
	Number  int            `json:"number"` // from 1, among the builds of one key
	Source  journal.Source `json:"source"`
	Commit  string         `json:"commit,omitempty"`
	Tree    string         `json:"tree,omitempty"`
	Branch  string         `json:"branch,omitempty"`
	Subject string         `json:"subject,omitempty"`
	Author  string         `json:"author,omitempty"`
	// for a working tree: how many files differ from the commit
	Changed  int       `json:"changed,omitempty"`
	Steps    []Step    `json:"steps,omitempty"`
	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished"`
	// of the objects that hold, in order, all that the steps printed
	Log     []digest.Digest `json:"log,omitempty"`
	Outcome Outcome         `json:"outcome"`
	// as they were written: positions, comments, expectations
	Rules []RulesFile `json:"rules,omitempty"`
	// the name of the build whose output this is, with
	// other rules or page settings
	Reuses  string     `json:"reuses,omitempty"`
	Release release.ID `json:"release,omitzero"`
	Who     string     `json:"who"`
	// Told is what the build was told of where it goes:
	// its release belongs there.
	Told map[string]string `json:"told,omitempty"`
	// Untrusted says how a build that is not trusted ran; nil for one that is.
	Untrusted *Untrusted `json:"untrusted,omitempty"`
}

// Untrusted is how an untrusted build ran.
type Untrusted struct {
	Isolation string `json:"isolation"`         // what held it: one of the values below
	Network   string `json:"network,omitempty"` // what an isolated one could reach: "none" or "outside"
}

// The values of Untrusted.Isolation.
const (
	IsolationNone       = "none"
	IsolationBubblewrap = "bubblewrap"
	IsolationNoSteps    = "no-steps" // there was nothing to hold: the files are published as they are
)

// Contained reports whether what a build made depends on
// nothing but what its key names: the build was trusted, or
// isolated. What is not contained belongs in previews only.
func (u *Untrusted) Contained() bool {
	return u == nil || u.Isolation == IsolationBubblewrap || u.Isolation == IsolationNoSteps
}

// formatOf returns the lowest version that can say it.
func formatOf(u *Untrusted) int {
	if u == nil {
		return Format
	}
	return FormatUntrusted
}

// Bound returns why a release that a build made cannot be live somewhere else
// than where it was told to go: the first of environment, branch and address
// that differs, with what the build was told; "" if nothing does.
//
// A build that was told its address has written it into its pages. Promoting
// those elsewhere would send visitors back.
func (r Record) Bound(environment, branch, address string) (what, told string) {
	for _, one := range [][2]string{{"environment", environment}, {"branch", branch}, {"address", address}} {
		if told, ok := r.Told[one[0]]; ok && told != one[1] {
			return one[0], told
		}
	}
	return "", ""
}

// RulesFile is a rules file as it was written.
type RulesFile struct {
	Path    string          `json:"path"`
	Objects []digest.Digest `json:"objects,omitempty"` // that hold, in order, its text
}

// Load returns the text.
func (f RulesFile) Load(ctx context.Context, load release.Load) ([]byte, error) {
	var text []byte
	for _, object := range f.Objects {
		data, err := load(ctx, object)
		if err != nil {
			return nil, err
		}
		text = append(text, data...)
	}
	return text, nil
}

// Step is one command of a build.
type Step struct {
	Command      string `json:"command"`
	Milliseconds int64  `json:"milliseconds"`
	Exit         int    `json:"exit"` // its status; -1 if it was ended
}

// Name is how entries refer to a build: <key>/<number>.
func (r Record) Name() string { return fmt.Sprintf("%s/%d", r.Key, r.Number) }

// Encode returns the record's bytes.
func (r Record) Encode() ([]byte, error) {
	r.Format = formatOf(r.Untrusted)
	r.Started, r.Finished = r.Started.UTC().Truncate(time.Millisecond), r.Finished.UTC().
		Truncate(time.Millisecond)
	return canon.Marshal(r)
}

// ErrUnreadable: a record is damaged or of another version.
var ErrUnreadable = errors.New("unreadable build record")

// Decode reads a record.
func Decode(data []byte) (Record, error) {
	var record Record
	if err := canon.Unmarshal(data, &record); err != nil || record.Format != formatOf(record.Untrusted) {
		return Record{}, fmt.Errorf("%w (format %d): %w", ErrUnreadable, record.Format, canon.Cause(err))
	}
	return record, nil
}

// Last returns the newest build of a key for which want reports true, and the
// number of the newest of all. found is false if there is none. Records that
// cannot be read are passed over.
func Last(ctx context.Context, store storage.Store, site, key string, want func(Record) bool,
) (record Record, newest int, found bool, err error) {
	for item, err := range store.List(ctx, storage.BuildsKey(site, key)) {
		if err != nil {
			return Record{}, 0, false, err
		}
		data, err := store.Get(ctx, item.Key)
		if err != nil {
			return Record{}, 0, false, err
		}

		one, err := Decode(data)
		var number int
		if _, scanErr := fmt.Sscan(item.Name(), &number); scanErr != nil {
			continue
		}

		newest = max(newest, number)
		if err == nil && one.Number == number && want(one) && (!found || one.Number > record.Number) {
			record, found = one, true
		}
	}
	return record, newest, found, nil
}
