package build

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/site"
)

// Timing is how long one phase took.
type Timing struct {
	// "wait", "checkout", "unpack", "prepare", "step", "scan", "rules",
	// "upload", "check", "commit", "activate"
	Phase string
	What  string // the command of a step, the name of the output; "" where there is nothing to say
	Took  time.Duration
}

// Phases times what is done for one release, phase after
// phase, and tells of each as it begins. Phases do not
// overlap, so it is used by one goroutine at a time.
type Phases struct {
	report Reporter
	list   []Timing
	tell   func(what string) // is told what goes on now, while a build is announced; nil for nobody
}

// NewPhases returns what has timed nothing yet.
func NewPhases(report Reporter) *Phases { return &Phases{report: report} }

// Time does something as a phase: it is announced, told and timed, and its
// error handed on.
func (p *Phases) Time(phase, what string, do func() error) error {
	p.report.Begin(phase, what)
	p.now(phase)
	started := time.Now()
	err := do()
	p.Add(phase, what, time.Since(started))
	return err
}

// Add notes a phase that is over.
func (p *Phases) Add(phase, what string, took time.Duration) {
	p.list = append(p.list, Timing{phase, what, took})
}

// List returns the phases in the order in which they ended.
func (p *Phases) List() []Timing { return p.list }

// now tells what goes on, while anybody wants to know.
func (p *Phases) now(what string) {
	if p.tell != nil {
		p.tell(what)
	}
}

// record gives the phases the form in which they are kept.
// Of the steps their commands are kept, of other phases no
// names: they may be paths of this machine.
func (p *Phases) record() []builds.Phase {
	var list []builds.Phase
	for _, timing := range p.list {
		what := ""
		if timing.Phase == "step" || timing.Phase == "prepare" {
			what = timing.What
		}
		list = append(list, builds.Phase{Name: timing.Phase, What: what,
			Milliseconds: timing.Took.Milliseconds()})
	}
	return list
}

// phasesFile is where the phases of the last build of a plan's branch are
// remembered, to compare the next one with.
func phasesFile(plan *site.Plan) string {
	name := plan.Site + "-" + digest.Short(plan.Origin.Branch, plan.Inputs.Folder)
	return filepath.Join(plan.Project.Places.Cache, "phases", name)
}

// loadPhases returns the phases that were remembered; nil if there are none, or
// if they cannot be read.
func loadPhases(plan *site.Plan) (phases []builds.Phase) {
	data, err := os.ReadFile(phasesFile(plan))
	if err != nil || json.Unmarshal(data, &phases) != nil {
		return nil // then nothing is compared
	}
	return phases
}

// savePhases remembers phases for the next build of the branch. They are worth
// nothing but a comparison, so failing is no error.
func savePhases(plan *site.Plan, phases []builds.Phase) {
	data, err := json.Marshal(phases)
	if err != nil || os.MkdirAll(filepath.Dir(phasesFile(plan)), 0o700) != nil {
		return
	}
	//nolint:errcheck // then the next build is compared with an older one
	os.WriteFile(phasesFile(plan), data, 0o600)
}
