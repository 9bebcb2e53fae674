// Command bench compares the program with general-purpose tools that move the
// same bytes, in alternating pairs, and prints the median of the pairs' ratios.
// Run it from the repository: go run ./scripts/bench [-pairs 7] [-in FOLDER]
// [-only rules|stores|folder|builds|environments|reports|visits]
//
// It needs rsync and sha256sum. Each pair works in folders that were never used
// before; everything is removed at the end, since some file systems are slow to
// make files for a while after many were removed.
package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"flag"
	"fmt"
	"log"
	mathrand "math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/store/file"
)

func main() {
	log.SetFlags(0)
	pairs := flag.Int("pairs", 7, "how many pairs of each comparison")
	in := flag.String("in", "", "the folder to work in (default: the system's temporary one)")
	only := flag.String("only", "",
		"rules: only the matching of rules; stores: only uploads to servers; folder: only a store in a "+
			"folder; builds: only the build engine; environments: only what looking at many of them costs; "+
			"reports: only what a report of a large site costs; visits: what a browser gets, "+
			"beside nginx (only by name)")

	memory := flag.String("memory", "/dev/shm", "a folder in memory, if there is one")
	flag.Parse()

	// Git as it comes: what a machine's own settings add
	// to each of its calls is not measured.
	os.Setenv("GIT_CONFIG_NOSYSTEM", "1")      //nolint:errcheck // the names are good
	os.Setenv("GIT_CONFIG_GLOBAL", os.DevNull) //nolint:errcheck // the names are good
	b := &bench{pairs: *pairs}

	if *only == "rules" {
		measureMatching(b)
		measureCompiling(b)
		return
	}

	b.work(*in, "disk")
	defer b.clean()
	b.program = filepath.Join(b.folder, "orilla")
	b.must(exec.Command("go", "build", "-trimpath", "-o", b.program, "./cmd/orilla"))
	alone := map[string]func(*bench){"stores": measureStores, "builds": measureBuilds,
		"environments": measureEnvironments, "reports": measureReports, "visits": measureVisits}
	if measure := alone[*only]; measure != nil {
		measure(b)
		return
	}

	// measureDeploys compares deploys of a tree of which little or nothing has
	// changed.
	measureDeploys(b, 1.0)
	measureRollbacks(b)
	measureActivations(b)
	measureEnvironments(b)
	measureReports(b)

	if *only != "folder" {
		measureMatching(b)
		measureCompiling(b)
		measureBuilds(b)
		measureStores(b)
	}

	if info, err := os.Stat(*memory); err == nil && info.IsDir() {
		b.work(*memory, "memory")
		measureFresh(b, 0.6)
	}
}

// bench makes what is measured, and measures it.
type bench struct {
	pairs   int
	program string
	folder  string
	where   string
	made    []string
	count   int
}

// work begins to work in a new folder below in; where says in the output what
// kind of disk that is.
func (b *bench) work(in, where string) {
	folder, err := os.MkdirTemp(in, "orilla-bench-")
	if err != nil {
		log.Fatal(err)
	}
	b.folder, b.where, b.made = folder, where, append(b.made, folder)
}

// clean removes every folder that was worked in.
func (b *bench) clean() {
	for _, folder := range b.made {
		os.RemoveAll(folder) //nolint:errcheck // litter of the temporary folder
	}
}

// unused returns a path that nothing was ever at.
func (b *bench) unused() string {
	b.count++
	return filepath.Join(b.folder, fmt.Sprint("n", b.count))
}

// must runs a command to its end and returns how long it took; it ends the
// program if the command fails.
func (b *bench) must(command *exec.Cmd) time.Duration {
	var complaint bytes.Buffer
	command.Stderr = &complaint
	started := time.Now()
	if err := command.Run(); err != nil {
		log.Fatalf("%s: %v\n%s", command, err, complaint.String())
	}
	return time.Since(started)
}

// orilla runs the program with a home of its own.
func (b *bench) orilla(home string, args ...string) time.Duration {
	command := exec.Command(b.program, args...)
	command.Dir = b.folder
	command.Env = append(os.Environ(), "ORILLA_HOME="+home)
	return b.must(command)
}

// deploy publishes a tree that is ready, as a site named bench.
func (b *bench) deploy(home, tree string, more ...string) time.Duration {
	return b.orilla(home, append([]string{"deploy", "--from", tree, "--site", "bench", "--to", "production",
		"--yes"}, more...)...)
}

// sync writes out what the system holds back, so that one measurement does not
// pay for another.
func (b *bench) sync() { b.must(exec.Command("sync")) }

// tree makes a site of n files and about so many bytes.
func (b *bench) tree(n int, size int) string {
	root := b.unused()
	random := mathrand.New(mathrand.NewPCG(7, 7))
	extensions := []string{"html", "html", "js", "css", "svg"}
	for i := range n {
		name := filepath.Join(root, fmt.Sprintf("section-%d/part-%d/page-%d.%s", i%40, i/40%25, i,
			extensions[i%5]))
		if i == 0 {
			name = filepath.Join(root, "index.html")
		}

		data := make([]byte, 1+int(float64(size)/float64(n)/2*(0.2+1.6*random.Float64())))
		rand.Read(data)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			log.Fatal(err)
		}

		if err := os.WriteFile(name, []byte(hex.EncodeToString(data)), 0o644); err != nil {
			log.Fatal(err)
		}
	}

	return root
}

// compare runs both sides in turn and prints the median of the ratios.
func (b *bench) compare(what string, limit float64, ours, theirs func(i int) time.Duration) {
	var ratios, a, c []float64
	for i := range b.pairs {
		b.sync()
		first := ours(i)
		b.sync()
		second := theirs(i)
		ratios = append(ratios, first.Seconds()/second.Seconds())
		a, c = append(a, first.Seconds()), append(c, second.Seconds())
	}

	verdict := "met"
	if median(ratios) > limit {
		verdict = "MISSED"
	}
	fmt.Printf("%-62s %5.2f  (limit %.1f, %s; ours %.3f s, theirs %.3f s, %d pairs, ratios %.2f to %.2f)\n",
		b.where+": "+what, median(ratios), limit, verdict,
		median(a), median(c), b.pairs, slices.Min(ratios), slices.Max(ratios))
}

// median returns the middle value, the upper one of two.
func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}

// measureFresh compares a first deploy with what copies and hashes the same
// files. It returns the tree, for what goes on from there.
func measureFresh(b *bench, limit float64) string {
	tree := b.tree(10_000, 90_000_000)
	b.compare("fresh deploy of 10,000 files, 90 MB / rsync -a and sha256sum", limit, func(int) time.Duration {
		return b.deploy(b.unused(), tree)
	}, func(int) time.Duration {
		return b.must(exec.Command("rsync", "-a", tree+"/", b.unused()+"/")) +
			b.must(exec.Command("sh", "-c", "find "+tree+" -type f -print0 | xargs -0 sha256sum"))
	})
	return tree
}

func measureDeploys(b *bench, limit float64) {
	tree := measureFresh(b, limit)
	home, copied := b.unused(), b.unused()
	b.deploy(home, tree)
	b.must(exec.Command("rsync", "-a", tree+"/", copied+"/"))
	time.Sleep(3 * time.Second) // digests are remembered of files that have been still for two seconds
	b.deploy(home, tree, "--rehash")

	change := func(i int) {
		text := fmt.Sprint("changed ", i, time.Now())
		if err := os.WriteFile(filepath.Join(tree, "index.html"), []byte(text), 0o644); err != nil {
			log.Fatal(err)
		}
	}

	theirs := func(int) time.Duration {
		return b.must(exec.Command("rsync", "-a", "--checksum", "--delete", tree+"/", copied+"/"))
	}
	b.compare("one file changed / rsync -a --checksum --delete", 1.0,
		func(i int) time.Duration { change(i); return b.deploy(home, tree) }, theirs)
	b.compare("one file changed, --rehash / rsync -a --checksum --delete", 1.5,
		func(i int) time.Duration { change(i); return b.deploy(home, tree, "--rehash") }, theirs)
}

// measureRollbacks compares a rollback with a command that does nothing.
func measureRollbacks(b *bench) {
	for _, n := range []int{100, 100_000} {
		home, tree := b.unused(), b.tree(n, n*200)
		b.deploy(home, tree)
		if err := os.WriteFile(filepath.Join(tree, "index.html"), []byte("second"), 0o644); err != nil {
			log.Fatal(err)
		}

		b.deploy(home, tree)
		b.sync()
		var over []float64
		for i := range 2 * b.pairs {
			nothing := b.orilla(home, "version")
			back := b.orilla(home, "rollback", "--site", "bench", fmt.Sprint("production:", 1+i%2),
				"--keep-following")
			over = append(over, (back-nothing).Seconds()*1000)
		}

		fmt.Printf("%-62s %5.1f ms over orilla version (limit 30; %.1f to %.1f)\n",
			fmt.Sprintf("%s: rollback of a release of %d files", b.where, n),
			median(over), slices.Min(over), slices.Max(over))
	}
}

// measureActivations measures how long after an entry is written an edge node in
// another process answers from it.
func measureActivations(b *bench) {
	home, tree := b.unused(), b.tree(100, 100_000)
	b.deploy(home, tree)
	if err := os.WriteFile(filepath.Join(tree, "index.html"), []byte("second"), 0o644); err != nil {
		log.Fatal(err)
	}

	b.deploy(home, tree)
	store, err := file.Open(filepath.Join(home, "store"))
	if err != nil {
		log.Fatal(err)
	}
	defer b.node(home)()
	ctx := context.Background()
	nodes, err := edge.Nodes(ctx, store, 0)
	b.check(err)
	address := nodes[0].Address
	j := journal.Journal{Store: store, Site: "bench", Environment: "production", Attempt: rand.Text,
		Now: time.Now}

	var took []float64
	for i := range 200 {
		target := int64(1 + i%2)
		entry, err := j.Append(ctx, journal.Entry{},
			j.Return(ctx, journal.Back{To: func(e journal.Entry) bool { return e.Number <= target },
				KeepFollowing: true}))
		if err != nil {
			log.Fatal(err)
		}

		started := time.Now()
		if err := store.Replace(ctx, storage.PulseKey("bench"), []byte(rand.Text())); err != nil {
			log.Fatal(err)
		}
		for !strings.Contains(ask(address), "entry="+entry.Label()) {
		}
		took = append(took, time.Since(started).Seconds()*1000)
	}

	slices.Sort(took)
	fmt.Printf("%-62s %5.1f ms at the 99th percentile of 200 (limit 100; median %.1f)\n",
		b.where+": an edge node sees an activation", took[197], took[100])
}

// ask requests a node's front page and returns which entry answered.
func ask(address string) string {
	request, err := http.NewRequest(http.MethodHead, "http://"+address+"/", nil)
	if err != nil {
		log.Fatal(err)
	}
	request.Host = "bench.localhost"
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		log.Fatal(err)
	}
	response.Body.Close() //nolint:errcheck // a HEAD has none
	return response.Header.Get(httpanswer.ReleaseField)
}

// measureVisits has a browser open pages from an edge node and from nginx in turn. What
// drives the browser is in a module of its own.
func measureVisits(b *bench) {
	command := exec.Command("go", "run", "./visits", "-program", b.program, "-pairs", fmt.Sprint(b.pairs))
	command.Dir = filepath.Join("scripts", "projects")
	command.Stdout, command.Stderr = os.Stdout, os.Stderr
	if err := command.Run(); err != nil {
		log.Fatal(err)
	}
}
