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
	"io"
	"log"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/store/trial"
)

// app is what all commands share.
type app struct {
	*console.Console
	folder string // -C
	store  string // --store
	places site.Places
	opened string // the address of the store that was opened last

	quiet, plain bool             // -q, --no-color
	dry          bool             // --dry-run: what is written is forgotten
	atEnd        []func()         // what is cleared away when the command ends
	running      *cobra.Command   // whose options the commands that it prints carry
	courier      *courier.Courier // sends notices of what the command does; nil: nobody is told
	events       *slog.Logger     // what an edge node that has a log tells; nil: for people, or as JSON
}

// lasting is for what runs for hours: memory that nobody uses is not kept for speed.
func lasting() { debug.SetGCPercent(100) }

// Main runs the program and returns its exit status.
func Main(args []string) int {
	debug.SetGCPercent(400)   // commands are short: memory is cheaper than collecting it
	log.SetOutput(io.Discard) // what libraries say of what others send them is for nobody here
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
	a.Typed = func(text string) string { return typed(root, a.running, text) }
	root.SetArgs(args)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(ctx)
	for _, end := range a.atEnd {
		end()
	}
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
	err = a.message(err)
	// A mistake in the options comes before --json was read.
	a.JSON = a.JSON || slices.Contains(args, "--json")
	console.Failed(a.Console, err)
	a.Console.Problem(err)
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
		Long: "Orilla builds a static site from a commit, uploads what is new, and switches an " +
			"environment to the new release in one step. Going back takes milliseconds.\n\n" +
			"Start here: orilla init, orilla serve, orilla deploy; or orilla demo.",
		Version:       programVersion(),
		SilenceErrors: true, SilenceUsage: true, SuggestionsMinimumDistance: 2,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.begin(cmd) },
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}

	flags := root.PersistentFlags()
	flags.StringVarP(&a.folder, "directory", "C", ".", "run as if started in `FOLDER`")
	flags.StringVar(&a.store, "store", "",
		"use this `STORE`: a folder, sftp://USER@HOST/FOLDER or s3://BUCKET/PREFIX "+
			"(default: as in orilla.yaml)")
	flags.BoolVarP(&a.quiet, "quiet", "q", false, "print only results and errors")
	flags.BoolVar(&a.plain, "no-color", false, "print without colors")
	flags.SortFlags = false
	root.Flags().Bool("version", false, "print the version")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		problem := fault.New(fault.Usage, "usage", "%s", err).At("%s", cmd.CommandPath())
		if nearest := nearestFlag(cmd, err); nearest != "" {
			problem = problem.Then("did you mean %s?", nearest)
		}
		return problem.Then("%s --help", cmd.CommandPath())
	})

	groups := a.groups()
	var all []*cobra.Command
	for _, group := range groups {
		all = append(all, group.commands...)
	}
	inOrder(root, all...)
	root.SetHelpCommand(newHelpCommand(a))
	root.SetVersionTemplate("orilla {{.Version}}\n")
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) { printHelp(cmd, groups) })
	root.CompletionOptions.HiddenDefaultCmd = true // it stands in the help as one of several
	wrapUsage(root)
	completeSites(a, root)
	return root
}

// groups returns all commands under their headings, in the order in which one
// comes to need them.
//
// A command stands where a newcomer would look for it, not where its code belongs:
// open, which only prints an address, is the end of publishing, and sites, which reads
// the store as status does, is for who operates it.
func (a *app) groups() []group {
	return []group{
		{"Build and publish", []*cobra.Command{newInitCommand(a), newServeCommand(a), newCheckCommand(a),
			newDeployCommand(a), newOpenCommand(a), newBuildCommand(a), newFilesCommand(a),
			newExplainCommand(a), newRulesCommand(a)}},
		{"See what is live, compare, go back", []*cobra.Command{newStatusCommand(a), newHistoryCommand(a),
			newDiffCommand(
				a,
			), newPicturesCommand(a), newBisectCommand(a), newCompareLiveCommand(a), newTrafficCommand(a),
			newReportCommand(a),
			newPromoteCommand(a), newRollbackCommand(a), newFreezeCommand(a), newThawCommand(a),
			newNoticesCommand(a)}},
		{"Previews and access", []*cobra.Command{newPreviewCommand(a), newPasswordCommand(a)}},
		{"Automatic builds", []*cobra.Command{newFollowCommand(a), newHookCommand(a), newBuildsCommand(a),
			newLogCommand(a), newCancelCommand(a), newUsageCommand(a)}},
		{"Operate", []*cobra.Command{newEdgeCommand(a), newDoctorCommand(a), newStoreCommand(a),
			newSitesCommand(a), newDomainsCommand(a), newRemoveSiteCommand(a)}},
		{"Learn", []*cobra.Command{newDemoCommand(a), newStandInCommand(a), newManCommand(a),
			newVersionCommand(a)}},
	}
}

// begin prepares what every command needs, once its options are known. It runs before
// the command itself, and before anything is printed, so that a command that was asked
// to be quiet, or plain, is so from its first line.
func (a *app) begin(cmd *cobra.Command) (err error) {
	if a.plain {
		console.Plain(a.Console)
	}
	if a.quiet {
		console.Quiet(a.Console)
	}
	a.running = cmd
	a.places, err = site.FindPlaces()
	return err
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
				return wrongArguments(cmd, args)
			}
			return nil
		}
	}
}

// nearestFlag returns the option that was probably meant; "" if none is near.
func nearestFlag(cmd *cobra.Command, err error) string {
	unknown, ok := errors.AsType[*pflag.NotExistError](err)
	if !ok {
		return ""
	}
	var names []string
	cmd.Flags().VisitAll(func(flag *pflag.Flag) {
		if !flag.Hidden {
			names = append(names, "--"+flag.Name)
		}
	})
	return spelling.Nearest("--"+unknown.GetSpecifiedName(), names)
}

// wrongArguments says what is missing or too much, with an example that works. The
// library counts arguments and says so; people want to know which one.
func wrongArguments(cmd *cobra.Command, args []string) error {
	_, takes, _ := strings.Cut(cmd.Use, " ")
	problem := fault.New(fault.Usage, "usage", "%s is missing an argument: %s", cmd.CommandPath(), takes)
	if len(args) > 0 && (takes == "" || cmd.Args(cmd, args[:len(args)-1]) == nil) {
		problem = fault.New(fault.Usage, "usage", "%s has an argument too many: %s", cmd.CommandPath(),
			args[len(args)-1])
	}
	example, _, _ := strings.Cut(cmd.Example, "\n")
	example, _, _ = strings.Cut(example, "    ")
	return problem.Then("for example: %s", example).Then("%s --help", cmd.CommandPath())
}

// unknownCommand refuses an argument where a command was
// expected, and proposes the nearest.
func unknownCommand(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	problem := fault.New(fault.Usage, "unknown-command", "unknown command %q",
		strings.TrimSpace(strings.TrimPrefix(cmd.CommandPath(), "orilla")+" "+args[0]))

	for _, suggestion := range cmd.SuggestionsFor(args[0]) {
		problem = problem.Then("did you mean: %s %s", cmd.CommandPath(), suggestion)
	}
	return problem.Then("%s --help", cmd.CommandPath())
}

// jsonFlag adds --json to a command that reports.
func (a *app) jsonFlag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.JSON, "json", false, "print the result, and errors, as JSON")
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
	opened, err := store.Open(ctx, address, root, a.places.Data, mayMake && !a.dry)
	if errors.Is(err, storage.ErrNone) && a.dry && mayMake {
		// A folder would be created; a server would first have to show that it can hold a
		// store.
		if place, _ := store.Folder(address, root, a.places.Data); place != "" {
			return trial.Nothing(place), nil
		}
	}
	if err != nil {
		return nil, err
	}
	a.opened = opened.Address()
	if a.dry {
		return trial.Over(opened), nil
	}
	return opened, nil
}

// openAlone opens the store for a command that needs no project: with --store, one
// that is missing or cannot be read does not matter.
func openAlone(ctx context.Context, a *app) (storage.Store, error) {
	p, err := a.load(ctx)
	if err != nil && a.store == "" {
		return nil, err
	}
	return a.openStore(ctx, p, false)
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
	waker   *edge.Waker // calls edge nodes; made when it is needed, or by whoever writes
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
			Next: "until that is fixed, the last readable version on the production branch counts"})
	}
	if name == "" {
		name = project.Site()
	}
	if last, ok := lastTarget(a, project.Root); ok && name == "" {
		name = last.Site
		a.Note("%s", console.Faint("site "+name+", which was published from this folder last"))
	}

	if name == "" {
		return nil, fault.New(fault.Usage, "no-site",
			"no orilla.yaml here: which site?").At("%s", project.Root).
			Then("add --site NAME; to list sites: orilla sites").
			Then("or run it in the project's folder, or with -C FOLDER")
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
			Then("orilla deploy").Then("orilla sites")
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
