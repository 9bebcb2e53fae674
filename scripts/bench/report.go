package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/store/file"
)

// A report is asked for by people, so what counts is that it comes at once, whatever the site has been
// through. The large site has a hundred times as much of everything; that it takes a few times as long
// is mostly what lists of previews cost.

// measureReports measures the report of a site with 10,000 deploys and 1,000 previews against
// that of one with 100 and ten.
func measureReports(b *bench) {
	small, large := b.deployed(100, 10), b.deployed(10_000, 1000)
	file := func(home string) string { return filepath.Join(home, "report.html") }
	report := func(home string) time.Duration {
		return b.orilla(home, "report", "--site", "bench", "--out", file(home))
	}
	b.compare("report of 10,000 deploys, 1,000 previews over 100, 10", 10,
		func(int) time.Duration { return report(large) }, func(int) time.Duration { return report(small) })
	for _, home := range []string{small, large} {
		info, err := os.Stat(file(home))
		b.check(err)
		fmt.Printf("%-62s %5d kB\n", b.where+": "+file(home), info.Size()/1000)
	}
}

// deployed makes a store in which production went through a number of entries, of thirty
// releases that differ in a file or two, beside a number of previews.
func (b *bench) deployed(entries, previews int) string {
	home := b.previews(previews)
	store, err := file.Open(filepath.Join(home, "store"))
	b.check(err)
	tree, ids := b.tree(60, 10_000), []release.ID{}
	j := &journal.Journal{Store: store, Site: "bench", Environment: "production", Attempt: rand.Text,
		Now: time.Now}
	ctx := context.Background()
	var last journal.Entry
	for i := range 30 {
		page := fmt.Sprintf("<link rel=stylesheet href=/a.css><p>Sailings %d", i)
		b.check(os.WriteFile(filepath.Join(tree, "index.html"), []byte(page), 0o600))
		style := fmt.Sprintf("p { margin: %dpx }", i/3)
		b.check(os.WriteFile(filepath.Join(tree, "a.css"), []byte(style), 0o600))
		b.deploy(home, tree)
		last, err = j.Head(ctx, 0)
		b.check(err)
		ids = append(ids, last.Release)
	}
	for i := last.Number; i < int64(entries); i++ {
		move := journal.Move{Release: ids[i%30], Who: "Ines Marrow",
			Origin: journal.Origin{Commit: "4be21c7", Branch: "main", Subject: "Winter sailings"}}
		last, err = j.Append(ctx, last, journal.Activate(journal.Deploy, move, time.Now()))
		b.check(err)
	}
	return home
}
