// Command edge measures what an edge node stands, and what it costs its store: abuse in
// large numbers, slow stores, restarts. Run it from the repository:
//
//	go run ./scripts/edge                      every part but hour
//	go run ./scripts/edge slow-readers idle    these parts
//	go run ./scripts/edge -program FILE …      of another version of the program
//	go run ./scripts/edge -for 1h hour         an hour under load
//
// It needs versitygw (scripts/test installs it) for stores elsewhere. It prints a figure
// and its limit for each part, and ends with status 1 if one is missed.
//
// The node is a process of its own, with the bounds that it usually has, and its memory is
// what the kernel says: whatever the program believes of itself does not count. Clients and
// stores run on the same machine, so that times are those of a busy one.
//
// Abuse in small numbers is in the tests of internal/edge and internal/connections; this is
// for the numbers of the real world, and for comparing one version with another.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/store/storetest"
)

// part is something that is measured.
type part struct {
	name, what string
	run        func(ctx context.Context, s *suite) error
}

var parts = []part{
	{"slow-readers", "300 readers of 64 kB/s of 300 files of 8 MiB: memory of the node", slowReaders},
	{"distinct", "2 GB of distinct files, 20 at once: memory of the node", distinctFiles},
	{"texts", "1 GB of distinct texts, compressed, 20 at once: memory of the node", texts},
	{"slow-texts", "300 readers of 32 kB/s of 300 texts of 4 MiB, compressed: memory of the node", slowTexts},
	{"large", "100 readers of one file of 256 MiB: what is read of the store", largeFile},
	{"bodies", "620 bodies that never come, 620 headers that never end: a page beside them", bodies},
	{"guesses", "1,500 clients that guess a password: the right one of another client", guesses},
	{"flips", "1,000 environments, 400 of them ended, on a store of 30 ms: from deploy to page", flips},
	{"idle", "121 sites on a store of 30 ms: requests to the store while nothing happens", idle},
	{"start", "1,000 environments on a store of 30 ms: what visitors get while the node begins", begins},
	{"hang", "a store that hangs: how long a visitor waits", hangs},
	{"strangers",
		"2,000 requests for sites, releases and assets that are not there: requests to the store", strangers},
	{"restarts", "ten restarts under load: requests that failed", restarts},
	{"lean", "one core: requests a second beside a bare handler of net/http, and nginx", lean},
	{"cache", "a start while the store is gone, with what was served before", startsAlone},
}

// suite is what the parts share.
type suite struct {
	program string
	folder  string
	old     bool // the program knows fewer options
	lasts   time.Duration
	turns   int // of what is measured in turn
	missed  []string
}

func main() {
	log.SetFlags(0)
	s := &suite{}
	flag.StringVar(&s.program, "program", "", "the program to measure (default: of this repository)")
	flag.BoolVar(&s.old, "old", false, "the program is from before the cache and the limits")
	flag.DurationVar(&s.lasts, "for", time.Hour, "how long hour takes")
	flag.IntVar(&s.turns, "turns", 5, "how often what is measured in turn is")
	isBare := flag.Bool("bare", false, "be the bare handler that lean compares with")
	in := flag.String("in", "", "the folder to work in (default: the system's temporary one)")
	flag.Parse()
	if *isBare {
		bare()
		return
	}

	os.Setenv("AWS_ACCESS_KEY_ID", storetest.AccessKey)     //nolint:errcheck // the names are good
	os.Setenv("AWS_SECRET_ACCESS_KEY", storetest.SecretKey) //nolint:errcheck // the names are good
	var err error
	if s.folder, err = os.MkdirTemp(*in, "orilla-edge-"); err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(s.folder) //nolint:errcheck // it is temporary
	if s.program == "" {
		s.program = filepath.Join(s.folder, "orilla")
		if out, err := exec.Command("go", "build", "-trimpath", "-o", s.program,
			"./cmd/orilla").CombinedOutput(); err != nil {
			log.Fatalf("%s: %s", err, out)
		}
	}

	// The hour is asked for by its name: whoever measures the others does not wait for it.
	all := append(slices.Clone(parts), part{"hour", "an hour under load", hour})
	asked := flag.Args()
	for _, p := range all {
		if len(asked) == 0 && p.name == "hour" || len(asked) > 0 && !slices.Contains(asked, p.name) {
			continue
		}
		fmt.Printf("== %s: %s\n", p.name, p.what)
		if err := p.run(context.Background(), s); err != nil {
			s.missed = append(s.missed, p.name)
			fmt.Printf("   FAILED: %s\n", err)
		}
	}
	if len(s.missed) > 0 {
		fmt.Println("missed:", strings.Join(s.missed, ", "))
		os.RemoveAll(s.folder) //nolint:errcheck // it is temporary
		os.Exit(1)             //nolint:gocritic // what is deferred was just done
	}
}

// figure prints what was measured, and notes whether it is within its limit.
func (s *suite) figure(what string, value, limit float64, unit string) {
	verdict := ""
	if limit > 0 {
		verdict = fmt.Sprintf("  (limit %g)", limit)
		if value > limit {
			verdict += "  MISSED"
			s.missed = append(s.missed, what)
		}
	}
	fmt.Printf("   %-60s %8.4g %s%s\n", what, value, unit, verdict)
}

// check stops the suite at what cannot be measured.
func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
