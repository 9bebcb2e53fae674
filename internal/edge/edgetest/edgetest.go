// Package edgetest makes what an edge node serves, without a build: releases of files
// that are given, and entries that put them live.
package edgetest

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// World is a store that edge nodes serve, with what the last writer of each site knew of
// it. It is for one goroutine; several Worlds may share a store, as deployers do, and then
// overwrite each other's hints.
type World struct {
	Store storage.Store
	hints map[string]journal.Hints
	kept  map[digest.Digest]bool // objects that need not be kept again
}

// New returns what fills a store.
func New(store storage.Store) *World {
	return &World{Store: store, hints: map[string]journal.Hints{}, kept: map[digest.Digest]bool{}}
}

// Claim takes the name of a site.
func (w *World) Claim(ctx context.Context, site string) error {
	data, err := record.Claim{Site: site, Incarnation: "incarnation " + site, Roots: []string{"c0"},
		Who: "Ines Marrow"}.Encode()
	if err != nil {
		return err
	}
	if err = w.Store.Create(ctx, storage.ClaimKey(site), data); errors.Is(err, storage.ErrExists) {
		return nil
	}
	return err
}

// Put keeps a release of a site, whose files are given by their paths.
func (w *World) Put(ctx context.Context, site string, files map[string][]byte) (release.ID, error) {
	var list []release.File
	var failed error
	add := func(data []byte) digest.Digest {
		d := digest.Of(data)
		if w.kept[d] {
			return d
		}
		w.kept[d] = true
		if err := w.Store.Create(ctx, d.Key(), data); err != nil && !errors.Is(err, storage.ErrExists) {
			failed = errors.Join(failed, err)
		}
		return d
	}
	// Long files are cut into parts, as a deploy cuts them.
	for path, data := range files {
		one := release.File{Path: path, Digest: digest.Of(data), Size: int64(len(data)),
			Type: media.Type(path, true)}
		if len(data) <= release.PartSize {
			add(data)
		}
		for at := 0; len(data) > release.PartSize && at < len(data); at += release.PartSize {
			one.Parts = append(one.Parts, add(data[at:min(at+release.PartSize, len(data))]))
		}
		list = append(list, one)
	}

	// The chunks of the index first: whoever sees the root finds them.
	index, err := release.Build(list, nil, release.Settings{})
	if err != nil {
		return release.ID{}, err
	}
	for _, chunk := range index.Chunks {
		add(chunk.Data)
	}
	err = w.Store.Create(ctx, storage.ReleaseKey(site, index.ID.String()), index.Data)
	if errors.Is(err, storage.ErrExists) {
		err = nil
	}
	return index.ID, errors.Join(failed, err)
}

// Append appends an entry that decide makes, and leaves a hint. Entries of one site are
// appended one after the other.
func (w *World) Append(ctx context.Context, site, environment string,
	decide journal.Decide) (journal.Entry, error) {
	// Each attempt has a text of its own, by which a writer knows its entry again.
	j := journal.Journal{Store: w.Store, Site: site, Environment: environment, Attempt: rand.Text,
		Now: time.Now}
	entry, err := j.Append(ctx, journal.Entry{}, decide)
	// After the entry: whoever sees the hint finds it.
	if err == nil {
		if w.hints[site] == nil {
			w.hints[site] = journal.Hints{}
		}
		w.hints[site].Pulse(ctx, w.Store, entry)
	}
	return entry, err
}

// Activate points an environment at a release.
func (w *World) Activate(ctx context.Context, site, environment string, id release.ID, addresses ...string,
) (journal.Entry, error) {
	document, err := journal.NewDocument(journal.DocumentContent{Addresses: addresses}, "")
	if err != nil {
		return journal.Entry{}, err
	}
	if document.Data != nil {
		err := w.Store.Create(ctx, document.Digest.Key(), document.Data)
		if err != nil && !errors.Is(err, storage.ErrExists) {
			return journal.Entry{}, err
		}
	}

	move := journal.Move{Release: id, Origin: journal.Origin{Commit: "4be21c7"}, Document: document}
	return w.Append(ctx, site, environment, journal.Activate(journal.Deploy, move, time.Now()))
}
