// Command visits measures what visitors get: a browser opens pages of several sites from an
// edge node and from nginx in turn, over links that are emulated, for the first time, again,
// and after a deploy that changed one component.
//
//	go run ./scripts/bench -only visits [-pairs 3]
//
// It needs Chromium, nginx, Git and a shell; of one site also npm and its registry, without
// which that site is left out. Both servers speak TLS and HTTP/2 with the same certificate.
// nginx has every text compressed by gzip -9 beside it, the node what deploy --encode made.
//
//	text   pages, scripts, style sheets, data and dictionaries, as the browser counts them
//	all    what came over the link: pictures, handshakes, header fields of both
//	load   until the load event; each page of a visit has its share
//
// A visitor is a browser of its own with an empty cache, which stays open for three visits.
// Connections are closed between them, and the servers never know that it is a measurement.
package main

import (
	"errors"
	"flag"
	"fmt"
	"log"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// The links: what a round trip takes, and how many bits a second come and go.
var links = []*link{
	{name: "slow mobile", trip: 150 * time.Millisecond, down: 1.6e6, up: 0.75e6},
	{name: "fast mobile", trip: 60 * time.Millisecond, down: 9e6, up: 3e6},
	{name: "wired", trip: 10 * time.Millisecond, down: 50e6, up: 20e6},
}

// occasions are when a visitor comes.
var occasions = []string{"first", "again", "after a deploy"}

// goals are of nginx's bytes at most, for text. Whoever comes again gets a few header fields,
// which are told and have no goal.
var goals = []float64{0.85, math.Inf(1), 0.3}

// goalTime is of nginx's time at most; noise is how much two visits to the same server differ
// by chance.
const (
	goalTime = 1.0
	noise    = 0.05
)

// debug has each answer printed.
var debug bool

func main() {
	log.SetFlags(0)
	program := flag.String("program", "orilla", "the program")
	pairs := flag.Int("pairs", 3, "how many visitors each server gets, in turn")
	only := flag.String("only", "", "one of the sites: ferries, application, documentation")
	flag.IntVar(&pagesMade, "pages", pagesMade, "pages of the documentation")
	flag.BoolVar(&debug, "v", false, "print each answer")
	flag.Parse()
	if err := run(*program, *pairs, *only); err != nil {
		log.Fatal(err)
	}
}

// run measures each site over each link.
func run(program string, pairs int, only string) error {
	program, err := filepath.Abs(program)
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "orilla-visits-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)                      //nolint:errcheck // litter of the temporary folder
	if err := os.Chmod(folder, 0o755); err != nil { //nolint:gosec // the workers of nginx are another user's
		return err
	}
	missed := 0
	for _, make := range sites {
		site, err := make(program, folder)
		if err != nil {
			return err
		}
		if site == nil || only != "" && site.name != only {
			continue
		}
		missed += measure(site, program, filepath.Join(folder, site.name), pairs)
	}
	if missed > 0 {
		return fmt.Errorf("%d goals missed", missed)
	}
	return nil
}

// measure has visitors come to one site, and prints what they got.
func measure(site *site, program, folder string, pairs int) (missed int) {
	fmt.Printf("\n%s: %s\n", site.name, site.about)
	rivals, err := serve(site, program, folder)
	defer func() {
		for _, r := range rivals {
			r.stop()
		}
	}()
	if err != nil {
		fmt.Println("   FAILED:", err)
		return 1
	}
	for _, l := range links {
		seen := map[string][]visit{} // by occasion and server
		for turn := range pairs {
			order := slices.Clone(rivals)
			if turn%2 == 1 {
				slices.Reverse(order)
			}
			for _, r := range order {
				visits, err := visitor(site, r, l)
				if err != nil {
					fmt.Println("   FAILED:", r.name, err)
					return missed + 1
				}
				for i, v := range visits {
					key := occasions[i] + r.name
					seen[key] = append(seen[key], v)
				}
			}
		}
		for i, occasion := range occasions {
			ours, theirs := seen[occasion+"node"], seen[occasion+"nginx"]
			missed += tell(l.name, occasion, ours, theirs, goals[i])
		}
	}
	return missed
}

// tell prints what visitors got at one occasion, and returns how many goals were missed.
func tell(link, occasion string, ours, theirs []visit, goal float64) (missed int) {
	ratio := func(what func(visit) float64) (a, b, ratio float64) {
		var ratios, as, bs []float64
		for i := range ours {
			as, bs = append(as, what(ours[i])), append(bs, what(theirs[i]))
			ratios = append(ratios, what(ours[i])/max(what(theirs[i]), 1))
		}
		return middle(as), middle(bs), middle(ratios)
	}
	text, itsText, textRatio := ratio(func(v visit) float64 { return float64(v.text) })
	all, itsAll, _ := ratio(func(v visit) float64 { return float64(v.all) })
	load, itsLoad, loadRatio := ratio(func(v visit) float64 { return v.load })
	paint, itsPaint, paintRatio := ratio(func(v visit) float64 { return v.paint })
	verdict := func(ratio, goal float64) string {
		if ratio <= goal {
			return ""
		}
		missed++
		return fmt.Sprintf(" MISSED %.2f", goal)
	}
	// The node's figure comes first, then that of nginx, then the median of the pairs' ratios.
	fmt.Printf("   %-12s %-15s text %7.0f / %7.0f B %5.2f%s; all %7.0f / %7.0f B; ", link, occasion,
		text, itsText, textRatio, verdict(textRatio, goal), all, itsAll)
	fmt.Printf("load %5.0f / %5.0f ms %4.2f%s; ", load, itsLoad, loadRatio,
		verdict(loadRatio, goalTime+noise))
	fmt.Printf("largest paint %5.0f / %5.0f ms %4.2f%s\n", paint, itsPaint, paintRatio,
		verdict(paintRatio, goalTime+noise))
	return missed
}

// middle is the median.
func middle(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}

// shell runs a script in a folder.
func shell(folder, script string, variables ...string) error {
	command := exec.Command("bash", "-euc", script)
	command.Dir, command.Env = folder, append(os.Environ(), variables...)
	out, err := command.CombinedOutput()
	if err != nil {
		return errors.Join(err, errors.New(strings.TrimSpace(string(out))))
	}
	return nil
}
