package cli

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/view"
)

// passwordOptions are the flags of password.
type passwordOptions struct {
	site, user, why                      string
	generate, remove, stdin, dryRun, yes bool
}

// passwordCmd sets who may look at an environment.
type passwordCmd struct{ *app }

func newPasswordCommand(a *app) *cobra.Command {
	c := &passwordCmd{app: a}
	var o passwordOptions
	cmd := &cobra.Command{
		Use: "password ENVIRONMENT", Short: "Protect an environment with a password",
		Args: cobra.ExactArgs(1), ValidArgsFunction: completion{a}.environments,
		Long: "Password protects an environment: visitors need it to see the pages. \"previews\" " +
			"stands for all previews, including future ones. The store keeps only a hash of it. " +
			"The addresses of releases that only protected environments have served ask for it " +
			"too. Over plain HTTP anyone on the way can read it: use TLS " +
			"(orilla help edge-nodes).",
		Example: "orilla password previews\n" +
			"orilla password staging --generate\n" +
			"orilla password staging --stdin < password.txt\norilla password staging --remove",
		RunE: func(cmd *cobra.Command, args []string) error { return c.password(cmd.Context(), o, args[0]) },
	}

	flags := cmd.Flags()
	flags.StringVar(&o.user, "user", "", "the user `NAME` (default: any)")
	flags.BoolVar(&o.generate, "generate", false, "generate one; it will not be shown again")
	flags.BoolVar(&o.stdin, "stdin", false, "read it from the first line of standard input")
	flags.BoolVar(&o.remove, "remove", false, "make it public; asks first")
	flags.StringVarP(&o.why, "message", "m", "", "the `REASON`, kept in the history")
	siteFlag(flags, &o.site)
	flags.BoolVarP(&o.yes, "yes", "y", false, "assume yes to every prompt")
	flags.BoolVar(&o.dryRun, "dry-run", false, "show what would change, without doing it")
	return a.jsonFlag(cmd)
}

// password is orilla password: it sets or removes the password of an
// environment or of all previews. A password is never an argument, where any
// process of the machine could read it: it is asked for, generated, or read
// from standard input.
func (a *passwordCmd) password(ctx context.Context, o passwordOptions, typed string) error {
	if o.generate && o.stdin || o.remove && (o.generate || o.stdin || o.user != "") {
		return fault.New(fault.Usage, "usage", "--generate, --stdin and --remove exclude each other")
	}
	if strings.ContainsAny(o.user, ":\r\n") {
		return fault.New(fault.Usage, "usage", "--user: a name has no colon (RFC 7617)")
	}

	s, err := a.session(ctx, o.site)
	if err != nil {
		return err
	}
	environment := journal.Previews

	if typed != journal.Previews {
		if environment, err = s.named(ctx, typed); err != nil {
			return err
		}
	}

	// Of previews, the password lies in a journal of its own, since it counts
	// for those to come too.
	name := journal.DisplayName(environment)
	if environment == journal.Previews {
		name = "all previews"
	}
	if o.remove {
		if err := a.confirmOpen(ctx, o, name); err != nil {
			return err
		}
	}

	// Asked for before anything is written, and checked while it is typed.
	password, err := a.newPassword(ctx, o, name)
	if err != nil {
		return err
	}
	if o.dryRun {
		change := "be protected by a password"
		if o.remove {
			change = "be public"
		}
		a.Note("%s would %s; --dry-run changed nothing", name, change)
		return nil
	}

	return a.setPassword(ctx, s, o, environment, name, password)
}

// setPassword writes the entry. The hash is made once, here; an edge node
// learns nothing else.
func (a *passwordCmd) setPassword(ctx context.Context, s *session, o passwordOptions, environment, name,
	password string,
) error {
	hash := ""
	if !o.remove {
		var err error
		if hash, err = access.Hash(password); err != nil {
			return fault.New(fault.Usage, "bad-password", "the password %s", err)
		}
	}

	operator, err := s.operator(ctx, "password")
	if err != nil {
		return err
	}
	defer operator.Close(ctx)

	change := func(looking journal.Looking) (*journal.Looking, error) {
		if o.remove {
			if looking.Password == "" {
				return nil, journal.ErrAlready
			}
			return nil, nil
		}
		// a new password takes back the links that went around the old one
		return &journal.Looking{Password: hash, User: o.user}, nil
	}

	entry, err := operator.Append(ctx, environment, journal.SetAccess(change, "command", operator.Who, o.why))
	if errors.Is(err, journal.ErrAlready) {
		a.Note("%s has no password", name)
		return nil
	}
	if err != nil {
		return rollbackRefused(s, environment, err)
	}

	flip := view.Flip{Nodes: nodesOf(ctx, s)}
	if !entry.Release.IsZero() {
		flip = flipped(ctx, s, entry)
	}
	if a.JSON {
		report := view.PasswordReport{Environment: journal.DisplayName(environment), Entry: entry.Label(),
			Protected: !o.remove, User: o.user}
		if o.generate {
			report.Password = password
		}
		return a.Document(report)
	}

	switch {
	case o.remove:
		a.Print("%s: public again", name)
	case o.generate:
		a.Print("%s", password)
		a.Note("%s: protected from now on; the password will not be shown again", name)
	default:
		a.Print("%s: protected by the password from now on", name)
	}

	if len(flip.Nodes) > flip.Serving && !entry.Release.IsZero() {
		a.Note("%s", console.Warn("not at every edge node yet; see orilla status"))
	}
	if !o.remove {
		a.Hint("next:", "for a link that needs no password: orilla preview share NAME")
	}
	return nil
}

// confirmOpen asks before what was shown to some is shown to everybody.
func (a *passwordCmd) confirmOpen(ctx context.Context, o passwordOptions, name string) error {
	if o.yes || o.dryRun {
		return nil
	}
	sure, err := a.Confirm(ctx, "Show "+name+" public?",
		"Search engines are still told to list only production.", false)
	if errors.Is(err, console.ErrNobody) || err == nil && !sure {
		return fault.New(fault.Refused, "not-confirmed", "%s stays protected", name).
			Then("add --yes")
	}
	return err
}

// newPassword asks for a password, reads it, or makes one.
func (a *passwordCmd) newPassword(ctx context.Context, o passwordOptions, name string) (string, error) {
	switch {
	case o.remove:
		return "", nil
	case o.generate:
		return access.Secret()[:20], nil
	case o.stdin:
		// The first line, so that an editor's final line end is no part of it.
		line, err := bufio.NewReader(io.LimitReader(os.Stdin, 1<<10)).ReadString('\n')
		if line = strings.TrimRight(line, "\r\n"); line == "" {
			return "", fault.New(fault.Usage, "no-password", "no password on standard input").Because(err)
		}
		return line, nil
	}

	password, err := console.Secret(ctx, a.Console, "A password for "+name,
		"8 characters or more; visitors will be asked for it", func(text string) error {
			_, err := access.Hash(text)
			return err
		})
	if errors.Is(err, console.ErrNobody) {
		return "", fault.New(fault.Usage, "no-password", "no terminal to prompt for a password").
			Then("use --stdin or --generate")
	}
	if err != nil {
		return "", err
	}

	// Nobody sees what they type, and a mistyped password would lock everybody
	// out.
	again, err := console.Secret(ctx, a.Console, "Once more", "", nil)
	if err == nil && again != password {
		err = fault.New(fault.Usage, "no-password", "the two passwords differ; nothing changed")
	}
	return password, err
}
