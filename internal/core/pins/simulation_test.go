package pins_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/memory"
)

// sea is a store whose requests take their time, get lost, and arrive late; its
// clock is another than the machines'. Time is simulated.
type sea struct {
	memory.Store
	bound  time.Duration // how long after it was given up a request may still arrive
	ahead  time.Duration
	late   sync.WaitGroup
	mutex  sync.Mutex
	random *rand.Rand
}

func (s *sea) chance(n int) int {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.random.IntN(n)
}

// some is a time up to most, of any length: short ones are
// as frequent as long ones.
func (s *sea) some(most time.Duration) time.Duration {
	return most / time.Duration(1+s.chance(12)) * time.Duration(s.chance(1000)) / 1000
}

func (s *sea) Stat(ctx context.Context, key string) (storage.Item, error) {
	item, err := s.Store.Stat(ctx, key)
	item.Modified = item.Modified.Add(s.ahead)
	return item, err
}

func (s *sea) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		for item, err := range s.Store.List(ctx, folder) {
			if item.Modified = item.Modified.Add(s.ahead); !yield(item, err) {
				return
			}
		}
	}
}

// machine is what one process sees of the sea. It may be suspended, with
// everything that it does, and it may be killed.
type machine struct {
	*sea
	mutex sync.Mutex
	wakes time.Time
	dead  bool
	drift time.Duration // by how much its clock goes wrong once it has compared it with the store's
}

func newMachine(s *sea) *machine {
	return &machine{sea: s, drift: time.Duration(s.chance(51)-25) * time.Second}
}

func (m *machine) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		for item, err := range m.sea.List(ctx, folder) {
			if item.Modified = item.Modified.Add(m.drift); !yield(item, err) {
				return
			}
		}
	}
}

var errLost = errors.New("no answer")

// call lets a request happen: at some moment of it, or
// after it was given up, or never.
func (m *machine) call(ctx context.Context, do func() error) error {
	time.Sleep(m.some(2 * time.Second))
	m.mutex.Lock()
	if m.chance(60) == 0 {
		m.wakes = time.Now().Add(m.some(25 * time.Minute))
	}
	m.dead = m.dead || m.chance(250) == 0
	wakes := m.wakes
	m.mutex.Unlock()
	time.Sleep(time.Until(wakes))
	m.mutex.Lock()
	dead := m.dead
	m.mutex.Unlock()
	if dead {
		return errLost
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if m.chance(30) != 0 {
		err := do()
		time.Sleep(m.some(2 * time.Second))
		return err
	}
	patience, arrives := m.some(20*time.Minute), m.some(m.bound)
	if m.chance(2) == 0 { // the worst: as late as can be
		patience, arrives = time.Hour, m.bound-m.some(time.Second)
	}
	select { // it is given up
	case <-ctx.Done():
	case <-time.After(patience):
	}
	if m.chance(3) != 0 {
		m.late.Go(func() {
			time.Sleep(arrives)
			do() //nolint:errcheck // nobody is there any more
		})
	}
	return errLost
}

func (m *machine) Create(ctx context.Context, key string, data []byte) error {
	return m.call(ctx, func() error { return m.sea.Create(context.WithoutCancel(ctx), key, data) })
}

func (m *machine) Replace(ctx context.Context, key string, data []byte) error {
	return m.call(ctx, func() error { return m.sea.Replace(context.WithoutCancel(ctx), key, data) })
}

func (m *machine) Delete(ctx context.Context, key string) error {
	return m.Remove(ctx, []string{key})
}

// Remove removes in any order, and some of the keys later than others.
func (m *machine) Remove(ctx context.Context, keys []string) error {
	var group sync.WaitGroup
	errs := make([]error, len(keys))
	for i, key := range keys {
		group.Go(func() {
			errs[i] = m.call(ctx, func() error { return m.sea.Delete(context.WithoutCancel(ctx), key) })
		})
	}
	group.Wait()
	return errors.Join(errs...)
}

// voyage is one round: writers and removers that meet as chance has it.
type voyage struct {
	t    *testing.T
	sea  *sea
	mine sync.Mutex
	past map[string]bool // entries that nobody goes back to any more

	again, relied, wrote, removed int
}

func (v *voyage) count(what *int, n int) {
	v.mine.Lock()
	defer v.mine.Unlock()
	*what += n
}

// content is what lies in the sea, without asking it.
func (v *voyage) content(folder string) map[string]string {
	found := map[string]string{}
	for item, err := range v.sea.Store.List(context.Background(), folder) {
		require.NoError(v.t, err)
		data, err := v.sea.Store.Get(context.Background(), item.Key)
		if err == nil {
			found[item.Key] = string(data)
		}
	}
	return found
}

const (
	rootsFolder   = "sites/corvane/releases"
	entriesFolder = "sites/corvane/environments/production/journal"
)

// write makes a release and puts it live, or puts one live
// that is there. Whatever fails ends it.
func (v *voyage) write(id string) {
	ctx, m := context.Background(), newMachine(v.sea)
	time.Sleep(v.sea.some(40 * time.Minute))
	hold, err := pins.Take(ctx, m, id, pins.Pin{Site: "corvane"})
	if err != nil {
		return
	}
	defer hold.Drop(ctx)
	root := v.there(ctx, m, hold)
	if root == "" {
		root = v.make(ctx, m, hold)
	}
	if root == "" {
		return
	}
	time.Sleep(v.sea.some(25 * time.Minute))
	if hold.Writer().Create(ctx, entriesFolder+"/"+id, []byte(root)) == nil {
		v.count(&v.wrote, 1)
	}
}

// there chooses a release to go back to.
func (v *voyage) there(ctx context.Context, m *machine, hold *pins.Hold) string {
	for item, err := range m.List(ctx, rootsFolder) {
		if err != nil {
			break // a listing that broke off shows less to choose from
		}
		if v.sea.chance(3) == 0 && !hold.Doomed(item.Key) {
			if _, err := m.Get(ctx, item.Key); err == nil {
				v.count(&v.relied, 1)
				return item.Key
			}
		}
	}
	return ""
}

// make puts a few of few objects, and then a root that names them. The same
// objects make the same root.
func (v *voyage) make(ctx context.Context, m *machine, hold *pins.Hold) string {
	put := map[string]bool{}
	for range 1 + v.sea.chance(3) {
		put[fmt.Sprintf("objects/aa/%d", v.sea.chance(5))] = true
	}
	var names []string
	for key := range put {
		names = append(names, key)
	}
	slices.Sort(names)
	text := strings.Join(names, " ")
	root := rootsFolder + "/" + digest.Of([]byte(text)).String()
	put[root] = true
	for again := true; again; {
		for _, key := range names {
			if err := m.Create(ctx, key, nil); err != nil && !errors.Is(err, storage.ErrExists) {
				return ""
			}
		}
		time.Sleep(v.sea.some(15 * time.Minute))
		var err error
		if again, err = hold.Settle(ctx, func(key string) bool { return put[key] },
			func(string) {}); err != nil {
			return ""
		}
		if again {
			v.count(&v.again, 1)
		}
	}
	time.Sleep(v.sea.some(25 * time.Minute))
	if err := hold.Writer().Create(ctx, root, []byte(text)); err != nil &&
		!errors.Is(err, storage.ErrExists) {
		return ""
	}
	return root
}

// remove condemns some roots, of which no entry counts any more, and every
// object that no other root needs.
func (v *voyage) remove(id string) {
	ctx, m := context.Background(), newMachine(v.sea)
	time.Sleep(v.sea.some(50 * time.Minute))
	doomed := map[string]bool{}
	for root := range v.content(rootsFolder) {
		doomed[root] = v.sea.chance(2) == 0
	}
	v.mine.Lock()
	for entry, root := range v.content(entriesFolder) {
		v.past[entry] = v.past[entry] || doomed[root]
	}
	v.mine.Unlock()
	reached := v.needed(doomed)
	var keys []string
	for _, folder := range []string{rootsFolder, "objects/aa"} {
		for key := range v.content(folder) {
			if !reached[key] {
				keys = append(keys, key)
			}
		}
	}
	removal, err := pins.Condemn(ctx, m, id, pins.Record{Who: id, Keys: keys})
	if err != nil {
		return
	}
	defer removal.End(ctx) //nolint:errcheck // then it lapses
	if removal.Wait(ctx, nobody) != nil {
		return
	}
	reached = v.needed(doomed)
	keys = slices.DeleteFunc(keys, func(key string) bool { return reached[key] })
	time.Sleep(v.sea.some(30 * time.Minute))
	//nolint:errcheck // what it left is for others
	removal.Delete(ctx, keys, func(n int) { v.count(&v.removed, n) })
}

// needed are the roots that are not doomed, or named by an
// entry that counts, and all that they lead to.
func (v *voyage) needed(doomed map[string]bool) map[string]bool {
	v.mine.Lock()
	defer v.mine.Unlock()
	needed := map[string]bool{}
	for entry, root := range v.content(entriesFolder) {
		needed[root] = needed[root] || !v.past[entry]
	}
	for root, text := range v.content(rootsFolder) {
		if needed[root] = needed[root] || !doomed[root]; needed[root] {
			for object := range strings.FieldsSeq(text) {
				needed[object] = true
			}
		}
	}
	return needed
}

// broken names what is missing: of an entry that counts
// its root, of a root its objects.
func (v *voyage) broken() string {
	roots, objects := v.content(rootsFolder), v.content("objects/aa")
	for entry, root := range v.content(entriesFolder) {
		if _, there := roots[root]; !there && !v.past[entry] {
			return entry + " lacks " + root
		}
	}
	for root, text := range roots {
		for object := range strings.FieldsSeq(text) {
			if _, there := objects[object]; !there {
				return root + " lacks " + object
			}
		}
	}
	return ""
}

// sail lets one round happen and returns what is broken after it.
func sail(t *testing.T, seed uint64, round int, bound time.Duration) (v *voyage, broken string) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		random := rand.New(rand.NewPCG(seed, uint64(round)))
		ahead := time.Duration(random.IntN(9)-4) * time.Minute
		v = &voyage{t: t, sea: &sea{random: random, bound: bound, ahead: ahead}, past: map[string]bool{}}
		var all sync.WaitGroup
		for i := range 4 {
			all.Go(func() {
				for n := range 4 {
					v.write(fmt.Sprintf("w%d-%d", i, n))
				}
			})
		}
		for i := range 2 {
			all.Go(func() {
				for n := range 5 {
					v.remove(fmt.Sprintf("p%d-%d", i, n))
				}
			})
		}
		all.Wait()
		v.sea.late.Wait()
		broken = v.broken()
	})
	return v, broken
}

func seedAndRounds(t *testing.T, few, many int) (uint64, int) {
	t.Helper()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	return seed, soak.Rounds(few, many)
}

// TestWhateverMeetsARootImpliesItsObjects and an entry its root: requests are
// lost and late, clocks differ, processes are suspended and killed, and what is
// made is often just what is being removed.
func TestWhateverMeetsARootImpliesItsObjects(t *testing.T) {
	t.Parallel()
	seed, rounds := seedAndRounds(t, 15, 5000)
	var again, relied, wrote, removed int
	for round := range rounds {
		v, broken := sail(t, seed, round, pins.Landing)
		require.Empty(t, broken, "round %d, seed %d", round, seed)
		again, relied, wrote, removed = again+v.again, relied+v.relied, wrote+v.wrote, removed+v.removed
	}
	t.Logf("%d entries written, %d keys removed; %d times put again, %d times relied on what was there",
		wrote, removed, again, relied)
	require.Greater(t, removed, rounds)
	require.Greater(t, wrote, rounds)
	require.Greater(t, relied, rounds/2)
}

// TestTheBoundIsNeeded shows that the simulation finds
// what docs/trust.md assumes away: requests that arrive
// long after they were given up break a store.
func TestTheBoundIsNeeded(t *testing.T) {
	t.Parallel()
	seed, rounds := seedAndRounds(t, 4000, 4000)
	for round := range rounds {
		if _, broken := sail(t, seed, round, 30*time.Minute); broken != "" {
			t.Logf("round %d: %s", round, broken)
			return
		}
	}
	t.Error("nothing broke")
}
