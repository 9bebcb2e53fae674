package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// initOptions are what orilla init takes; what is not given is guessed from the
// project's files, and asked.
type initOptions struct {
	routes       string
	routesPage   string // that answers them; "" for the index page
	site, output string
	run          []string
	yes, dryRun  bool
	ci           bool
	goesOn       bool // a deploy asked, and goes on by itself
}

// initCmd writes a configuration for a project that has none, and scripts for
// CI.
type initCmd struct{ *app }

func newInitCommand(a *app) *cobra.Command {
	c := &initCmd{a}
	var o initOptions
	cmd := &cobra.Command{
		Example: "orilla init\n" +
			"orilla init --yes\n" +
			"orilla init --output dist --run \"npm run build\"\norilla init --ci",
		Use:   "init",
		Short: "Detect the build setup and write orilla.yaml",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			if o.ci {
				return c.initCI(cmd.Context(), p, o)
			}
			return c.init(cmd.Context(), p, o)
		},
	}

	flags := cmd.Flags()
	flags.StringVar(&o.site, "site", "", "the site's `NAME` (default: made from the folder's)")
	flags.StringVar(&o.output, "output", "", "the `FOLDER` that the build writes")
	flags.StringArrayVar(&o.run, "run", nil, "a build `COMMAND` (repeatable)")
	flags.StringVar(&o.routes, "client-routes", "",
		"the `PATH` of client-side routes, such as / or /app/")

	flags.BoolVar(&o.ci, "ci", false,
		"write shell scripts that publish the site from any CI system")
	flags.BoolVarP(&o.yes, "yes", "y", false, "accept every proposal without asking")
	flags.BoolVar(&o.dryRun, "dry-run", false, "print the file instead of writing it")
	return a.jsonFlag(cmd)
}

// init writes the configuration of a project.
func (a *initCmd) init(ctx context.Context, p *site.Project, o initOptions) error {
	file := filepath.Join(p.Root, project.FileName)
	if p.Configured && !o.dryRun {
		return fault.New(fault.Refused, "configured", "this project already has an orilla.yaml").
			At("%s", file).Then("edit it; for every key: orilla help configuration")
	}

	// Detected first and asked afterwards, so that most questions are answered
	// by pressing Enter.
	guess := project.Detect(os.DirFS(p.Root))
	if guess.Folder != "" && (o.output != "" || len(o.run) > 0) {
		// What is given starts at the top, and so nothing of the project below fits.
		guess = project.Guess{Rules: guess.Rules}
	}
	if o.output != "" {
		guess.Output = o.output
	}
	if len(o.run) > 0 {
		guess.Run = o.run
	}
	guess.Store = a.storeFrom(p.Root)

	site := o.site
	if site == "" {
		site = project.Label(filepath.Base(p.Root))
	}
	if guess.What != "" {
		a.Note("%s %s %s", console.Strong("found"), guess.What, console.Faint("("+guess.Because+")"))
	}
	if o.routes == "" && len(guess.Rules) == 0 {
		o.routes, o.routesPage = guess.Routes.Path, guess.Routes.Page
	}

	for _, note := range guess.Notes {
		a.Note("%s %s", console.Warn("note:"), note)
	}
	site, guess, err := a.askInit(ctx, site, guess, &o)
	if err != nil {
		return err
	}

	rulesFile, rulesText := "", ""
	if o.routes != "" && len(guess.Rules) == 0 {
		if rulesText, err = clientRoutes(o.routes, o.routesPage); err != nil {
			return err
		}
		guess.Rules = []string{"site.rules"}
		rulesFile = filepath.Join(p.Root, filepath.FromSlash(guess.Folder), "site.rules")
	}

	// The draft is read by the same parser as everybody's file: what init
	// writes is never wrong.
	text := project.Draft(site, guess, p.Main)
	if _, err := project.Parse([]byte(text), project.FileName); err != nil {
		return err
	}
	if o.dryRun {
		a.Print("%s", strings.TrimSuffix(text, "\n"))
		return nil
	}

	if rulesFile != "" {
		if err := os.WriteFile(rulesFile, []byte(rulesText), 0o644); err != nil {
			return fault.New(fault.Failed, "unwritable", "cannot write the rules file").
				At("%s", rulesFile).Because(err)
		}
		a.Note("%s %s", console.Good("wrote"), rulesFile)
	}
	return a.writeConfig(file, site, guess, text, o.goesOn, p.Repository != nil)
}

// storeFrom returns the store that --store names, as a file in a folder writes it: a
// relative one is meant from where the command was typed.
func (a *initCmd) storeFrom(folder string) string {
	if a.store == "" || strings.Contains(a.store, "://") || filepath.IsAbs(a.store) {
		return a.store
	}
	store, err := filepath.Abs(a.path(a.store))
	if err != nil {
		return a.store
	}
	if within, err := filepath.Rel(folder, store); err == nil {
		return filepath.ToSlash(within)
	}
	return store
}

// clientRoutes writes the rule for client-side routes below a path. page answers them,
// "" for the index page there.
func clientRoutes(path, page string) (string, error) {
	path = "/" + strings.Trim(path, "/")
	below := strings.TrimSuffix(path, "/")
	text := "# Client-side routes: the application answers these addresses in the browser.\n" +
		"fallback  " + below + "/{rest:all}  -> " + cmp.Or(page, below+"/") + "\n"
	if _, found := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(text)}},
		rules.Options{}); len(found) > 0 {
		return "", fault.New(fault.Usage, "usage", "--client-routes %s: %s", path, found[0].What).
			Then("write / or /app/")
	}
	return text, nil
}

// writeConfig writes orilla.yaml where there is none: O_EXCL, so that a file
// that came meanwhile stays as it is.
func (a *initCmd) writeConfig(file, site string, guess project.Guess, text string, goesOn, committed bool,
) error {
	out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err == nil {
		_, err = out.WriteString(text)
		err = errors.Join(err, out.Close())
	}
	if err != nil {
		return fault.New(fault.Failed, "unwritable", "cannot write the configuration").At("%s", file).
			Because(err)
	}

	if goesOn {
		a.Note("%s %s", console.Good("wrote"), file)
		return nil
	}
	if a.JSON {
		return a.Document(view.InitReport{File: file, Site: site, Prepare: listed(guess.Prepare),
			Run: listed(guess.Run), Output: guess.Output, Notes: listed(guess.Notes)})
	}

	a.Note("%s %s", console.Good("wrote"), file)
	for line := range strings.Lines(text) {
		a.Print("  %s", strings.TrimSuffix(line, "\n"))
	}
	a.Hint("next:", "preview it here: orilla serve")
	if committed {
		a.Hint("next:", "commit it: git add "+project.FileName+" && git commit -m \"Publish with Orilla\"")
	}
	a.Hint("next:", "publish it: orilla deploy")
	return nil
}

// askInit asks for what the files do not say, and on a
// terminal lets the rest be changed.
func (a *initCmd) askInit(ctx context.Context, site string, guess project.Guess, o *initOptions,
) (string, project.Guess, error) {
	var err error
	// Asked in the order in which the answers depend on each other.
	if a.Asks && !o.yes {
		if site, err = a.askSite(ctx, site); err != nil {
			return "", guess, err
		}
		steps, err := a.Input(ctx, "Which command builds the site?",
			"Leave empty if there is nothing to build. Separate several with ;",
			strings.Join(guess.Run, "; "), nil)
		if err != nil {
			return "", guess, err
		}

		guess.Run = splitSteps(steps)
		guess.Output, err = a.Input(ctx, "Which folder holds the finished site?",
			"Relative to the project; . is the project itself.", guess.Output, func(text string) error {
				if text == "" {
					return errors.New("name a folder")
				}
				return nil
			})
		if err == nil && len(guess.Rules) == 0 {
			proposed := o.routes
			o.routes, err = a.Input(ctx, "Does the site have client-side routes?",
				"The path they start at, such as / or /planner/. Leave empty if every page "+
					"is a file.", proposed, nil)
			if o.routes != proposed {
				o.routesPage = ""
			}
		}
		return site, guess, err
	}

	if !project.IsLabel(site) {
		return "", guess, fault.New(fault.Usage, "bad-site",
			"%q is not a site's name: it becomes part of an address", site).
			Then("use --site %s", project.Label(site))
	}

	if guess.Output == "" {
		return "", guess, fault.New(fault.Usage, "not-recognised",
			"cannot tell which folder holds the finished site").
			Then("name the output folder: orilla init --output FOLDER")
	}
	return site, guess, nil
}

// askSite asks for a site's name, with preset filled in.
func (a *initCmd) askSite(ctx context.Context, preset string) (string, error) {
	answer, err := a.Input(ctx, "What is the site called?", "The name becomes part of its addresses.", preset,
		func(text string) error {
			if text == "" {
				return errors.New("enter a name")
			}
			return nil
		})
	if label := project.Label(answer); err == nil && label != answer {
		a.Note("%s in addresses, %q becomes %s", console.Faint("note:"), answer,
			console.Strong(label))
		return label, nil
	}
	return answer, err
}

// splitSteps takes apart what was typed as steps, divided by semicolons. Each
// is run in a shell of its own, so a cd in one does not reach the next.
func splitSteps(text string) []string {
	var steps []string
	for step := range strings.SplitSeq(text, ";") {
		if step = strings.TrimSpace(step); step != "" {
			steps = append(steps, step)
		}
	}
	return steps
}

// listed returns a list that is [] in JSON if it is empty, and not null.
func listed(list []string) []string { return append([]string{}, list...) }
