package pipeline

import (
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
)

// FrozenRefusal is the message for what a freeze refused.
func FrozenRefusal(head journal.Entry) error {
	name := journal.DisplayName(head.Environment)
	problem := fault.New(fault.Refused, "frozen", "%s is frozen", name).At("%s", head.Label()).
		With("by " + head.Frozen.Who + " on " + head.Frozen.When.Format("2006-01-02 15:04 MST"))
	if head.Frozen.Why != "" {
		problem = problem.With("because: " + head.Frozen.Why)
	}
	if head.Frozen.Until != nil {
		problem = problem.With("until " + head.Frozen.Until.Local().Format("2006-01-02 15:04 MST"))
	}
	return problem.Then("orilla thaw %s, then deploy again", name)
}
