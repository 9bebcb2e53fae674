// Package courier sends a site's notices: to people by mail, to programs by webhooks and
// commands.
//
//	c := courier.Begin(ctx, options)      // beside a deploy; nothing waits for it
//	c.Look("production")                  // something happened there
//	summary := c.Finish(ctx, patience)    // what is left is sent by whoever runs next
//
// What happened is in the journals, and what of it was sent in the record of the last turn
// (package core/notices). A courier takes the turn, looks, and sends to all recipients side by
// side, to each one after the other. It never makes a deploy fail, and hardly makes it wait: it
// begins nothing any more once patience is over, and what is on its way then has the time of one
// attempt.
package courier

import (
	"bytes"
	"context"
	"errors"
	"maps"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/steps"
)

// What a turn goes through, and what is left if it ends there:
//
//	take      the next number is created: with what the last holder left, and nothing else
//	look      journals, builds and checks are read; what is new is queued, and written
//	send      to each recipient in turn; what was taken is written before the next is sent
//	beat      every 15 seconds, so that nobody takes a holder for gone that waits for a server
//	leave     the turn is marked as ended, so that the next one needs not wait
//
// A holder that is killed leaves the record of its last write. What it sent after that is sent
// again by the next one; nothing is lost, since what was not looked at is still in the journals.
// A holder that only was slow, and is taken for gone, goes on writing its own number, which
// nobody reads any more.

// Options say what a courier works with.
type Options struct {
	Store  storage.Store
	Site   string
	Config project.Config // of the production branch: no other may say who is told, or what is run
	Folder string         // the project's, in which commands run
	Who    string         // the person, or the account, that sends
	Now    func() time.Time
	// Lookup returns an environment variable, os.LookupEnv unless said.
	Lookup func(name string) (string, bool)
	// Force tries at once what was to be tried later.
	Force bool
	// Lasting is for who runs for hours: it looks now and then without being told.
	Lasting bool
}

// lookup returns an environment variable.
func (o Options) lookup(name string) (string, bool) {
	if o.Lookup != nil {
		return o.Lookup(name)
	}
	return os.LookupEnv(name)
}

// Two numbers decide how a command feels: how long it may go on beginning things, and how long what has
// begun may take after that. The first is the patience of whoever typed it; the second is short, since a
// server that takes longer will be asked again by the next command, and is not worth a person's time.

// Times of a courier.
const (
	// beatEvery is how often a holder says that it is there, and goneAfter when one that does not
	// is taken to be gone, by the store's clock.
	beatEvery = 15 * time.Second
	goneAfter = 45 * time.Second
	// turnEvery is how often the turn is asked for while another courier has it.
	turnEvery = 400 * time.Millisecond
	// lookEvery is how often a courier looks by itself, and allEvery how often one that lasts looks
	// at everything.
	lookEvery = 20 * time.Second
	// heedEvery is how often one that lasts reads the site's hint: others leave it to who has the turn.
	heedEvery = 2 * time.Second
	allEvery  = 10 * time.Minute
	// attemptTime bounds one attempt to send one notice.
	attemptTime = 20 * time.Second
	// lastAttempt is how long one that is on its way is waited for when patience is over.
	lastAttempt = 5 * time.Second
	// storeTime bounds what a courier waits for its store, and allTime a look at everything.
	storeTime = 20 * time.Second
	allTime   = 2 * time.Minute
	// atOnce is how many recipients are sent to at a time.
	atOnce = 8
)

// Summary is what came of a courier's work.
type Summary struct {
	Sent    []notices.Done // in this turn
	GivenUp []notices.Done // refused for good, or tried for too long
	Left    int            // still waiting
	// Problems say for each recipient that did not take a notice why.
	Problems map[string]string
	// Busy: another courier had the turn all the time, and sends what there is.
	Busy bool
	Err  error // the store could not be read or written
}

// Courier sends notices of one site. Its methods may be called from several goroutines; nil does
// nothing.
type Courier struct {
	mutex      sync.Mutex // for what follows
	options    Options
	recipients map[string]recipient
	wants      map[string]notices.Wants
	record     *notices.Record
	summary    Summary
	dirty      bool // the record may not be written as it is
	written    []byte

	asked asked
	signals
}

// asked is what a courier was asked to look at. It has a mutex of its own: whoever asks never
// waits for the store.
type asked struct {
	mutex        sync.Mutex
	environments map[string]bool
	all          bool // everything
	alarms       bool // what edge nodes say
}

// signals are how a courier is told what to do, and tells that it has ended.
type signals struct {
	wake   chan struct{}
	last   chan struct{} // closed by Finish: one more look
	ending chan struct{} // closed when patience is over: nothing new is begun
	done   chan struct{}
	stop   context.CancelFunc
}

// Wanted reports whether a configuration asks for any notices.
func Wanted(config project.Config) bool { return len(config.Notices) > 0 }

// Begin starts a courier; nil if nobody is to be told of anything. One that lasts may be told
// later that somebody is.
func Begin(ctx context.Context, options Options) *Courier {
	if !Wanted(options.Config) && !options.Lasting {
		return nil
	}
	// A command that ends must not end what is on its way: Finish says when it is over.
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	c := &Courier{options: options, signals: signals{make(chan struct{}, 1), make(chan struct{}),
		make(chan struct{}), make(chan struct{}), stop}}
	c.asked.environments = map[string]bool{}
	c.asked.all, c.asked.alarms = options.Lasting || options.Force, true
	c.summary.Problems = map[string]string{}
	c.configure(options.Config)
	began := options.Now()
	go func() {
		defer close(c.done)
		c.run(ctx, began)
	}()
	return c
}

// Configure changes who is told, to what the production branch says now.
func (c *Courier) Configure(config project.Config) {
	if c == nil {
		return
	}
	c.mutex.Lock()
	c.configure(config)
	c.mutex.Unlock()
	c.Look()
}

// configure is Configure for who holds the mutex.
func (c *Courier) configure(config project.Config) {
	c.options.Config = config
	c.recipients, c.wants = recipientsOf(c.options), map[string]notices.Wants{}
	for name, r := range c.recipients {
		c.wants[name] = config.Notices[r.notice].Wants()
	}
	if c.record != nil {
		c.record.Recipients(slices.Collect(maps.Keys(c.recipients)), c.options.Now())
		c.dirty = true
	}
}

// Look says that something happened in environments, by their stored names, or that there is a
// build.
func (c *Courier) Look(environments ...string) {
	if c == nil {
		return
	}
	c.asked.mutex.Lock()
	for _, name := range environments {
		if name != "" {
			c.asked.environments[name] = true
		}
	}
	c.asked.mutex.Unlock()
	select {
	case c.wake <- struct{}{}:
	default: // it will look anyway
	}
}

// Finish has the courier look once more and send what it can, begin nothing after patience, and
// end. It returns what was sent and what is left.
func (c *Courier) Finish(ctx context.Context, patience time.Duration) Summary {
	if c == nil {
		return Summary{}
	}
	timer := time.AfterFunc(patience+lastAttempt, c.stop)
	defer timer.Stop()
	defer c.stop()
	over := time.AfterFunc(patience, c.end)
	defer over.Stop()
	close(c.last) // one more look, and the end when nothing is left to do
	select {
	case <-c.done:
	case <-ctx.Done(): // somebody presses Ctrl-C
		c.end()
		c.stop()
		<-c.done
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.record != nil {
		c.summary.Left = c.record.Left()
	}
	return c.summary
}

// The courier's own goroutine does everything but beating. Whoever calls its methods only leaves
// word for it: a deploy must not wait for a store that is asked about notices.

// run takes the turn, and looks and sends until there is nothing more to do.
func (c *Courier) run(ctx context.Context, began time.Time) {
	if !c.takeTurn(ctx, began) {
		return
	}
	defer c.leave(ctx)
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	var beating sync.WaitGroup
	defer beating.Wait()
	stopped := make(chan struct{})
	defer close(stopped)
	beating.Go(func() {
		for {
			select {
			case <-stopped:
				return
			case <-beat.C:
				c.mutex.Lock()
				c.record.Beat++
				c.dirty = true
				c.mutex.Unlock()
				c.write(ctx) //nolint:errcheck // it is written again
			}
		}
	})
	if c.options.Lasting {
		beating.Go(func() { c.heed(ctx, stopped) })
	}
	looked := time.Time{}
	for ctx.Err() == nil {
		last := isClosed(c.last) // before the look, so that what happened until now is seen
		if c.options.Lasting && time.Since(looked) > allEvery {
			c.asked.mutex.Lock()
			c.asked.all, c.asked.alarms = true, true
			c.asked.mutex.Unlock()
			looked = time.Now()
		}
		c.look(ctx)
		c.deliver(ctx)
		if last || isClosed(c.ending) {
			return
		}
		select {
		case <-c.wake:
		case <-c.last:
		case <-time.After(lookEvery): // a hint may be lost
		case <-ctx.Done():
		}
	}
}

// heed looks when somebody else has moved something, as the site's hint says.
func (c *Courier) heed(ctx context.Context, stopped <-chan struct{}) {
	tick := time.NewTicker(heedEvery)
	defer tick.Stop()
	var before []byte
	for {
		select {
		case <-stopped:
			return
		case <-tick.C:
		}
		bounded, cancel := context.WithTimeout(ctx, storeTime)
		hint, err := c.options.Store.Get(bounded, storage.PulseKey(c.options.Site))
		cancel()
		if err == nil && !bytes.Equal(hint, before) {
			before = hint
			c.Look()
		}
	}
}

// takeTurn waits for the turn. It returns false when there is no time left for that.
func (c *Courier) takeTurn(ctx context.Context, began time.Time) bool {
	for {
		c.mutex.Lock()
		names := slices.Collect(maps.Keys(c.recipients))
		c.mutex.Unlock()
		if len(names) > 0 { // else nobody is to be told, and nothing is asked of the store
			record, err := c.tryTurn(ctx, began, names)
			c.mutex.Lock()
			c.record, c.summary.Err, c.summary.Busy = record, err, record == nil && err == nil
			if record != nil { // who is told may have changed while the turn was taken
				c.configure(c.options.Config)
			}
			c.mutex.Unlock()
			if record != nil {
				return true
			}
		}
		select {
		case <-c.ending:
			return false
		case <-ctx.Done():
			return false
		case <-time.After(turnEvery):
		}
	}
}

// Of two that find the same last turn ended, both try to create the next number, and one does.
// The other one waits as if it had come later.

// tryTurn takes the turn if nobody has it; nil if somebody has.
func (c *Courier) tryTurn(ctx context.Context, began time.Time, names []string) (*notices.Record, error) {
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	last, item, turns, err := lastTurn(ctx, c.options.Store, c.options.Site)
	if err != nil {
		return nil, err
	}
	if last != nil && !last.Ended && !c.isGone(last, item) {
		return nil, nil
	}
	host, _ := os.Hostname()
	next := last.Next(c.options.Who, host, os.Getpid(), began)
	// Clocks of a store tell other times than this one, by a little.
	next.Recipients(names, began.Add(-time.Second))
	if last == nil {
		next.Since = began.Add(-time.Second).UTC().Truncate(time.Millisecond)
	}
	data, err := next.Encode()
	if err != nil {
		return nil, err
	}
	err = c.options.Store.Create(ctx, storage.NoticeKey(c.options.Site, next.Turn), data)
	if errors.Is(err, storage.ErrExists) {
		return nil, nil // somebody was faster
	}
	if err != nil {
		return nil, err
	}
	// The turns before the last one lead nowhere any more. A holder that was taken for gone may
	// still write its own: that is read by nobody.
	for _, item := range turns {
		if numberOf(item.Key) < next.Turn-1 {
			c.options.Store.Delete(ctx, item.Key) //nolint:errcheck // the next holder tries again
		}
	}
	return next, nil
}

// isGone reports whether the holder of a turn is there no more: a process of this machine can be
// looked for, and of another one its silence tells.
func (c *Courier) isGone(r *notices.Record, item storage.Item) bool {
	host, err := os.Hostname()
	if err == nil && host == r.Where && r.Process > 0 {
		return !steps.Alive(r.Process)
	}
	now := c.options.Now().Add(storage.KnownAhead(c.options.Store))
	return now.Sub(item.Modified) > goneAfter
}

// lastTurn returns the record of the newest turn, nil if there is none, and all that there are.
func lastTurn(ctx context.Context, store storage.Store, site string,
) (r *notices.Record, last storage.Item, items []storage.Item, err error) {
	for item, err := range store.List(ctx, storage.NoticesKey(site)) {
		if err != nil {
			return nil, item, nil, err
		}
		if numberOf(item.Key) > 0 {
			items = append(items, item)
		}
	}
	for _, item := range slices.Backward(items) {
		data, err := store.Get(ctx, item.Key)
		if errors.Is(err, storage.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, item, nil, err
		}
		r, err := notices.Decode(data)
		if err != nil || r.Turn != numberOf(item.Key) {
			// Of a later version, or damaged: its number is taken, and nothing else is known.
			r = &notices.Record{Format: notices.Format, Turn: numberOf(item.Key)}
		}
		return r, item, items, nil
	}
	return nil, storage.Item{}, items, nil
}

// numberOf is the number of a turn, 0 for what is not one.
func numberOf(key string) int64 {
	n, err := strconv.ParseInt(strings.TrimLeft(path.Base(key), "0"), 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// Read returns what was sent and what is to be, as the last turn has it; nil if nothing ever was.
func Read(ctx context.Context, store storage.Store, site string) (*notices.Record, error) {
	r, _, _, err := lastTurn(ctx, store, site)
	return r, err
}

// A look that fails half way keeps what it found: cursors and queue are in one record, so what is
// queued is what was passed. The rest is asked for again.

// look finds what is new, and queues it.
func (c *Courier) look(ctx context.Context) {
	c.mutex.Lock()
	room := c.record.HasRoom()
	c.mutex.Unlock()
	if !room {
		return
	}
	a := &c.asked
	a.mutex.Lock()
	all, alarms := a.all, a.alarms
	looking := notices.Looking{Store: c.options.Store, Site: c.options.Site, Now: c.options.Now(),
		Environments: slices.Collect(maps.Keys(a.environments)), All: all}
	a.all, a.alarms = false, false
	if c.options.Lasting {
		a.environments = map[string]bool{} // it meets many; what is late is found by hints
	}
	a.mutex.Unlock()
	wait := storeTime
	if all {
		wait = allTime
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	if alarms {
		looking.Alarms = alarmsOf(ctx, c.options.Store)
	}
	c.mutex.Lock()
	found, err := c.record.Look(ctx, looking)
	c.record.Add(found, c.wants)
	c.summary.Err, c.dirty = err, true
	c.mutex.Unlock()
	if err != nil { // again, with the next look
		a.mutex.Lock()
		defer a.mutex.Unlock()
		for _, name := range looking.Environments {
			a.environments[name] = true
		}
		a.all, a.alarms = a.all || all, a.alarms || alarms
	}
}

// alarmsOf asks edge nodes what somebody has to do.
func alarmsOf(ctx context.Context, store storage.Store) (list []string) {
	nodes, err := edge.Asked(ctx, store, storage.KnownAhead(store))
	if err != nil {
		return nil
	}
	for _, node := range nodes {
		list = append(list, node.Alarms...)
	}
	slices.Sort(list)
	return slices.Compact(list) // nodes of one store share their certificates
}

// write writes the record, if it changed since it was written.
func (c *Courier) write(ctx context.Context) error {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.writeLocked(ctx)
}

// writeLocked is write for who holds the mutex.
func (c *Courier) writeLocked(ctx context.Context) error {
	if !c.dirty {
		return nil
	}
	data, err := c.record.Encode()
	if err != nil || bytes.Equal(data, c.written) { // a look that found nothing
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	err = c.options.Store.Replace(ctx, storage.NoticeKey(c.options.Site, c.record.Turn), data)
	if c.dirty = err != nil; !c.dirty {
		c.written = data
	}
	return err
}

// leave ends the turn, so that the next one needs not wait.
func (c *Courier) leave(ctx context.Context) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.record.Ended, c.dirty = true, true
	c.summary.Err = errors.Join(c.summary.Err, c.writeLocked(context.WithoutCancel(ctx)))
}

// end says that nothing new is begun.
func (c *Courier) end() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	select {
	case <-c.ending:
	default:
		close(c.ending)
	}
}

// isClosed reports whether a channel is closed.
func isClosed(channel <-chan struct{}) bool {
	select {
	case <-channel:
		return true
	default:
		return false
	}
}
