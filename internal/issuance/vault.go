package issuance

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/caddyserver/certmagic"
	"golang.org/x/sync/singleflight"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
)

// vault keeps what certmagic keeps (accounts, private keys, certificates, what challenges
// are to be answered with) in a store that others can read and write: sealed, so that only
// nodes know it, and so that nobody else can make up any of it. That counts for the answers
// to challenges most of all: who could write those could have certificates issued to
// themselves for our names.
//
//	certificates/<sha256 of name>/<generation>    created once, durable; the highest counts
//
// A generation is the time in microseconds, and more than the one before: also after a
// value was deleted. A vault that has seen a generation refuses an older one.
type vault struct {
	store  storage.Store
	id     string // of the store
	secret *sealed.Secret
	node   string // for locks

	asking asking

	mutex sync.Mutex
	seen  map[string]int64 // generations, by folder
	locks map[string]*lock // held, by name
}

var _ certmagic.Storage = (*vault)(nil)

// newVault returns the vault of a node.
func newVault(o Options) *vault {
	return &vault{store: o.Store, id: o.StoreID, secret: o.Secret, node: o.Node, seen: map[string]int64{},
		locks: map[string]*lock{}, asking: asking{rate: rate.NewLimiter(looksMost, looksMost)}}
}

// content is what is sealed: the name, since folders have only its digest.
type content struct {
	Name  string `json:"name"`
	Value []byte `json:"value"`
}

// errOlder: somebody has put back what was there before.
var errOlder = errors.New("an older version of it was put back")

// folderOf is where the versions of a name are.
func folderOf(name string) string {
	return storage.CertificatesKey + "/" + digest.Of([]byte(name)).String()
}

// keyOf is where one version is.
func keyOf(folder string, generation int64) string {
	const digits = 20
	return fmt.Sprintf("%s/%0*d", folder, digits, generation)
}

// generations lists the versions in a folder, oldest first.
func (v *vault) generations(ctx context.Context, folder string) (list []int64, err error) {
	for item, err := range v.store.List(ctx, folder) {
		if err != nil {
			return nil, err
		}
		// Locks lie beside them.
		if n, err := strconv.ParseInt(item.Name(), 10, 64); err == nil {
			list = append(list, n)
		}
	}
	slices.Sort(list)
	return list, nil
}

// read opens the newest version in a folder. The error is fs.ErrNotExist if there is none.
func (v *vault) read(ctx context.Context, folder string) (c content, generation int64, err error) {
	// Between listing and reading a newer version may have taken its place.
	for range 3 {
		list, err := v.generations(ctx, folder)
		if err != nil {
			return c, 0, err
		}
		if len(list) == 0 {
			return c, 0, fs.ErrNotExist
		}
		generation = list[len(list)-1]
		data, err := v.store.Get(ctx, keyOf(folder, generation))
		if errors.Is(err, storage.ErrNotFound) {
			continue // a newer one has taken its place
		}
		if err != nil {
			return c, 0, err
		}
		c, err = v.open(folder, generation, data)
		return c, generation, err
	}
	return c, 0, fs.ErrNotExist
}

// open opens one version.
func (v *vault) open(folder string, generation int64, data []byte) (c content, err error) {
	opened, bound, err := v.secret.Open(sealed.Place{Store: v.id, Name: folder}, data)
	if err != nil {
		return c, fmt.Errorf("%s %w", folder, err)
	}
	if err := json.Unmarshal(opened, &c); err != nil || bound != generation || folderOf(c.Name) != folder {
		return c, fmt.Errorf("%s: it is of another place", folder)
	}
	// Whoever has the store's credentials can put an older one back. A node that has seen the
	// newer one is not taken in; one that starts anew cannot know, and uses a certificate that
	// was ours.
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if generation < v.seen[folder] {
		return c, fmt.Errorf("%s: %w", c.Name, errOlder)
	}
	v.seen[folder] = generation
	return c, nil
}

// Store implements certmagic.Storage.
func (v *vault) Store(ctx context.Context, name string, value []byte) error {
	folder := folderOf(name)
	data, err := json.Marshal(content{name, value})
	if err != nil {
		return err
	}
	for range 5 {
		before, err := v.generations(ctx, folder)
		if err != nil {
			return err
		}
		// Clocks of nodes differ; the number before counts more than any of them.
		generation := time.Now().UnixMicro()
		if len(before) > 0 {
			generation = max(generation, before[len(before)-1]+1)
		}
		record, err := v.secret.Seal(sealed.Place{Store: v.id, Name: folder}, generation, data)
		if err != nil {
			return err
		}
		err = v.store.Create(ctx, keyOf(folder, generation), record)
		if errors.Is(err, storage.ErrExists) {
			continue // another node, in the same microsecond
		}
		if err != nil {
			return err
		}
		v.mutex.Lock()
		v.seen[folder] = max(v.seen[folder], generation)
		v.mutex.Unlock()
		// Certificates are renewed every two months: without this, dozens would lie there, each
		// with a key. What it replaces goes; if it stays, the next one takes it along.
		for _, old := range before {
			v.store.Delete(ctx, keyOf(folder, old)) //nolint:errcheck // see above
		}
		return nil
	}
	return fmt.Errorf("%s: other nodes keep writing it", name)
}

// Load implements certmagic.Storage.
func (v *vault) Load(ctx context.Context, name string) ([]byte, error) {
	if strings.Contains(name, challengeTokens) {
		return v.challenge(ctx, name)
	}
	c, _, err := v.read(ctx, folderOf(name))
	return c.Value, err
}

// challengeTokens is in the names under which certmagic keeps what challenges are to be
// answered with, one for each host that is being ordered.
const challengeTokens = "/challenge_tokens/"

// asking bounds what strangers can make the store do by asking as an authority would: of a
// host that is configured there may be an answer at any moment, ordered by another node.
//
//	one look at a time, for all who ask for the same host
//	what it found, or did not find, counts for a tenth of a second
//	twenty a second for all hosts
//
// That is short enough for an authority, which asks a moment after it was told to.
type asking struct {
	group singleflight.Group
	rate  *rate.Limiter
	mutex sync.Mutex
	found map[string]found
}

// found is what a look found, also that there is nothing: most who ask for a challenge are no
// authority, and ask for one that was never made.
type found struct {
	at    time.Time
	value []byte
	err   error
}

// The bounds of looks for challenges.
const (
	foundFor   = 100 * time.Millisecond
	looksMost  = 20 // a second
	foundHosts = 256
)

// challenge looks for what a challenge is to be answered with.
func (v *vault) challenge(ctx context.Context, name string) ([]byte, error) {
	v.asking.mutex.Lock()
	f, ok := v.asking.found[name]
	v.asking.mutex.Unlock()
	if ok && time.Since(f.at) < foundFor {
		return f.value, f.err
	}
	value, err, _ := v.asking.group.Do(name, func() (any, error) {
		// Who asks first may be gone before the others are answered.
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		if err := v.asking.rate.Wait(limited); err != nil {
			return []byte(nil), fs.ErrNotExist
		}
		c, _, err := v.read(limited, folderOf(name))
		v.asking.mutex.Lock()
		defer v.asking.mutex.Unlock()
		if v.asking.found == nil || len(v.asking.found) >= foundHosts {
			v.asking.found = map[string]found{}
		}
		v.asking.found[name] = found{time.Now(), c.Value, err}
		return c.Value, err
	})
	data, _ := value.([]byte)
	return data, err
}

// Delete implements certmagic.Storage: of a name, and of all names below it.
func (v *vault) Delete(ctx context.Context, name string) error {
	// A name may be a value, or the beginning of others, or both.
	names := []string{name}
	below, err := v.List(ctx, name, true)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, one := range append(names, below...) {
		folder := folderOf(one)
		list, err := v.generations(ctx, folder)
		if err != nil {
			return err
		}
		for _, generation := range list {
			if err := v.store.Delete(ctx, keyOf(folder, generation)); err != nil {
				return err
			}
		}
	}
	return nil
}

// Exists implements certmagic.Storage.
func (v *vault) Exists(ctx context.Context, name string) bool {
	list, err := v.generations(ctx, folderOf(name))
	if err == nil && len(list) > 0 {
		return true
	}
	below, err := v.List(ctx, name, true)
	return err == nil && len(below) > 0
}

// List implements certmagic.Storage. Each name has to be opened to be known, so it is slow,
// and certmagic asks rarely.
func (v *vault) List(ctx context.Context, prefix string, recursive bool) (names []string, err error) {
	for item, err := range v.store.List(ctx, storage.CertificatesKey) {
		if err != nil {
			return nil, err
		}
		c, _, err := v.read(ctx, item.Key)
		if err != nil {
			continue // gone since, a lock, or somebody else's
		}
		rest, below := strings.CutPrefix(c.Name, prefix+"/")
		if prefix != "" && !below {
			continue
		}
		if prefix == "" {
			rest = c.Name
		}
		if first, _, deeper := strings.Cut(rest, "/"); deeper && !recursive {
			rest = first
		}
		if name := path.Join(prefix, rest); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil, fs.ErrNotExist
	}
	slices.Sort(names)
	return names, nil
}

// Stat implements certmagic.Storage.
func (v *vault) Stat(ctx context.Context, name string) (certmagic.KeyInfo, error) {
	c, generation, err := v.read(ctx, folderOf(name))
	if errors.Is(err, fs.ErrNotExist) && v.Exists(ctx, name) {
		return certmagic.KeyInfo{Key: name}, nil
	}
	if err != nil {
		return certmagic.KeyInfo{}, err
	}
	return certmagic.KeyInfo{Key: name, Modified: time.UnixMicro(generation), Size: int64(len(c.Value)),
		IsTerminal: true}, nil
}
