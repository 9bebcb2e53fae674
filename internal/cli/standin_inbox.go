package cli

import (
	"cmp"
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/standin/inbox"
)

// Notices go to services that one has no second one of: nobody wants a test in the mailbox of the
// whole crew. The stand-ins take what those would take, refuse what those would refuse, and show
// it. They keep the last few hundred, in memory.

// inboxOptions are what the stand-ins of those who are told take.
type inboxOptions struct {
	listen, page, slow, secret, user, chain string
	refuse, reject                          bool
}

// Where they listen, and show what they got.
const (
	usualMail     = "127.0.0.1:7455"
	usualMailPage = "127.0.0.1:7456"
	usualWebhook  = "127.0.0.1:7457"
)

// trouble adds the ways to misbehave.
func (o *inboxOptions) trouble(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&o.refuse, "refuse", false, "refuse everything for now: it will be sent again")
	cmd.Flags().BoolVar(&o.reject, "reject", false, "refuse everything for good")
	cmd.Flags().StringVar(&o.slow, "slow", "0s", "wait this `TIME` before each answer")
}

func newStandInMailCommand(c *standInCmd) *cobra.Command {
	var o inboxOptions
	cmd := &cobra.Command{
		Use: "mail", Short: "Run a mail server that shows what it gets", Args: cobra.NoArgs,
		Long: "The mail server takes mail for anybody, passes nothing on, and shows each mail here and on " +
			"a page. With --certificate it offers STARTTLS, and with --user it asks for a password.",
		Example: "orilla stand-in mail\norilla stand-in mail --refuse",
		RunE:    func(cmd *cobra.Command, _ []string) error { return c.mail(cmd.Context(), o) },
	}
	cmd.Flags().StringVar(&o.listen, "listen", usualMail, "the `ADDRESS` to take mail on")
	cmd.Flags().StringVar(&o.page, "page", usualMailPage, "the `ADDRESS` to show it on")
	cmd.Flags().StringVar(&o.chain, "certificate", "", "offer STARTTLS with these `FILES`: CHAIN,KEY")
	cmd.Flags().StringVar(&o.user, "user", "",
		"ask for this `NAME`, and for the password in "+project.MailPasswordVariable)
	o.trouble(cmd)
	return cmd
}

func newStandInWebhookCommand(c *standInCmd) *cobra.Command {
	var o inboxOptions
	cmd := &cobra.Command{
		Use: "webhook", Short: "Run a receiver of webhooks that shows what it gets", Args: cobra.NoArgs,
		Long: "The receiver takes any POST, checks the signature if --secret names a variable, and shows " +
			"each event here and on a page at the same address.",
		Example: "orilla stand-in webhook\norilla stand-in webhook --secret BOARD_SECRET --slow 5s",
		RunE:    func(cmd *cobra.Command, _ []string) error { return c.webhook(cmd.Context(), o) },
	}
	cmd.Flags().StringVar(&o.listen, "listen", usualWebhook, "the `ADDRESS` to listen on")
	cmd.Flags().StringVar(&o.secret, "secret", "",
		"check signatures with the secret in this environment `VARIABLE`")
	o.trouble(cmd)
	return cmd
}

// What strangers wrote goes through console.Safe before it is printed: a subject may hold what steers
// a terminal. Whether one came before with the same id is said, since that is the promise: at
// least once, and twice only under one id.

// box makes what keeps what comes in, and prints it.
func (a *standInCmd) box(o inboxOptions) (*inbox.Box, error) {
	slow, err := project.ParseDuration(o.slow)
	if err != nil {
		return nil, fault.New(fault.Usage, "usage", "--slow: %s", err)
	}
	return &inbox.Box{Trouble: inbox.Trouble{Refuse: o.refuse, Reject: o.reject, Slow: time.Duration(slow)},
		Tell: func(item inbox.Item) {
			note := console.Faint(item.Note)
			if item.Bad {
				note = console.Bad(item.Note)
			}
			if item.Again {
				note += console.Warn("  again, with the same id")
			}
			a.Print("%s  %s  %s  %s", console.Faint(item.When.Format(time.TimeOnly)), item.To,
				console.Strong(console.Safe(item.Title)), note)
		}}, nil
}

// Port 0 takes any that is free; which one it is stands in the first line that is printed.

// listening takes an address, or says that it is taken.
func (a *standInCmd) listening(ctx context.Context, option, address string) (net.Listener, error) {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil {
		return nil, fault.New(fault.Failed, "address-taken", "cannot listen there").At("%s", address).
			Because(err).Then("use a free port: %s 127.0.0.1:0", option)
	}
	return listener, nil
}

// The page is at a port of its own, since a browser and a mail program speak differently; for webhooks
// both are HTTP, and the page is where the events go.

// mail runs the mail server until it is interrupted.
func (a *standInCmd) mail(ctx context.Context, o inboxOptions) error {
	box, err := a.box(o)
	if err != nil {
		return err
	}
	server := inbox.Mail{User: o.user, Password: os.Getenv(project.MailPasswordVariable)}
	if o.user != "" && (o.chain == "" || server.Password == "") {
		return fault.New(fault.Usage, "usage", "--user needs --certificate, and a password in %s",
			project.MailPasswordVariable)
	}
	if o.chain != "" {
		chain, key, both := strings.Cut(o.chain, ",")
		if !both {
			return fault.New(fault.Usage, "usage", "--certificate takes two files: CHAIN,KEY")
		}
		pair, err := tls.LoadX509KeyPair(a.path(chain), a.path(key))
		if err != nil {
			return fault.New(fault.Usage, "certificate", "cannot read the certificate").At("%s", o.chain).
				Because(err)
		}
		server.Certificate = &pair
	}
	listener, err := a.listening(ctx, "--listen", o.listen)
	if err != nil {
		return err
	}
	page, err := a.listening(ctx, "--page", o.page)
	if err != nil {
		return err
	}
	shown := &http.Server{Handler: box.Page(), ReadHeaderTimeout: 10 * time.Second}
	go shown.Serve(page)                             //nolint:errcheck // ends when it is closed
	context.AfterFunc(ctx, func() { shown.Close() }) //nolint:errcheck // it ends
	at := "smtp://" + edge.Reachable(listener.Addr())
	a.Note("%s %s%s", console.Strong("stand-in mail server at"), console.Accent(at),
		console.Faint("  shown at http://"+edge.Reachable(page.Addr())+"/; nothing is passed on"))
	a.Hint("in orilla.yaml:", "mail: {server: "+at+", from: orilla@corvane.example}")
	return box.ServeMail(ctx, listener, server)
}

// webhook runs the receiver until it is interrupted.
func (a *standInCmd) webhook(ctx context.Context, o inboxOptions) error {
	box, err := a.box(o)
	if err != nil {
		return err
	}
	if o.secret != "" {
		if box.Secret = []byte(os.Getenv(o.secret)); len(box.Secret) == 0 {
			return fault.New(fault.Usage, "usage", "--secret: %s is not set here", o.secret).
				Then("%s=$(openssl rand -hex 32)", o.secret)
		}
	}
	listener, err := a.listening(ctx, "--listen", o.listen)
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.Handle("POST /", box.Webhook())
	mux.Handle("GET /", box.Page())
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute}
	context.AfterFunc(ctx, func() { server.Close() }) //nolint:errcheck // it ends
	at := "http://" + edge.Reachable(listener.Addr()) + "/"
	a.Note("%s %s%s", console.Strong("stand-in for webhooks at"), console.Accent(at),
		console.Faint("  open it in a browser to see what came"))
	a.Hint(
		"in orilla.yaml:",
		"notices: {board: {webhook: "+at+", secret: "+cmp.Or(o.secret, "BOARD_SECRET")+"}}",
	)
	if err := server.Serve(listener); ctx.Err() == nil {
		return err
	}
	return nil
}
