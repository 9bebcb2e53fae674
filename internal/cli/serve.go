package cli

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/pipeline"
)

const defaultServe = "127.0.0.1:7430"

func (a *app) serveCommand() *cobra.Command {
	var listen string
	var noReload, open bool
	cmd := &cobra.Command{
		Use: "serve [FOLDER]", Short: "Look at the output here, answered as the edge would, reloaded on change", Args: cobra.MaximumNArgs(1),
		Long: "Serve answers from the output folder (or FOLDER) by the same rules as an edge node: the same addresses, redirects, headers\n" +
			"and errors. Open pages reload when the folder changes; --no-reload gives exactly the bytes of the edge.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.serve(cmd.Context(), argument(args, 0), listen, !noReload, open)
		},
	}
	cmd.Flags().StringVar(&listen, "listen", defaultServe, "the `ADDRESS` to answer on")
	cmd.Flags().BoolVar(&noReload, "no-reload", false, "leave pages as they are")
	cmd.Flags().BoolVar(&open, "open", false, "open the address in the browser")
	return a.jsonFlag(cmd)
}

func (a *app) serve(ctx context.Context, folder, listen string, reload, open bool) error {
	p, err := a.load(ctx)
	if err != nil {
		return err
	}
	if folder == "" {
		folder = outputFolder(p)
	} else {
		folder = a.path(folder)
	}
	folder, err = filepath.Abs(folder)
	if err != nil {
		return err
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return noServe(p, folder)
	}
	local := a.local(p, folder, reload)
	n, _, err := local.Refresh(ctx)
	if err != nil {
		return err
	}
	listener, err := a.listen(listen)
	if err != nil {
		return err
	}
	address := "http://" + strings.Replace(edge.Reachable(listener.Addr()), "127.0.0.1:", "localhost:", 1) + local.Base + "/"
	if a.JSON {
		if err := a.Line(map[string]any{"kind": "serving", "address": address, "folder": folder, "files": n}); err != nil {
			return err
		}
	} else {
		a.Note("%s %s  %s", console.Strong("serving"), console.Accent(address), console.Faint(console.Count(int64(n), "file", "files")+" in "+folder+"; Ctrl-C ends it"))
	}
	if open {
		if err := openBrowser(ctx, address); err != nil {
			a.Problem(err)
		}
	}
	return a.runServe(ctx, local, listener)
}

func noServe(p *pipeline.Project, folder string) error {
	problem := fault.New(fault.Failed, "no-output", "the output folder is not there yet").At("%s", folder)
	for _, step := range p.Beside.Build.Run {
		problem = problem.Then("%s", step)
	}
	return problem.Then("or name a folder: orilla serve FOLDER")
}

func (a *app) local(p *pipeline.Project, folder string, reload bool) *edge.Local {
	base := ""
	if addresses := p.Beside.Environments[project.Production].Addresses; len(addresses) > 0 {
		base = strings.TrimSuffix(basePath(addresses[0]), "/")
	}
	return &edge.Local{
		Root: folder, Base: base, Reload: reload, Settings: p.Beside.Settings(), Tell: a.tell,
		Scan: func(ctx context.Context) ([]release.File, map[string]string, error) {
			_, scan, files, err := fingerprintFolder(ctx, p, folder, true)
			if err != nil {
				return nil, nil, err
			}
			sources := make(map[string]string, len(scan.Files))
			for _, found := range scan.Files {
				sources[found.Path] = found.Source
			}
			return files, sources, nil
		},
	}
}

// runServe answers and follows the folder until the context ends.
func (a *app) runServe(ctx context.Context, local *edge.Local, listener net.Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var owned sync.WaitGroup
	defer owned.Wait()
	owned.Go(func() {
		local.Watch(ctx, func() {
			_, changed, err := local.Refresh(ctx)
			switch {
			case ctx.Err() != nil:
			case err != nil:
				a.Problem(err)
				a.Note("%s", console.Warn("the last good state goes on being served"))
			case len(changed) == 1:
				a.Note("%s %s", console.Accent("changed"), changed[0])
			case len(changed) > 1:
				a.Note("%s %s and %d more", console.Accent("changed"), changed[0], len(changed)-1)
			}
		})
	})
	err := edge.Serve(ctx, listener, local)
	cancel()
	return err
}
