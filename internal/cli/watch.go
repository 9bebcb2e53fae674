package cli

import (
	"context"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/devserver"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/view"
)

// watch publishes the working tree now, and again at each
// save, until the context ends. A build that fails is
// told, and what is live stays until the next save.
func (a *deployCmd) watch(ctx context.Context, p *site.Project, o *deployOptions) error {
	if !o.WorkingTree || o.To == "" || o.dryRun {
		return fault.New(fault.Usage, "usage",
			"--watch needs --working-tree and --to ENVIRONMENT").
			Then("orilla deploy --working-tree --watch --to preview/NAME")
	}

	lasting()
	address, root := a.storeAddress(p)
	own, err := store.Folder(address, root, a.places.Data)
	if err != nil {
		return err
	}

	// Watching begins before the first deploy: what is saved during it is
	// published next.
	saves := devserver.Saves(ctx, p, own)
	if err := a.deployOnce(ctx, p, o); err != nil && fault.KindOf(err) != fault.BuildFailed &&
		fault.KindOf(err) != fault.Findings {
		return err
	} else if err != nil {
		a.Problem(err)
	}

	a.Note("%s", console.Faint("publishing each save; press Ctrl-C to stop"))
	var live release.ID
	for {
		select {
		case <-ctx.Done():
			return nil
		case paths, ok := <-saves:
			if !ok {
				return nil
			}
			name := paths[0]
			if relative, err := filepath.Rel(p.Root, name); err == nil {
				name = filepath.ToSlash(relative)
			}
			// A save that does not build is told, and the next one is waited
			// for.
			now, err := a.republish(ctx, o, name, live)
			if err != nil && ctx.Err() == nil {
				a.Problem(err)
			}
			live = now
		}
	}
}

// republish publishes the working tree once more, and says so in one line. It
// returns the release that is live then.
func (a *deployCmd) republish(ctx context.Context, o *deployOptions, saved string, live release.ID,
) (release.ID, error) {
	began := time.Now()
	p, err := a.load(ctx)
	if err != nil {
		return live, err
	}

	if err := a.learnSecret(ctx, p, o); err != nil {
		return live, err
	}
	plan, err := site.MakePlan(ctx, p, o.Order)
	if err != nil {
		return live, err
	}

	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return live, err
	}
	expires, err := o.expireAfter(plan)
	if err != nil {
		return live, err
	}

	prepared, err := deploy.Prepare(ctx, deploy.Job{
		Plan: plan, Store: store, Report: quietReporter{a.app, o.To}, Now: time.Now, Cause: "watch",
		Automatic: true, Parallel: o.parallel,
		ExpireAfter: expires, NoIndex: o.noIndex,
	})
	if err != nil {
		return live, err
	}
	defer prepared.Close(ctx)
	made, err := prepared.Build(ctx)
	if err != nil {
		return live, err
	}
	defer made.Close(ctx)

	if made.ID == live || made.Before() != nil && made.Before().Release == made.ID {
		a.Note("%s  %s  %s", console.Faint(time.Now().Format("15:04:05")), saved,
			console.Faint("no published file changed"))
		return made.ID, nil
	}

	activation, err := made.Activate(ctx)
	if err != nil {
		return live, err
	}
	a.Print("%s  %s  %s  %s  %s", console.Faint(time.Now().Format("15:04:05")),
		console.Good(activation.Entry.Label()), saved, view.Changed(made.Changes),
		console.Faint(console.Took(time.Since(began))))
	return made.ID, nil
}
