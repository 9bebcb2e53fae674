package cli

import (
	"context"
	"os"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
)

// activator puts releases live, for the commands that do: it asks what is to be
// asked, verifies, and tells what is live.
type activator struct{ *app }

// waitOptions are the flags for probes after an activation.
type waitOptions struct{ waitFor []string }

// flags adds --wait-for. It is a list of texts as they were typed; what each
// means is decided when all are there.
func (o *waitOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&o.waitFor, "wait-for", nil,
		"check an `ADDRESS` such as /fares/ at the edge afterwards, or all in @FILE, or run a "+
			"command, or watch what \"visitors\" get (visitors:5m); if one fails, roll back "+
			"(repeatable; default: wait_for in orilla.yaml; \""+project.Nothing+"\" for nothing)")
}

// list returns what is probed; nil if the configuration says.
func (o *waitOptions) list(a *app) ([]string, error) {
	// An empty list is "nothing", and nil is "as the configuration says".
	if len(o.waitFor) == 1 && o.waitFor[0] == project.Nothing {
		return []string{}, nil
	}
	return deploy.ReadProbes(o.waitFor,
		func(name string) ([]byte, error) { return os.ReadFile(a.path(name)) })
}

// probes returns what is probed after the activation of a plan.
func (a *activator) probes(plan *site.Plan, o waitOptions) ([]string, error) {
	list, err := o.list(a.app)
	if list == nil && err == nil {
		list = plan.Project.ProductionConfig.WaitFor(plan.Environment)
	}
	return list, err
}

// What can be checked is found out before anything moves: an environment that was thawed
// and then cannot be checked is live, and nobody knows how.

// checks prepares checks after an entry that another command writes, before it is
// written; nil if there is nothing to check. list says what, if the configuration
// counts too.
func (a *activator) checks(ctx context.Context, s *session, environment string, list []string,
) (*deployed, func(), error) {
	if len(list) == 0 {
		return nil, func() {}, nil
	}
	report := &reporter{app: a.app}
	job := deploy.Job{Plan: &site.Plan{Project: s.project, Site: s.site, Environment: environment,
		Config: s.project.LocalConfig}, Store: s.store, Report: report, Now: time.Now, Cause: "command",
		WaitFor: list}
	prepared, err := deploy.PrepareChecks(ctx, job)
	if err != nil {
		return nil, func() {}, err
	}
	return &deployed{job: job, report: report, prepared: prepared}, func() { prepared.Close(ctx) }, nil
}

// verify probes what is live, and shows each probe.
func (a *activator) verify(ctx context.Context, done deployed) (*deploy.Verification, error) {
	probes := done.job.WaitFor
	if len(probes) == 0 || done.live.Same {
		return nil, nil
	}
	// The job's own, to which the lines go that a command prints.
	report := done.report
	label := "wait for"
	report.Begin("wait for", probes[0])

	// Each is told when it has ended, since the next one may take minutes.
	verified, err := done.live.Verify(ctx, probes, func(probe environments.Probe) {
		report.end()
		text := console.Good("passed")
		switch {
		case probe.Unchecked:
			text = console.Warn("not checked")
		case !probe.Passed:
			text = console.Bad("failed")
		}

		took := console.Took(time.Duration(probe.Milliseconds) * time.Millisecond)
		a.Row(a.Err, label, text+"  "+probe.What+console.Faint("  "+probe.Text+", "+took))
		label = ""
		report.Begin("wait for", "")
	})
	report.end()
	return verified, err
}
