package edge

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/httpanswer"
)

// HealthPath is where a node says how it is, at any host. It asks nothing of the store.
const HealthPath = "/.orilla/health"

// State is how a node is.
type State string

// The states. A node without its store is still one to send visitors to: all nodes of
// the store lose it at once.
const (
	Starting     State = "starting"      // it has not seen yet what is in its store
	Ready        State = "ready"         // it answers
	WithoutStore State = "without-store" // it answers with what it knows; its store does not answer
	Draining     State = "draining"      // it stops, and still answers
)

// Health is what a node says of itself. While it is starting or draining, it comes
// with status 503 as problem details (RFC 9457), and the first three fields are set.
type Health struct {
	Title  string `json:"title,omitempty"`
	Status int    `json:"status,omitempty"`
	Detail string `json:"detail,omitempty"`

	State State      `json:"state"`
	Live  bool       `json:"live"`            // the process answers
	Ready bool       `json:"ready"`           // visitors may be sent here
	Since *time.Time `json:"since,omitempty"` // without-store: when the store last answered
	// Alarms is what somebody has to do soon: certificates that end and are not renewed.
	Alarms []string `json:"alarms,omitempty"`
}

// errStarting: the node has not seen its store yet.
var errStarting = fmt.Errorf("the node has not seen yet what is in its store: %w", httpanswer.ErrSlow)

// errStale: what is known is too old to be served.
var errStale = fmt.Errorf("the store has not answered for too long: %w", httpanswer.ErrSlow)

// isStale reports whether the store has not answered for longer than environments may be
// served without it: who may look at protected ones cannot be read then.
func (n *Node) isStale(protected bool) bool {
	if n.tracker.lost() == "" {
		return false
	}
	settings, since := n.settings.Load(), time.Since(time.Unix(0, n.is.reached.Load()))
	if protected {
		return since > settings.StaleProtected
	}
	return settings.StalePublic > 0 && since > settings.StalePublic
}

// Health returns how the node is.
func (n *Node) Health() Health {
	h := Health{State: Ready, Live: true, Ready: true}
	switch {
	case n.is.draining.Load():
		h.State, h.Detail = Draining, "the node is stopping"
	case !n.isReady():
		h.State, h.Detail = Starting, "the node has not seen yet what is in its store"
	case n.tracker.lost() != "":
		h.State = WithoutStore
		if at := n.is.reached.Load(); at != 0 {
			since := time.Unix(0, at).UTC().Truncate(time.Second)
			h.Since = &since
		}
	}
	if n.options.Alarms != nil {
		h.Alarms = n.options.Alarms()
	}
	if h.State == Draining || h.State == Starting {
		h.Ready, h.Status = false, http.StatusServiceUnavailable
		h.Title = http.StatusText(h.Status)
	}
	return h
}

// Served is what an environment serves at a node.
type Served struct {
	Site, Environment string // as people write it
	Entry             int64
}

// IsWritable reports whether a node's store is the one that it was, as far as its last look told:
// in the place of one that is not mounted nothing is written.
func IsWritable(n *Node) bool { return n.tracker.lost() == "" }

// A node that turns out what it needs a moment later reads it again from its disk or its store: that
// shows in what it keeps of content, which is at its limit, and in misses.

// InMemory is how much content and how much of indexes a node keeps in memory, and may keep.
func InMemory(n *Node) (content, contentMost, index, indexMost int64) {
	content, contentMost = httpanswer.Held(n.objects.Objects)
	index, indexMost = httpanswer.Held(n.index.Objects)
	return content, contentMost, index, indexMost
}

// Now is the time by the clock of a node's store.
func Now(n *Node) time.Time { return n.clock.now() }

// ServedBy lists what a node serves, in any order.
func ServedBy(n *Node) (list []Served) {
	for _, e := range n.all.list() {
		if s := e.current.Load(); s != nil && !s.entry.Release.IsZero() {
			list = append(list, Served{e.journal.Site, journal.DisplayName(e.journal.Environment),
				s.entry.Number})
		}
	}
	return list
}

// StoreAnswered returns when the store of a node last answered; zero for never.
func StoreAnswered(n *Node) time.Time {
	if at := n.is.reached.Load(); at != 0 {
		return time.Unix(0, at)
	}
	return time.Time{}
}

// watchedFor is for how long somebody who asked how the node is may ask again.
const watchedFor = 2 * time.Minute

// IsWatched reports whether anybody has asked lately how the node is, who would be told
// that it is about to stop; people who asked with this program do not count.
func (n *Node) IsWatched() bool {
	return time.Since(time.Unix(0, n.is.watched.Load())) < watchedFor
}

// Drain says that the node is about to stop. It goes on answering.
func (n *Node) Drain() { n.is.draining.Store(true) }

// health answers with how the node is.
func (n visit) health(w http.ResponseWriter, r *http.Request) {
	connections.Unwanted(w, r)
	if r.UserAgent() != ownAgent {
		n.is.watched.Store(time.Now().UnixNano())
	}
	health, header := n.Health(), w.Header()
	header.Set("Content-Type", "application/json")
	status := http.StatusOK
	if health.Status != 0 {
		status = health.Status
		header.Set("Content-Type", "application/problem+json")
		header.Set("Retry-After", "5")
	}
	header.Set("Cache-Control", "no-store")
	header.Set("X-Content-Type-Options", "nosniff")
	data, err := json.Marshal(health)
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}
	data = append(data, '\n')
	header.Set("Content-Length", strconv.Itoa(len(data)))
	w.WriteHeader(status)
	if r.Method != http.MethodHead {
		w.Write(data) //nolint:errcheck // whoever asked has gone
	}
}

// isReady reports whether the first look has ended.
func (n *Node) isReady() bool {
	select {
	case <-n.is.ready:
		return true
	default:
		return false
	}
}

// waitReady waits for the first look for as long as a visitor waits.
func (n visit) waitReady(ctx context.Context) bool {
	if n.isReady() {
		return true
	}
	timer := time.NewTimer(n.options.Patience)
	defer timer.Stop()
	select {
	case <-n.is.ready:
		return true
	case <-ctx.Done():
	case <-timer.C:
	}
	return false
}
