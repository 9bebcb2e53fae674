package maintenance

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// Right is something that one may do in a store, or not.
type Right struct {
	Name string `json:"right"` // "read", "list", "create", "create only once", "replace", "delete"
	Has  bool   `json:"has"`
	Why  string `json:"why,omitempty"` // what the store said instead
}

// Rights tries what may be done in a store, with a small record
// of its own, which it takes away again. The error is one that
// says nothing of rights, such as storage.ErrUnreachable.
func Rights(ctx context.Context, store storage.Store) ([]Right, error) {
	key := "probe/" + strings.ToLower(rand.Text())
	content := []byte(key)
	var rights []Right
	try := func(name string, err error) error {
		rights = append(rights, Right{Name: name, Has: err == nil})
		if err == nil {
			return nil
		}
		rights[len(rights)-1].Why = err.Error()
		if errors.Is(err, storage.ErrDenied) || errors.Is(err, storage.ErrReadOnly) ||
			errors.Is(err, errBroken) {
			return nil
		}
		return err
	}

	_, err := store.Get(ctx, storage.MarkKey)
	if err := try("read", err); err != nil {
		return rights, err
	}
	_, err = (&keeper{store: store}).list(ctx, storage.PruneKey) // what every role lists
	if err := try("list", err); err != nil {
		return rights, err
	}

	err = store.Create(ctx, key, content)
	if err := try("create", err); err != nil || !rights[len(rights)-1].Has {
		return rights, err
	}
	if err = store.Create(ctx, key, []byte("another")); errors.Is(err, storage.ErrExists) {
		err = nil
	} else if err == nil {
		err = fmt.Errorf("%w: a record was written over", errBroken)
	}

	if err := try("create only once", err); err != nil {
		return rights, err
	}
	if err := try("replace", store.Replace(ctx, key, content)); err != nil {
		return rights, err
	}
	return rights, try("delete", store.Delete(ctx, key))
}

// Duty says whether somebody may do what a role does, as
// far as that can be tried.
type Duty struct {
	Role  storage.Role `json:"role"`
	Can   bool         `json:"can"`
	Lacks []string     `json:"lacks,omitempty"` // "delete objects/**"
}

// Duties tries, in a store that tells who may do what for each
// key, what the table of kinds says of each role: deleting what
// is not there, and writing content. site is one whose keys are
// tried; "" for none. What may be read was tried before.
func Duties(ctx context.Context, store storage.Store, site string) ([]Duty, error) {
	denied := func(err error) (bool, error) {
		if errors.Is(err, storage.ErrDenied) || errors.Is(err, storage.ErrReadOnly) {
			return true, nil
		}
		return false, err
	}

	duties := make([]Duty, len(storage.Roles))
	for i, role := range storage.Roles {
		duties[i] = Duty{Role: role, Can: true}
	}
	lacks := func(what string, has func(storage.Role) bool) {
		for i := range duties {
			if has(duties[i].Role) {
				duties[i].Can = false
				duties[i].Lacks = append(duties[i].Lacks, what)
			}
		}
	}

	content := []byte("orilla may write here")
	no, err := denied(store.Create(ctx, digest.Of(content).Key(), content)) // a prune takes it away
	if err != nil && !errors.Is(err, storage.ErrExists) {
		return nil, err
	}

	for _, kind := range storage.Kinds {
		if kind.Folder() == "" && !kind.OfSite() || kind.OfSite() && site == "" {
			continue
		}
		// Encoded copies save work. Whoever may not keep any does the rest as before. And most
		// nodes have no certificates issued: those that do say what they lack.
		if strings.HasPrefix(kind.Pattern, coding.Folder+"/") ||
			strings.HasPrefix(kind.Pattern, storage.CertificatesKey+"/") {
			continue
		}
		if kind.Pattern == storage.ObjectsKey+"/**" && no {
			lacks("write "+kind.Pattern, kind.Writes)
		}

		absent := strings.ToLower(rand.Text())
		key := strings.NewReplacer("SITE", site, "**", "absent/"+absent, "*", absent).Replace(kind.Pattern)
		if kind.Folder() == "" {
			continue // a key of the site's own, which is there
		}

		no, err := denied(store.Delete(ctx, key))
		if err != nil {
			return nil, err
		}
		if no {
			lacks("delete "+kind.Pattern, kind.Deletes)
		}
	}

	return duties, nil
}

// errBroken: the store does not do what it must.
var errBroken = errors.New("the store does not keep what was created first")

// Race lets sixteen writers create the same record, twenty times, and returns
// an error that says what happened unless each time exactly one won and its
// bytes are there. storage.ErrUnable is what a store is that fails.
func Race(ctx context.Context, store storage.Store, tell Tell) error {
	const rounds, writers = 20, 16
	base := "probe/" + strings.ToLower(rand.Text()) + "-"
	var keys []string
	//nolint:errcheck // litter of a few bytes
	defer func() { storage.Remove(context.WithoutCancel(ctx), store, keys) }()

	for round := range rounds {
		tell("racing writers", int64(round), rounds)
		key := fmt.Sprintf("%s%d", base, round)
		keys = append(keys, key)
		var winners atomic.Int32
		var winner atomic.Value
		var failed error
		var mutex sync.Mutex
		var group sync.WaitGroup
		for i := range writers {
			group.Go(func() {
				data := fmt.Sprintf("writer %d of round %d", i, round)
				switch err := store.Create(ctx, key, []byte(data)); {
				case err == nil:
					winners.Add(1)
					winner.Store(data)
				case !errors.Is(err, storage.ErrExists):
					mutex.Lock()
					failed = errors.Join(failed, err)
					mutex.Unlock()
				}
			})
		}

		group.Wait()
		if failed != nil {
			return failed
		}
		data, err := store.Get(ctx, key)
		if err != nil {
			return err
		}

		if winners.Load() != 1 || string(data) != winner.Load() {
			return fmt.Errorf("%w: in round %d of %d, %d of %d writers were told that "+
				"they had created the same record", storage.ErrUnable, round+1, rounds, winners.Load(),
				writers)
		}
	}

	return nil
}

// Holdings is how much lies in a store.
type Holdings struct {
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
}

// Measure counts the objects of a store.
func Measure(ctx context.Context, store storage.Store, tell Tell) (Holdings, error) {
	k := &keeper{store: store, tell: tell}
	items, err := k.objects(ctx)
	holdings := Holdings{Objects: int64(len(items))}
	for _, item := range items {
		holdings.Bytes += item.Size
	}
	return holdings, err
}
