package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/file"
)

// measureEnvironments measures what looking at many environments costs, each with a
// journal of five entries, with an edge node that answers for all of them.
func measureEnvironments(b *bench) {
	each := map[string]map[int]float64{}
	for _, n := range []int{100, 1000} {
		home := b.previews(n)
		stop := b.node(home)
		for _, args := range [][]string{{"status"}, {"preview"}, {"preview", "list", "label-7*"},
			{"status", "--json"}, {"history", "--all"}} {
			what := fmt.Sprint(args)
			var over []float64
			for range b.pairs {
				nothing := b.orilla(home, "version")
				looked := b.orilla(home, append(args, "--site", "bench")...)
				over = append(over, (looked-nothing).Seconds()*1000/float64(n))
			}

			if each[what] == nil {
				each[what] = map[int]float64{}
			}
			each[what][n] = median(over)
			fmt.Printf("%-62s %5.2f ms an environment over orilla version (limit 2)\n",
				fmt.Sprintf("%s: orilla %v, %d environments", b.where, args, n), median(over))
		}
		stop()
	}

	for what, at := range each {
		fmt.Printf("%-62s %5.2f times as much each (1 is linear)\n",
			fmt.Sprintf("%s: orilla %v, 1,000 environments over 100", b.where, what), at[1000]/at[100])
	}
}

// previews makes a store with n previews, and returns the
// home folder that it is in.
func (b *bench) previews(n int) string {
	home, tree := b.unused(), b.tree(10, 10_000)
	b.deploy(home, tree)
	store, err := file.Open(filepath.Join(home, "store"))
	b.check(err)
	ctx := context.Background()
	of := func(environment string) *journal.Journal {
		return &journal.Journal{Store: store, Site: "bench", Environment: environment, Attempt: rand.Text,
			Now: time.Now}
	}

	live, err := of("production").Head(ctx, 0)
	b.check(err)
	var group errgroup.Group
	group.SetLimit(16)

	for i := range n - 1 {
		group.Go(func() error {
			j, last := of(fmt.Sprintf("preview.label-%d", i)), journal.Entry{}
			ends := time.Now().Add(24 * time.Hour)
			for range 5 {
				move := journal.Move{Release: live.Release, Origin: journal.Origin{Commit: "4be21c7",
					Branch: "label", Subject: "Winter sailings"}, Who: "Ines Marrow", Expires: &ends}
				if last, err = j.Append(ctx, last, journal.Activate(journal.Deploy, move,
					time.Now())); err != nil {
					return err
				}
			}
			return nil
		})
	}
	b.check(group.Wait())
	return home
}

// node starts an edge node on the store of a home folder,
// and returns what ends it.
func (b *bench) node(home string) (stop func()) {
	node := exec.Command(b.program, "edge", "--listen", "127.0.0.1:0", "--json")
	node.Dir, node.Env = b.folder, append(os.Environ(), "ORILLA_HOME="+home)
	b.check(node.Start())
	store, err := file.Open(filepath.Join(home, "store"))
	b.check(err)

	for {
		nodes, err := edge.Nodes(context.Background(), store, 0)
		b.check(err)
		if len(nodes) > 0 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}

	return func() {
		node.Process.Signal(os.Interrupt) //nolint:errcheck // it ends with this program
		node.Wait()                       //nolint:errcheck // see above
	}
}
