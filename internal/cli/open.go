package cli

import (
	"context"
	"errors"
	"os/exec"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/view"
)

// openCmd opens what is live in a browser.
type openCmd struct{ *app }

func newOpenCommand(a *app) *cobra.Command {
	c := &openCmd{app: a}
	var site string
	var show bool
	cmd := &cobra.Command{
		Example: "orilla open\norilla open preview/winter-times",
		Use:     "open [ENVIRONMENT|RELEASE]", Short: "Open the live site in the browser",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.releases,
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.open(cmd.Context(), site, argument(args, 0), show)
		},
	}

	siteFlag(cmd.Flags(), &site)
	cmd.Flags().BoolVar(&show, "show", false, "print the URL and open no browser")
	return a.jsonFlag(cmd)
}

// open is orilla open: it opens what is live in a browser, or shows its
// address.
func (a *openCmd) open(ctx context.Context, site, what string, show bool) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	nodes := nodesOf(ctx, s)
	var address string

	if strings.HasPrefix(what, "r-") {
		id, err := s.findRelease(ctx, what)
		if err != nil {
			return err
		}
		address = view.ReleaseAddress(s.site, id.String(), view.NearbyPort(nodes))
	} else {
		environment, err := s.named(ctx, what)
		if err != nil {
			return err
		}
		head, err := s.head(ctx, environment)
		if err != nil && !errors.Is(err, journal.ErrEmpty) {
			return err
		}
		all := s.addresses(ctx, environment, head.Document, nodes)
		address = all[0]
		if len(nodes) > 0 {
			address = all[len(all)-1]
		}
	}

	if a.JSON {
		return a.Document(view.OpenReport{Address: address, EdgeNodes: len(nodes)})
	}
	a.Print("%s", console.Accent(address))
	view.HintEdge(a.Console, nodes)
	if show || len(nodes) == 0 && strings.Contains(address, ".localhost:") {
		return nil
	}

	return openBrowser(ctx, address)
}

// openBrowser hands an address to the system.
func openBrowser(ctx context.Context, address string) error {
	name, args := "xdg-open", []string{address}
	switch runtime.GOOS {
	case "darwin":
		name = "open"
	case "windows":
		name, args = "rundll32", []string{"url.dll,FileProtocolHandler", address}
	}

	if _, err := exec.LookPath(name); err != nil {
		return fault.New(fault.Failed, "no-browser", "cannot open a browser: %s is not installed", name).
			Then("open %s yourself", address)
	}
	browser := exec.CommandContext(ctx, name, args...)
	browser.Env = process.Environment("DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "DBUS_SESSION_BUS_ADDRESS",
		"XDG_*", "DESKTOP_SESSION", "BROWSER", "WSL*")

	if err := process.Run(browser); err != nil {
		return fault.New(fault.Failed, "no-browser", "cannot open a browser").Because(err).
			Then("open %s yourself", address)
	}
	return nil
}
