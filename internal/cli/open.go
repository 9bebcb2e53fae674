package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/gallery"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/view"
)

// openCmd opens what is live in a browser.
type openCmd struct{ *app }

func newOpenCommand(a *app) *cobra.Command {
	c := &openCmd{app: a}
	var site string
	var show, picture bool
	cmd := &cobra.Command{
		Example: "orilla open\norilla open preview/winter-times\norilla open --picture production:11",
		Use:     "open [ENVIRONMENT|RELEASE]", Short: "Open the live site in the browser",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: completion{a}.releases,
		RunE: func(cmd *cobra.Command, args []string) error {
			if picture {
				return c.picture(cmd.Context(), site, argument(args, 0), show)
			}
			return c.open(cmd.Context(), site, argument(args, 0), show)
		},
	}

	siteFlag(cmd.Flags(), &site)
	cmd.Flags().BoolVar(&show, "show", false, "print the URL and open no browser")
	cmd.Flags().BoolVar(&picture, "picture", false, "open the last picture of the home page instead")
	return a.jsonFlag(cmd)
}

// The file is named by its release, and lies where work in progress does: it is opened by another
// program, which may read it later, and is written anew each time.

// picture opens the picture of the home page that was taken last of a release, the widest.
func (a *openCmd) picture(ctx context.Context, site, typed string, show bool) error {
	s, err := a.session(ctx, site)
	if err != nil {
		return err
	}
	entry, err := findOrigin(ctx, s, cmp.Or(typed, project.Production))
	if err != nil {
		return err
	}
	data, err := homePicture(ctx, s, entry.Release)
	if err != nil {
		return err
	}
	name := entry.Release.Short()
	if entry.Number > 0 {
		name = entry.Label()
	}
	if data == nil {
		return fault.New(fault.Failed, "no-pictures", "no pictures were taken of %s yet", name).
			Then("orilla pictures %s", name)
	}
	// A picture is opened by a program that goes on after this one.
	file := filepath.Join(a.places.Cache, "pictures", entry.Release.Short()+".png")
	if err = os.MkdirAll(filepath.Dir(file), 0o700); err == nil {
		err = writeWhole(file, data)
	}
	if err != nil {
		return fault.New(fault.Failed, "unwritable", "cannot write the picture").At("%s", file).Because(err)
	}
	address := "file://" + filepath.ToSlash(file)
	if a.JSON {
		return a.Document(view.OpenReport{Address: address})
	}
	a.Print("%s", console.Accent(file))
	if show {
		return nil
	}
	return openBrowser(ctx, address)
}

// homePicture returns the picture of the home page that was taken last of a release, the widest; nil if
// there is none.
func homePicture(ctx context.Context, s *session, id release.ID) ([]byte, error) {
	return gallery.Home(ctx, s.store, s.site, id)
}

// The address that is opened is one that somebody answers at: the canonical one where a node elsewhere
// may, the local one where a node of this machine does.

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
