package view

import (
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// ShowPlan says what goes where, before anything is done. later is to be called
// when it is: it says what took longer to find out.
func ShowPlan(c *console.Console, plan *site.Plan) (later func()) {
	target := "a release, not published"
	if plan.Environment != "" {
		target = journal.DisplayName(plan.Environment)
	}
	w := c.Err

	//nolint:errcheck // nobody to tell
	fmt.Fprintf(w, "%s %s %s\n", console.Strong(plan.Site), console.Faint("->"), console.Strong(target))
	c.Row(w, SourceLabel(plan), whatIsPublished(c, plan))
	counted := make(chan struct{})
	go func() {
		plan.Uncommitted()
		close(counted)
	}()

	// It belongs to the commit, so it is waited for; but not for longer than anybody
	// would notice on top of a build.
	select {
	case <-counted:
		leftBehind(c, plan)
	case <-time.After(promptly):
		later = func() { leftBehind(c, plan) }
	}

	if plan.ConfigNote != "" {
		c.Row(w, "", console.Warn(plan.ConfigNote))
	}
	return later
}

// leftBehind says that the working tree has changes that are not deployed.
func leftBehind(c *console.Console, plan *site.Plan) {
	if n := int64(plan.Uncommitted()); plan.Origin.Source == journal.FromCommit && n > 0 {
		c.Row(c.Err, "", console.Warn(console.Count(n, "uncommitted change is", "uncommitted changes are")+
			" not in this deploy"))
	}
}

// whatIsPublished is the second line of a plan: branch, age, author, subject.
func whatIsPublished(c *console.Console, plan *site.Plan) string {
	var about []string
	if plan.Origin.Branch != "" {
		about = append(about, plan.Origin.Branch)
	}
	if plan.Commit != nil {
		about = append(about, c.Age(plan.Commit.When))
	}

	parenthesis := ""
	if len(about) > 0 {
		parenthesis = "  " + console.Faint("("+strings.Join(about, ", ")+")")
	}
	switch {
	case plan.Origin.Source == journal.FromOutput:
		text := plan.From
		if plan.Origin.Commit != "" {
			text += "  from commit " + console.Accent(source.Short(plan.Origin.Commit)) + "  " +
				plan.Origin.Subject
		}
		return text + parenthesis
	case plan.Origin.Source == journal.FromWorkingTree && plan.Commit == nil:
		return "the folder as it is now"
	case plan.Origin.Source == journal.FromWorkingTree:
		return "the working tree as it is now: " + console.Accent(plan.Commit.Short()) + " and " +
			console.Count(int64(plan.Uncommitted()), "uncommitted change", "uncommitted changes") +
			parenthesis
	}

	return console.Accent(plan.Commit.Short()) + "  " + plan.Commit.Subject + parenthesis
}

// SourceLabel is what a plan publishes, in one word.
func SourceLabel(plan *site.Plan) string {
	switch plan.Origin.Source {
	case journal.FromOutput:
		return "output"
	case journal.FromWorkingTree:
		return "tree"
	}
	return "commit"
}

// promptly is how long it is waited for what should be
// said first, but is not worth a delay.
const promptly = 300 * time.Millisecond
