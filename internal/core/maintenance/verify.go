package maintenance

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Damage is something that is not as it was written.
type Damage struct {
	Key      string   `json:"key"`
	What     string   `json:"what"`              // "missing", or what is wrong
	Affects  []string `json:"affects,omitempty"` // the pages and releases that need it, the first few
	Repaired bool     `json:"repaired,omitempty"`
	Remains  string   `json:"remains,omitempty"` // why it was not repaired
}

// Verified is what a verification found.
type Verified struct {
	Sites    int      `json:"sites"`
	Entries  int      `json:"entries"`
	Releases int      `json:"releases"`
	Objects  int64    `json:"objects"`
	Variants int64    `json:"variants"` // encoded copies of objects
	Bytes    int64    `json:"bytes"`
	Damage   []Damage `json:"damage,omitempty"`
	Gone     int      `json:"gone"` // entries whose release was pruned
}

// verifier goes through a store and notes what is wrong; it changes nothing.
type verifier struct {
	keeper
	result  Verified
	checked map[digest.Digest]int64 // the sizes of objects that something leads to; -1 if nobody says
	// damaged are objects that were found to be; what they affect is found out
	// by going through everything again.
	damaged map[digest.Digest]*Damage

	objects, bytes atomic.Int64
}

// maxAffects is how many are told of what a damage affects.
const maxAffects = 5

// Verify checks every journal, root, chunk, record and
// object that anything leads to; objects are read and
// hashed. It changes nothing. sites limits it; nil for all.
func Verify(ctx context.Context, store storage.Store, sites []string, tell Tell) (Verified, error) {
	v := &verifier{keeper: keeper{store: store, tell: tell}, checked: map[digest.Digest]int64{}}
	if sites == nil {
		var err error
		if sites, err = Sites(ctx, store); err != nil {
			return v.result, err
		}
	}

	if err := v.walk(ctx, sites); err != nil {
		return v.result, err
	}
	if err := v.hosts(ctx); err != nil {
		return v.result, err
	}

	// First what is damaged, and only then what it affects: to remember for
	// each object what needs it would take more memory than a store of millions
	// leaves.
	damaged, err := v.rehash(ctx)
	if err == nil {
		err = v.variants(ctx, damaged)
	}
	v.result.Objects, v.result.Bytes = v.objects.Load(), v.bytes.Load()
	if err == nil && len(damaged) > 0 {
		again := &verifier{keeper: keeper{store: store, tell: tell}, checked: map[digest.Digest]int64{},
			damaged: damaged}
		err = again.walk(ctx, sites)
	}

	for _, d := range damaged {
		slices.SortFunc(d.Affects, liveFirst)
		v.result.Damage = append(v.result.Damage, *d)
	}
	slices.SortFunc(v.result.Damage, func(a, b Damage) int { return compare(a.Key, b.Key) })
	return v.result, err
}

// walk looks through sites, one after another.
func (v *verifier) walk(ctx context.Context, sites []string) error {
	for _, site := range sites {
		v.result.Sites++
		if err := v.site(ctx, site); err != nil {
			return err
		}
	}
	return nil
}

// hosts checks the journals that say whom hosts belong to.
func (v *verifier) hosts(ctx context.Context) error {
	folders, err := v.list(ctx, storage.HostsKey)
	if err != nil {
		return err
	}
	return each(ctx, &v.keeper, folders, func(ctx context.Context, folder storage.Item) error {
		items, err := v.list(ctx, folder.Key)
		if err != nil {
			return err
		}
		// In order, since each entry has to name the bytes of the one before.
		var before []byte
		for i, item := range items {
			data, err := v.store.Get(ctx, item.Key)
			if err != nil {
				return err
			}
			if err := hosts.Follows(data, folder.Name(), int64(i+1), before); err != nil {
				v.damage(item.Key, err.Error(), "the owner of a host")
			}
			before = data
		}

		return nil
	})
}

// damage notes what is wrong with a key, and what that affects.
func (v *verifier) damage(key, what string, affects ...string) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	v.result.Damage = append(v.result.Damage, Damage{Key: key, What: what, Affects: affects})
}

// liveFirst puts before others what visitors see.
func liveFirst(a, b string) int {
	aLive, bLive := strings.Contains(a, ", live in "), strings.Contains(b, ", live in ")
	switch {
	case aLive && !bLive:
		return -1
	case bLive && !aLive:
		return 1
	default:
		return compare(a, b)
	}
}

// need notes that something leads to an object. what says what, in words.
func (v *verifier) need(d digest.Digest, size int64, what func() string) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	// The second time round: only what needs a damaged object is noted, the
	// first few.
	if v.damaged != nil {
		if damage := v.damaged[d]; damage != nil && len(damage.Affects) < maxAffects {
			if affects := what(); !slices.Contains(damage.Affects, affects) {
				damage.Affects = append(damage.Affects, affects)
			}
		}
		return
	}

	if said, known := v.checked[d]; !known || said < 0 {
		v.checked[d] = size
	}
}

// site looks through one site: its claim, its journals, its build records and
// the releases that any of them names.
func (v *verifier) site(ctx context.Context, site string) error {
	_, claimErr := v.store.Get(ctx, storage.ClaimKey(site))
	if claimErr != nil && !errors.Is(claimErr, storage.ErrNotFound) {
		return claimErr
	}
	there, err := v.releases(ctx, site)
	if err != nil {
		return err
	}

	environments, err := v.environments(ctx, site)
	if err != nil {
		return err
	}

	// builds that failed before the first deploy leave no claim
	if claimErr != nil && len(there)+len(environments) > 0 {
		v.damage(storage.ClaimKey(site), "missing", "the owner of the name "+site+" is")
	}
	live := map[release.ID]string{}
	for _, environment := range environments {
		if err := v.entries(ctx, site, environment, there, live); err != nil {
			return err
		}
	}

	var ids []release.ID
	for id := range there {
		ids = append(ids, id)
	}
	err = each(ctx, &v.keeper, ids,
		func(ctx context.Context, id release.ID) error { return v.release(ctx, site, id, live[id]) })
	if err != nil {
		return err
	}

	records, err := v.builds(ctx, site,
		func(key string, err error) { v.damage(key, err.Error(), "how a release was built") })
	for _, record := range records {
		for _, object := range record.objects() {
			v.need(object, -1, func() string { return "the log and rules of build " + record.Name()[:10] })
		}
	}

	if err != nil {
		return err
	}
	_, err = v.runs(ctx, site,
		func(key string, err error) {
			v.damage(key, err.Error(),
				"what orilla builds and orilla usage show")
		})

	return err
}

// entries checks a journal: each entry reads, and names
// the bytes of the one before.
func (v *verifier) entries(ctx context.Context, site, environment string, there map[release.ID]storage.Item,
	live map[release.ID]string,
) error {
	items, err := v.list(ctx, storage.EnvironmentsKey(site)+"/"+environment+"/journal")
	if err != nil {
		return err
	}
	// Numbers have no gaps, so the highest says how many there must be; one
	// that is not listed is missing.
	last := 0
	for _, item := range items {
		if n, err := strconv.Atoi(item.Name()); err == nil {
			last = max(last, n)
		}
	}

	name := site + " " + journal.DisplayName(environment)
	entries := make([]*journal.Entry, last)
	sums := make([]digest.Digest, last)
	j := v.journal(site, environment)
	numbers := make([]int, last)
	for i := range numbers {
		numbers[i] = i
	}

	err = each(ctx, &v.keeper, numbers, func(ctx context.Context, i int) error {
		data, err := v.store.Get(ctx, storage.JournalKey(site, environment, int64(i+1)))
		switch {
		case errors.Is(err, storage.ErrNotFound):
			v.damage(storage.JournalKey(site, environment, int64(i+1)), "missing",
				fmt.Sprintf("the history of %s from there on", name))
			return nil
		case err != nil:
			return err
		}

		sums[i] = digest.Of(data)
		entry, err := journal.Decode(data, j.Site, j.Environment, int64(i+1))
		if err != nil {
			v.damage(storage.JournalKey(site, environment, int64(i+1)), err.Error(),
				fmt.Sprintf("the history of %s", name))
			return nil
		}
		entries[i] = &entry
		return nil
	})
	if err != nil {
		return err
	}

	v.result.Entries += last
	// Compared after all are read, so that they can be read many at a time.
	for i, entry := range entries {
		if entry == nil {
			continue
		}
		if i > 0 && entries[i-1] != nil && entry.Previous != sums[i-1] {
			v.damage(storage.JournalKey(site, environment, int64(i)),
				"not the bytes that the entry after it names", fmt.Sprintf("the history of %s", name))
		}
		v.leadsTo(site, *entry, i == last-1, there, live)
	}

	return nil
}

// leadsTo notes what an entry needs: the last one its release and document,
// earlier ones only that they can be read.
func (v *verifier) leadsTo(site string, entry journal.Entry, isHead bool, there map[release.ID]storage.Item,
	live map[release.ID]string,
) {
	name := journal.DisplayName(entry.Environment)
	if isHead && !entry.Document.IsZero() {
		v.need(entry.Document, -1, func() string { return "the addresses of " + site + " " + name })
	}
	if entry.Release.IsZero() {
		return
	}

	// An earlier entry whose release is gone is what pruning leaves. The last
	// one's release must be there.
	_, whole := there[entry.Release]
	switch {
	case isHead && !whole:
		v.damage(storage.ReleaseKey(site, entry.Release.String()), "missing",
			site+" "+name+" as a whole, which is live")
	case isHead:
		live[entry.Release] = "live in " + name
	case !whole:
		v.result.Gone++
	}
}

// release checks a root and its chunks, and notes what they lead to.
func (v *verifier) release(ctx context.Context, site string, id release.ID, live string) error {
	v.mutex.Lock()
	v.result.Releases++
	v.mutex.Unlock()
	// In words that people can act on: which release, and whether visitors see
	// it.
	about := site + " " + id.Short()
	if live != "" {
		about += ", " + live
	}

	data, err := v.store.Get(ctx, storage.ReleaseKey(site, id.String()))
	if errors.Is(err, storage.ErrNotFound) {
		return nil // pruned since
	}
	if err != nil {
		return err
	}

	root, err := release.DecodeRoot(data, id)
	if err != nil {
		v.damage(storage.ReleaseKey(site, id.String()), err.Error(), about)
		return nil
	}

	for what, set := range map[string]*release.RuleSet{"the rules": root.Rules,
		"the list of unchanging files": root.Immutable} {
		for i, object := range set.Objects() {
			v.need(object, release.File{Size: set.Size, Parts: set.Parts}.PartLength(i),
				func() string { return what + " of " + about })
		}
	}

	reader := release.NewReader(id, root, v.chunk)
	return reader.Visit(ctx, func(chunk digest.Digest) bool {
		v.need(chunk, -1, func() string { return "a part of the list of files of " + about })
		return true
	}, func(file release.File) error {
		for i, object := range file.Objects() {
			v.need(object, file.PartLength(i), func() string { return "/" + file.Path + " of " + about })
		}
		return nil
	})
}

// chunk reads a chunk; one that is damaged is left out, so
// that the rest of the release is looked at.
func (v *verifier) chunk(ctx context.Context, d digest.Digest) ([]byte, error) {
	data, err := v.load(ctx, d)
	if errors.Is(err, storage.ErrNotFound) || errors.Is(err, release.ErrDamaged) {
		return nil, nil // found again when all objects are hashed
	}
	return data, err
}

// rehash reads every object that something leads to, and
// returns those that are damaged.
func (v *verifier) rehash(ctx context.Context) (map[digest.Digest]*Damage, error) {
	damaged := map[digest.Digest]*Damage{}
	bad := func(d digest.Digest, what string) {
		v.mutex.Lock()
		defer v.mutex.Unlock()
		damaged[d] = &Damage{Key: d.Key(), What: what}
	}

	list := make([]digest.Digest, 0, len(v.checked))
	for d := range v.checked {
		list = append(list, d)
	}
	return damaged, each(ctx, &v.keeper, list, func(ctx context.Context, d digest.Digest) error {
		size := v.checked[d]
		data, err := v.store.Get(ctx, d.Key())
		v.tell("reading objects", v.objects.Add(1), int64(len(list)))
		v.bytes.Add(int64(len(data)))

		switch {
		case errors.Is(err, storage.ErrNotFound):
			bad(d, "missing")
		case err != nil:
			return err
		case digest.Of(data) != d:
			bad(d, "its bytes have another hash")
		case size >= 0 && int64(len(data)) != size:
			bad(d, fmt.Sprintf("it has %d bytes where %d are said", len(data), size))
		}

		return nil
	})
}

// variants decodes the encoded copies of the objects that something leads to, and compares
// them with their sources. Of sources that are damaged nothing can be said.
func (v *verifier) variants(ctx context.Context, damaged map[digest.Digest]*Damage) error {
	items, err := v.deep(ctx, coding.Folder)
	if err != nil {
		return err
	}
	return each(ctx, &v.keeper, items, func(ctx context.Context, item storage.Item) error {
		of, c, named := coding.FromKey(item.Key)
		size, needed := v.checked[of]
		// Others wait for a prune.
		if !named || !needed || damaged[of] != nil {
			return nil
		}
		if size < 0 {
			source, err := v.store.Stat(ctx, of.Key())
			if err != nil {
				return err
			}
			size = source.Size
		}
		data, err := storage.Slice(ctx, v.store, item.Key, 0, int(min(size, coding.Most)))
		if errors.Is(err, storage.ErrNotFound) {
			return nil // thrown away since
		}
		if err != nil {
			return err
		}
		if err := coding.Verify(c, data, of, size); err != nil {
			v.damage(item.Key, err.Error(), "no visitor: edge nodes throw it away and make it anew")
		}
		v.mutex.Lock()
		v.result.Variants++
		v.mutex.Unlock()
		v.bytes.Add(int64(len(data)))
		return nil
	})
}

// Repair brings back from another store what a verification
// found damaged; an encoded copy is removed, since it is made
// anew. It takes nothing that does not prove itself:
// objects and roots by their hashes, journal entries by what
// the entry after them says, all else by being readable.
func Repair(ctx context.Context, store, from storage.Store, found *Verified, tell Tell) error {
	for i := range found.Damage {
		d := &found.Damage[i]
		tell("repairing", int64(i), int64(len(found.Damage)))
		if _, _, isVariant := coding.FromKey(d.Key); isVariant {
			if err := store.Delete(ctx, d.Key); err != nil {
				return err
			}
			d.Repaired = true
			continue
		}
		// The other store is not trusted: what comes from it proves itself or
		// is left out.
		data, err := from.Get(ctx, d.Key)
		if errors.Is(err, storage.ErrNotFound) {
			d.Remains = "the other store does not have it either"
			continue
		}
		if err != nil {
			return err
		}

		if err := proves(ctx, store, d.Key, data); err != nil {
			d.Remains = "what the other store has is not it: " + err.Error()
			continue
		}
		if err := store.Replace(ctx, d.Key, data); err != nil {
			return err
		}
		d.Repaired = true
	}
	return nil
}

// proves reports whether bytes are what a key holds.
func proves(ctx context.Context, store storage.Store, key string, data []byte) error {
	parts := strings.Split(key, "/")
	name := parts[len(parts)-1]
	switch {
	case parts[0] == storage.ObjectsKey:
		if digest.Of(data).String() != name {
			return release.ErrDamaged
		}
	case len(parts) == 4 && parts[2] == "releases":
		id, err := release.ParseID(name)
		if err == nil {
			_, err = release.DecodeRoot(data, id)
		}
		return err
	case len(parts) == 6 && parts[4] == "journal":
		var number int64
		if _, err := fmt.Sscan(strings.TrimLeft(name, "0"), &number); err != nil {
			return err
		}
		if _, err := journal.Decode(data, parts[1], parts[3], number); err != nil {
			return err
		}
		j := journal.Journal{Store: store, Site: parts[1], Environment: parts[3]}
		// The entry after it names its hash, so a copy that was changed is
		// noticed. Of the last entry nothing says more than that it reads.
		if next, err := j.Get(ctx, number+1); err == nil && next.Previous != digest.Of(data) {
			return errors.New("the entry after it names other bytes")
		}
	case len(parts) == 5 && parts[2] == "builds":
		_, err := builds.Decode(data)
		return err
	case len(parts) == 5 && parts[2] == "runs":
		_, err := decodeHalf(key, data)
		return err
	}

	return nil
}
