package view_test

import (
	"bytes"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/view"
)

// TestWhatNodesSay shows nodes that serve an entry, are late, silent, unknown, or early versions.
func TestWhatNodesSay(t *testing.T) {
	t.Parallel()
	entry := journal.Entry{Environment: "production", Number: 12, Attempt: "a"}
	node := func(name, region string) edge.Presence {
		return edge.Presence{Node: name, Address: "192.0.2.10:80", Region: region, PublicKey: "ed25519:x"}
	}
	says := func(number int64, attempt string) wake.Answer {
		return wake.Answer{State: "ready", Serves: map[string]wake.Serving{"production": {Entry: number, Attempt: attempt}},
			Cache: &wake.Cache{Bytes: 1 << 20, Most: 1 << 30}}
	}
	since := now.Add(-time.Hour)
	list := []edge.Confirmed{
		{Node: node("quay-80", "north"), Said: says(12, "a"), Known: true, Took: 81 * time.Millisecond},
		{Node: node("lighthouse-80", "s"), Said: says(11, "b"), Known: true},
		{Node: node("pier-80", ""), Said: wake.Answer{State: string(edge.WithoutStore), Since: &since, Serves: map[string]wake.Serving{
			"production": {Entry: 11}}}, Known: true},
		{Node: node("mole-80", ""), Err: errors.New("Post \"http://192.0.2.10:80/.orilla/wake\": connection refused")},
		{Node: node("fake-80", ""), Said: says(99, "x")},
		{Node: edge.Presence{Node: "early-80", Address: "192.0.2.11:80"}, Err: errors.New("405")},
		{Node: edge.Presence{Node: "elsewhere-80", Address: "127.0.0.1:80", PublicKey: "k"}, Err: edge.ErrNotCalled},
	}
	flip := view.NewFlip(list, entry)
	assert.Equal(t, 1, flip.Serving)
	assert.Len(t, flip.Nodes, 5, "the unknown one and the one that cannot be asked count for nothing")
	assert.Equal(t, " at 1 of 5 edge nodes; the others will follow", flip.Text(time.Second))
	out, notes := &bytes.Buffer{}, &bytes.Buffer{}
	c := &console.Console{Out: console.Unstyled(out), Err: console.Unstyled(notes), Now: func() time.Time { return now }}
	flip.Print(c)
	assert.Equal(t, `  nodes     lighthouse-80  s      not yet
            pier-80               its store does not answer
            mole-80               it does not answer: connection refused
            fake-80               unknown: it does not sign with a key that is known of it
            early-80              it is of an early version, which cannot be called
            elsewhere-80          it cannot be asked from this machine
            quay-80        north  81 ms
`, notes.String())
	view.PrintNodes(c, flip.Each, []string{"production"})
	assert.Contains(t, out.String(), "lighthouse-80  192.0.2.10:80  s                ready          1.0 MB of 1.1 GB  production:11")
	assert.Contains(t, out.String(), "fake-80        192.0.2.10:80                   unknown")
	assert.Contains(t, out.String(), "mole-80        192.0.2.10:80                   silent")
	assert.Contains(t, out.String(), "without store")

	notes.Reset()
	view.NewFlip(list[:1], entry).Print(c)
	assert.Empty(t, notes.String(), "one node that serves it needs no line")
}
