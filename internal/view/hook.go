package view

import (
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/source"
)

// ReportHooks says what became of each Git hook.
func ReportHooks(c *console.Console, hooks []source.Hook) error {
	if c.JSON {
		return c.Document(hooks)
	}
	for _, hook := range hooks {
		text := map[string]string{source.HookMade: console.Good("made"),
			source.HookAdded:   console.Good("line added") + ", the rest unchanged",
			source.HookThere:   "already there",
			source.HookRemoved: console.Good("removed"), source.HookTakenOut: console.Good("line removed") +
				", the rest unchanged", source.HookAbsent: "has no such line",
			source.HookForeign: console.Warn("skipped") +
				": it is not a shell script; make it create the file orilla.wake in the " +
				"repository's .git folder"}[hook.State]
		c.Print("%-14s %s  %s", hook.Name, text, console.Faint(hook.Path))
	}

	return nil
}
