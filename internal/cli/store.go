package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/upkeep"
	"orilla.example/orilla/internal/store/s3"
)

func (a *app) storeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "store", Short: "What the store holds and what you may do there; make, copy, verify and prune it", Args: cobra.NoArgs,
		Long: "Store shows where the store is, whether it answers, what you may do there, whether strangers can read it, and what it holds.\n" +
			"It writes a small record to try that and removes it; in a bucket it leaves one\n" +
			"small object, which the next prune removes.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.showStore(cmd.Context()) },
	}
	cmd.AddCommand(a.storeInitCommand(), a.storeCopyCommand(), a.storeVerifyCommand(), a.storePruneCommand(), a.storeRestoredCommand())
	return a.jsonFlag(cmd)
}

// working shows how far work on a store is.
func (a *app) working() (upkeep.Tell, func()) {
	progress := a.Busy("store", "")
	return func(what string, done, of int64) {
		text := fmt.Sprintf("%s: %s", what, console.Count(done, "", ""))
		if done == 1 {
			text = what + ": 1"
		}
		if of > 0 {
			text = fmt.Sprintf("%s: %d of %d", what, done, of)
		}
		progress.Text(text)
	}, progress.End
}

// storeReport is what store prints with --json.
type storeReport struct {
	Store     string          `json:"store"`
	Place     string          `json:"place"`
	Account   string          `json:"account,omitempty"`
	ID        string          `json:"id,omitempty"`
	Answers   int64           `json:"answers_in"` // milliseconds
	Rights    []upkeep.Right  `json:"rights"`
	Roles     []upkeep.Duty   `json:"roles,omitempty"`              // of a store that tells for each key who may write it
	Strangers *bool           `json:"strangers_can_read,omitempty"` // unset where that means nothing
	Advice    []string        `json:"advice,omitempty"`
	Holdings  upkeep.Holdings `json:"holdings"`
	Sites     []storeSite     `json:"sites"`
}

type storeSite struct {
	Site         string `json:"site"`
	Releases     int    `json:"releases"`
	Environments int    `json:"environments"`
	Damage       string `json:"damage,omitempty"`
}

func (a *app) showStore(ctx context.Context) error {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return err
	}
	started := time.Now()
	store, err := a.openStore(ctx, p, false)
	if err != nil {
		return err
	}
	report := storeReport{Store: store.Address(), Place: store.Address(), Answers: time.Since(started).Milliseconds(), Sites: []storeSite{}}
	if remote, ok := store.(storage.Remote); ok {
		report.Place, report.Account = remote.Place(), remote.Account()
	}
	tell, end := a.working()
	site := ""
	if p != nil {
		site = p.Site()
	}
	err = a.examine(ctx, store, site, &report, tell)
	end()
	if err != nil {
		return err
	}
	if a.JSON {
		err = a.Document(report)
	} else {
		a.printStore(report)
	}
	if err == nil && report.Strangers != nil && *report.Strangers {
		err = &exitError{int(fault.Findings)}
	}
	return err
}

// examine fills in what the store says of itself.
func (a *app) examine(ctx context.Context, store storage.Store, site string, report *storeReport, tell upkeep.Tell) (err error) {
	data, err := store.Get(ctx, storage.MarkKey)
	if err != nil {
		return err
	}
	report.ID, _ = storage.CheckMark(data)
	if report.Rights, err = upkeep.Rights(ctx, store); err != nil {
		return err
	}
	if bucket, ok := store.(*s3.Store); ok {
		readable, err := bucket.Stranger(ctx)
		if err != nil {
			return err
		}
		report.Strangers, report.Advice = &readable, bucket.Advise(ctx)
		if report.Roles, err = upkeep.Duties(ctx, store, site); err != nil {
			return err
		}
	}
	if report.Holdings, err = upkeep.Measure(ctx, store, tell); err != nil {
		return err
	}
	sites, err := upkeep.Sites(ctx, store)
	if errors.Is(err, storage.ErrDenied) && site != "" { // whoever deploys one site sees no other
		sites, err = []string{site}, nil
	}
	for _, site := range sites {
		row := storeSite{Site: site}
		for folder, count := range map[string]*int{storage.ReleasesKey(site): &row.Releases, storage.EnvironmentsKey(site): &row.Environments} {
			for _, err := range store.List(ctx, folder) {
				if err != nil {
					return err
				}
				*count++
			}
		}
		report.Sites = append(report.Sites, row)
	}
	return err
}

// printDuties says for which roles the rights are enough.
func (a *app) printDuties(duties []upkeep.Duty) {
	does := map[storage.Role]string{storage.Deployer: "deploy", storage.Edge: "serve", storage.Pruner: "prune"}
	var enough []string
	for _, duty := range duties {
		if duty.Can {
			enough = append(enough, does[duty.Role])
		}
	}
	if len(enough) > 0 {
		a.Row(a.Out, "enough to", console.Good(strings.Join(enough, ", ")))
	}
	for _, duty := range duties {
		if !duty.Can {
			a.Row(a.Out, "", console.Faint("not to "+does[duty.Role]+": lacks the right to "+strings.Join(duty.Lacks, ", ")))
		}
	}
}

func (a *app) printStore(report storeReport) {
	a.Row(a.Out, "store", console.Strong(report.Place))
	if report.Account != "" {
		a.Row(a.Out, "as", report.Account)
	}
	a.Row(a.Out, "answers", "in "+console.Took(time.Duration(report.Answers)*time.Millisecond))
	var has, lacks []string
	for _, right := range report.Rights {
		if right.Has {
			has = append(has, right.Name)
		} else {
			lacks = append(lacks, right.Name)
		}
	}
	a.Row(a.Out, "may", console.Good(strings.Join(has, ", ")))
	if len(lacks) > 0 {
		a.Row(a.Out, "may not", console.Warn(strings.Join(lacks, ", ")))
		for _, right := range report.Rights {
			if right.Why != "" {
				a.Row(a.Out, "", console.Faint(right.Name+": "+right.Why))
			}
		}
	}
	a.printDuties(report.Roles)
	if report.Strangers != nil {
		text := console.Good("strangers without credentials cannot read it")
		if *report.Strangers {
			text = console.Bad("anybody can read it without credentials, also what passwords should protect: take public access away")
		}
		a.Row(a.Out, "public", text)
	}
	for _, advice := range report.Advice {
		a.Row(a.Out, "look", console.Warn(advice))
	}
	a.Row(a.Out, "holds", console.Count(report.Holdings.Objects, "object", "objects")+", "+console.Size(report.Holdings.Bytes))
	for i, site := range report.Sites {
		a.Row(a.Out, []string{"sites", ""}[min(i, 1)], fmt.Sprintf("%s  %s in %s", console.Strong(site.Site),
			console.Count(int64(site.Releases), "release", "releases"), console.Count(int64(site.Environments), "environment", "environments")))
	}
	if len(report.Sites) == 0 {
		a.Row(a.Out, "sites", "none yet; orilla deploy makes the first")
	}
}
