package cli

import (
	"context"
	"os"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/pipeline"
)

// waitOptions are the flags that say what is looked at after an activation.
type waitOptions struct{ waitFor []string }

func (o *waitOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&o.waitFor, "wait-for", nil, "afterwards request an `ADDRESS` such as /fares/ at the edge, all in @FILE, or run a command; if it fails, go back\n"+
		"(repeatable; default: wait_for in orilla.yaml; \""+project.Nothing+"\" for nothing)")
}

// list returns what is looked at; nil if the configuration says.
func (o *waitOptions) list(a *app) ([]string, error) {
	if len(o.waitFor) == 1 && o.waitFor[0] == project.Nothing {
		return []string{}, nil
	}
	return pipeline.WaitList(o.waitFor, func(name string) ([]byte, error) { return os.ReadFile(a.path(name)) })
}

// waitFor tells a run what to look at after its activation.
func (a *app) waitFor(run *pipeline.Run, o waitOptions) (err error) {
	if run.WaitFor, err = o.list(a); run.WaitFor == nil {
		run.WaitFor = run.Plan.Project.ProductionConfig.WaitFor(run.Plan.Environment)
	}
	return err
}

// wait looks at what an activation is waited for, and shows each look.
func (a *app) wait(ctx context.Context, run *pipeline.Run, report *reporter) error {
	if len(run.WaitFor) == 0 || run.Same() {
		return nil
	}
	label := "wait for"
	report.Begin("wait for", run.WaitFor[0])
	err := run.Wait(ctx, func(look pipeline.Look) {
		report.end()
		text := console.Good("passed")
		said := look.Text + ", "
		switch {
		case look.Unchecked:
			text = console.Warn("not checked")
		case !look.Passed:
			text = console.Bad("failed")
		}
		a.Row(a.Err, label, text+"  "+look.What+console.Faint("  "+said+console.Took(time.Duration(look.Milliseconds)*time.Millisecond)))
		label = ""
		report.Begin("wait for", "")
	})
	report.end()
	return err
}
