// Package cli is the command line. Each command is one type in one file, which
// reads its flags, makes one call, and hands the result to a view:
//
//	type historyCmd struct{ *app }
//
//	func newHistoryCmd(a *app) *cobra.Command   // the flags
//	func (a *historyCmd) history(ctx, o) error  // the call
//	view.History(a.Console, rows)               // the text, or JSON
//
// What a command needs from its surroundings is in app: the console, the places on
// this machine, the clock. A session is a site in an opened store. Whatever two
// commands both do lives in neither of them, but below, where it can be tested
// without flags.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store"
)

// app is what all commands share.
type app struct {
	*console.Console
	folder string // -C
	store  string // --store
	places site.Places
	opened string // the address of the store that was opened last
}

// lasting is for what runs for hours: memory that nobody uses is not kept for speed.
func lasting() { debug.SetGCPercent(100) }

// Main runs the program and returns its exit status.
func Main(args []string) int {
	debug.SetGCPercent(400) // commands are short: memory is cheaper than collecting it
	// The first interrupt asks everything to end in order, the second ends the
	// program.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	go func() {
		<-ctx.Done()
		stop() // a second interrupt ends the program at once
	}()

	a := &app{Console: console.New()}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	// What changes something says in its own words what was interrupted.
	if errors.Is(err, context.Canceled) && fault.Code(err) != "interrupted" {
		err = fault.New(fault.Failed, "interrupted", "interrupted")
	}

	var silent *exitError
	if errors.As(err, &silent) {
		return silent.status
	}
	a.Problem(err)
	err = a.message(err)
	return int(fault.KindOf(err))
}

// Problem writes an error, in the words for people.
func (a *app) Problem(err error) { a.Console.Problem(a.message(err)) }

// message turns what stores said into messages for people, each for itself.
func (a *app) message(err error) error {
	var all []error
	// Of several errors each is explained by itself.
	for _, one := range fault.All(err) {
		all = append(all, store.Explain(one, a.opened))
	}
	if len(all) == 1 {
		return all[0]
	}
	return errors.Join(all...)
}

// exitError ends the program with a status when everything was said already.
type exitError struct{ status int }

// Error implements error; nobody prints it, since what went wrong was printed
// by then.
func (e *exitError) Error() string { return fmt.Sprintf("status %d", e.status) }

// root makes the command with all others below it, and the flags that every one
// of them has.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "orilla",
		Short: "Publish a static site from each commit, whole or not at all, and go back at once",
		Long: "Orilla builds a static site from a commit, uploads what is new, and points an " +
			"environment at it in one step.\n" +
			"Look at it locally (serve), put it up (deploy), see what is live (status), go back (rollback).",
		SilenceErrors: true, SilenceUsage: true, SuggestionsMinimumDistance: 2,
		PersistentPreRunE: func(*cobra.Command, []string) (err error) {
			a.places, err = site.FindPlaces()
			return err
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}

	root.PersistentFlags().StringVarP(&a.folder, "directory", "C", ".", "run as if started in `DIR`")
	root.PersistentFlags().StringVar(&a.store, "store", "",
		"the `STORE` to use: a folder, sftp://USER@HOST/FOLDER or s3://BUCKET/PREFIX "+
			"(default: as orilla.yaml says)")
	root.PersistentFlags().SortFlags = false
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return fault.New(fault.Usage, "usage", "%s", err).At("%s", cmd.CommandPath()).
			Then("%s --help lists the options", cmd.CommandPath())
	})

	// In the order in which one comes to need them.
	groups := []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Look, and put it up", []*cobra.Command{newInitCommand(a), newServeCommand(a), newCheckCommand(a),
			newExplainCommand(a), newRulesCommand(a), newFilesCommand(a), newBuildCommand(a),
			newDeployCommand(a), newOpenCommand(a)}},
		{"Every commit by itself", []*cobra.Command{newFollowCommand(a), newHookCommand(a),
			newBuildsCommand(a), newLogCommand(a), newCancelCommand(a), newUsageCommand(a)}},
		{"See what is live, and go back", []*cobra.Command{newStatusCommand(a), newSitesCommand(a),
			newHistoryCommand(a), newDiffCommand(a), newPromoteCommand(a), newRollbackCommand(a),
			newFreezeCommand(a), newThawCommand(a)}},
		{"Show it to some", []*cobra.Command{newPreviewCommand(a), newPasswordCommand(a)}},
		{"Run it", []*cobra.Command{newEdgeCommand(a), newDomainsCommand(a), newStoreCommand(a),
			newRemoveSiteCommand(a), newDoctorCommand(a), newDemoCommand(a), newVersionCommand(a)}},
	}

	for i, group := range groups {
		id := fmt.Sprint(i)
		root.AddGroup(&cobra.Group{ID: id, Title: group.title + ":"})
		for _, command := range group.commands {
			command.GroupID = id
			for _, one := range append(command.Commands(), command) {
				one.Flags().SortFlags = false
			}
			root.AddCommand(command)
		}
	}

	root.SetHelpCommandGroupID("4")
	root.SetCompletionCommandGroupID("4")
	wrapUsage(root)
	return root
}

// wrapUsage gives wrong arguments the same form as all other errors.
func wrapUsage(root *cobra.Command) {
	root.Args = unknownCommand
	commands := root.Commands()
	for _, command := range root.Commands() {
		commands = append(commands, command.Commands()...)
	}

	for _, command := range commands {
		check := command.Args
		if command.HasSubCommands() {
			command.SuggestionsMinimumDistance = root.SuggestionsMinimumDistance
			command.Args = unknownCommand
			continue
		}

		// The library's own words for wrong arguments lack what to do next.
		if check == nil {
			continue
		}
		command.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return fault.New(fault.Usage, "usage", "%s", err).Then("%s", cmd.UseLine()).
					Then("%s --help says more", cmd.CommandPath())
			}
			return nil
		}
	}
}

// unknownCommand refuses an argument where a command was
// expected, and proposes the nearest.
func unknownCommand(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	problem := fault.New(fault.Usage, "unknown-command", "there is no command %q",
		strings.TrimSpace(strings.TrimPrefix(cmd.CommandPath(), "orilla")+" "+args[0]))

	for _, suggestion := range cmd.SuggestionsFor(args[0]) {
		problem = problem.Then("did you mean: %s %s?", cmd.CommandPath(), suggestion)
	}
	return problem.Then("%s --help lists the commands", cmd.CommandPath())
}

// jsonFlag adds --json to a command that reports.
func (a *app) jsonFlag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.JSON, "json", false, "print the result as JSON")
	return cmd
}

// load finds the project that -C names, or the working folder's.
func (a *app) load(ctx context.Context) (*site.Project, error) {
	return site.Load(ctx, a.folder, a.places)
}

// openStore opens the store that --store names, or else
// the project's. project may be nil.
func (a *app) openStore(ctx context.Context, project *site.Project, mayMake bool) (storage.Store, error) {
	address, root := a.storeAddress(project)
	opened, err := store.Open(ctx, address, root, a.places.Data, mayMake)
	if err == nil {
		a.opened = opened.Address()
	}
	return opened, err
}

// storeAddress returns what names the store, and the
// folder that it is relative to.
func (a *app) storeAddress(project *site.Project) (address, root string) {
	switch {
	case a.store != "":
		return a.store, a.folder
	case project == nil:
		return "", "."
	}
	return project.ProductionConfig.Store, project.Root
}

// path returns a path that was typed: relative to -C.
func (a *app) path(typed string) string {
	if filepath.IsAbs(typed) {
		return typed
	}
	return filepath.Join(a.folder, typed)
}

// session is a project with its site and its store, for
// commands that look at what there is.
type session struct {
	project *site.Project
	store   storage.Store
	site    string
	hinted  journal.Hints
}

// hints returns what the last writer saw of the site's journals.
func (s *session) hints(ctx context.Context) journal.Hints {
	if s.hinted == nil {
		s.hinted = journal.ReadHints(ctx, s.store, s.site)
	}
	return s.hinted
}

// head returns the last entry of an environment, by its stored name.
func (s *session) head(ctx context.Context, environment string) (journal.Entry, error) {
	return s.journal(environment).Head(ctx, s.hints(ctx)[environment])
}

// session opens both. site overrides the project's name;
// without either it is an error that says so.
func (a *app) session(ctx context.Context, name string) (*session, error) {
	// Looking, and going back, must be possible just when something is wrong.
	project, mistakes, err := site.LoadAnyway(ctx, a.folder, a.places)
	if err != nil {
		return nil, err
	}
	for _, mistake := range mistakes {
		a.Notice(fault.Notice{Code: fault.Code(mistake), What: mistake.Error(),
			Next: "until that is corrected, the last one of the production branch that can be read counts"})
	}
	if name == "" {
		name = project.Site()
	}

	if name == "" {
		return nil, fault.New(fault.Usage, "no-site",
			"there is no orilla.yaml here, so it is not clear which site is meant").At("%s", project.Root).
			Then("name it: --site NAME (orilla sites lists them)").
			Then("or change to the project's folder, or use -C DIR")
	}

	store, err := a.openStore(ctx, project, false)
	if err != nil {
		return nil, err
	}
	// A name that is mistyped would otherwise look like a site where nothing
	// was ever done. Nearly every command needs the hints next, so they are asked for
	// at the same time.
	s := &session{project: project, store: store, site: name}
	var hints sync.WaitGroup
	hints.Go(func() { s.hints(ctx) })
	defer hints.Wait()
	if there, err := maintenance.HasSite(ctx, store, name); err == nil && !there {
		return nil, fault.New(fault.Failed, "unknown-site", "the store has no site %q", name).
			At("%s", store.Address()).
			Then("orilla deploy makes it").Then("orilla sites lists those that are there")
	} else if err != nil {
		return nil, err
	}

	return s, nil
}

// journal returns the journal of an environment, by its stored name.
func (s *session) journal(environment string) *journal.Journal {
	return &journal.Journal{Store: s.store, Site: s.site, Environment: environment, Attempt: attempt,
		Now: time.Now}
}
