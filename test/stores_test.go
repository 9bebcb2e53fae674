package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/storetest"
)

// elsewhere is a store that is not a folder of this
// machine, as far as the program is concerned.
type elsewhere struct {
	address string
	folder  string // where its keys lie as files all the same
	stop    func()
	start   func() error
	as      map[storage.Role][]string // variables by which somebody of a role is known; nil where all are one
}

// servers are the kinds of store elsewhere, each on a real server.
var servers = map[string]func(t *testing.T) elsewhere{
	"ssh": func(t *testing.T) elsewhere {
		t.Helper()
		s := storetest.SSH(t, "")
		return elsewhere{s.Store("corvane"), filepath.Join(s.Folder, "corvane"), s.Stop, s.Start, nil}
	},
	"s3": func(t *testing.T) elsewhere {
		t.Helper()
		s := storetest.S3(t)
		address := s.Store("corvane", "")
		config, err := s3.Parse(address, func(string) string { return "" })
		require.NoError(t, err)
		require.NoError(t, s.Users("corvane",
			func(who map[storage.Role][]string) string { return config.BucketPolicy(who, "") }))
		as := map[storage.Role][]string{storage.Owner: storetest.Env(nil)}
		for _, role := range storage.Roles {
			as[role] = storetest.EnvOf(role)
		}
		return elsewhere{address, filepath.Join(s.Folder, "corvane", "stores"), s.Stop, s.Start, as}
	},
}

func onServers(t *testing.T, run func(t *testing.T, p *place, store elsewhere)) {
	t.Helper()
	for name, start := range servers {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			store, p := start(t), newPlace(t)
			p.env, p.as = storetest.Env(nil), store.as
			run(t, p, store)
		})
	}
}

type uploaded struct {
	Entry, Release     string
	Files              int
	NewFiles, NewBytes int64 `json:"-"`
	New                int64 `json:"new_files"`
}

type verified struct {
	Sites, Entries, Releases, Gone int
	Objects                        int64
	Damage                         []struct {
		Key, What string
		Affects   []string
		Repaired  bool
	}
}

func TestAStoreElsewhereFromBeginningToEnd(t *testing.T) {
	t.Parallel()
	onServers(t, func(t *testing.T, p *place, store elsewhere) {
		t.Helper()
		use := func(args ...string) []string { return append(args, "--store", store.address) }
		p.commit("First sailing",
			map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nstore: " + store.address +
				"\nretention: {releases: 2, younger_than: 1s}\n",
				"index.html": "home", "fares.html": "42.00", "boats/dunlin.html": "The big one",
				"site.rules": "redirect /prices -> /fares\n"})
		p.fails(1, "orilla store init", "deploy")
		out, notes, status := p.run("store", "init")
		require.Zero(t, status, notes)
		assert.Contains(t, notes, "exactly one created each of 20 records")
		assert.Contains(t, out, "rights of a deployer")
		_, notes, _ = p.run("store", "init", "--json")
		assert.Contains(t, notes, "is one")

		_, notes, status = p.run("deploy")
		require.Zero(t, status, notes)
		assert.Contains(t, notes, "127.0.0.1", "where it goes is said first")
		address := p.edgeOn(map[bool]string{true: store.folder,
			false: store.address}[strings.HasPrefix(store.address, "sftp")])
		shows := func(text string) {
			t.Helper()
			require.Eventually(t, func() bool {
				_, body := get(t, address, "corvane.localhost",
					"/fares")
				return body == text
			}, 30*time.Second, 20*time.Millisecond)
		}
		shows("42.00")
		p.commit("Fares", map[string]string{"fares.html": "43.00"})
		second := document[uploaded](p, "deploy")
		assert.EqualValues(t, 1, second.New)
		shows("43.00")
		p.ok("rollback")
		shows("42.00")
		p.ok("thaw")
		again := document[uploaded](p, "deploy")
		assert.Equal(t, second.Release, again.Release)
		shows("43.00")
		assert.Contains(t, p.ok("status"), "production")
		assert.Contains(t, p.ok("explain", "/prices", "--on", "production"), "301")

		exported := filepath.Join(p.folder, "..", "plain")
		p.ok("files", "production", "--export", exported)
		data, err := os.ReadFile(filepath.Join(exported, "boats", "dunlin.html"))
		require.NoError(t, err)
		assert.Equal(t, "The big one", string(data))
		rules, err := os.ReadFile(exported + ".rules")
		require.NoError(t, err)
		assert.Equal(t, "redirect  /prices  -> /fares\n", string(rules))
		p.fails(3, "it already exists", "files", "production", "--export", exported)
		p.ok("files", "production", "--export", filepath.Join(p.folder, "..", "plain.tar.gz"))
		fresh := newPlace(t)
		assert.Equal(t, 3, document[uploaded](fresh, "deploy", "--from", exported, "--site", "velley", "--to",
			"production", "--yes").Files)

		copied := filepath.Join(p.folder, "..", "copy")
		p.ok("store", "copy", copied)
		assert.Contains(t, p.ok("store", "copy", copied), "0 releases, 0 objects")
		assert.Contains(t, p.ok("store", "verify", "--store", copied), "everything is intact")
		before := document[verified](p, "store", "verify")

		damaged := findObject(t, store.folder, "43.00")
		require.NoError(t, os.WriteFile(damaged, []byte("99.99"), 0o644))
		out, _, status = p.run("store", "verify")
		assert.Equal(t, 4, status)
		assert.Contains(t, out, "/fares.html of corvane")
		assert.Contains(t, out, "live in production")
		assert.Contains(t, p.ok("store", "verify", "--repair-from", copied),
			"all damage repaired")
		assert.Equal(t, before, document[verified](p, "store", "verify"))

		p.commit("Winter", map[string]string{"fares.html": "44.00"})
		p.ok("deploy")
		p.commit("Spring", map[string]string{"fares.html": "45.00", "orilla.yaml": "site: corvane\nstore: " +
			store.address + "\nretention: {releases: 1, younger_than: 1s}\nassets: {keep: 1s}\n"})
		p.ok("deploy")
		type pruned struct {
			Releases []struct{ Release string }
			Objects  int
			DryRun   bool `json:"dry_run"`
		}
		var dry pruned
		require.Eventually(t, func() bool { // once they are old enough
			dry = document[pruned](p, "store", "prune", "--dry-run", "--unfinished", "1s")
			return len(dry.Releases) == 3
		}, patience, 200*time.Millisecond)
		assert.True(t, dry.DryRun)
		p.fails(3, "--yes", "store", "prune")
		done := document[pruned](p, "store", "prune", "--yes", "--unfinished", "1s")
		assert.Len(t, done.Releases, 3)
		assert.Equal(t, dry.Objects, done.Objects)
		assert.Equal(t, 7, document[verified](p, "store", "verify").Gone,
			"entries 1 to 6, of three releases, and the change of what is kept")
		shows("45.00")
		p.fails(3, "no longer complete", "rollback")
		shown := p.ok(use("store")...)
		assert.Contains(t, shown, "1 release in 1 environment")
		if store.as != nil {
			assert.Regexp(t, `enough to +deploy\n`, shown)
			assert.Contains(t, shown, "not to serve: missing permission to delete edges/*")
			assert.Regexp(t, `not to prune: missing permission to delete objects/\*\*, delete sites/SITE/releases`, shown)
		}

		p.fails(3, "--yes", "remove-site", "corvane")
		p.ok("remove-site", "corvane", "--yes", "--keep-name")
		require.Eventually(t, func() bool {
			status, _ := get(t, address, "corvane.localhost",
				"/fares")
			return status != 200
		}, 30*time.Second, 50*time.Millisecond)
		assert.Contains(t, p.ok("sites"), "corvane")
		p.ok("remove-site", "corvane", "--yes")
		_, notes, _ = p.run("sites")
		assert.Contains(t, notes, "has no sites yet")
	})
}

// TestADeployerOfOneSite has the rights that are printed for one: it deploys,
// fails, deploys again, freezes and goes back, and has nothing of another site.
func TestADeployerOfOneSite(t *testing.T) {
	t.Parallel()
	s, p := storetest.S3(t), newPlace(t)
	address := s.Store("corvane", "")
	p.env = storetest.Env(nil)
	p.ok("store", "init", address)
	other := newPlace(t)
	other.env = p.env
	other.commit("First", map[string]string{"orilla.yaml": "site: velley\nstore: " + address + "\n",
		"index.html": "velley"})
	other.ok("deploy")
	require.NoError(t, s.Users("corvane", func(map[storage.Role][]string) string {
		return document[struct{ Policies map[string]string }](p, "store", "init", address, "--policy",
			"--site", "corvane", "--principal", "deployer=deployer").Policies["bucket"]
	}))
	p.env = append(p.env, storetest.EnvOf(storage.Deployer)...)
	p.commit("Broken", map[string]string{"orilla.yaml": "site: corvane\nstore: " + address +
		"\nbuild: {run: [test -e fine && mkdir out && cp index.html out], output: out}\n",
		"index.html": "one"})
	p.fails(5, "ended with status 1", "deploy")
	p.fails(5, "ended with status 1", "deploy", "HEAD")
	p.commit("Mended", map[string]string{"fine": ""})
	p.ok("deploy")
	p.commit("Second", map[string]string{"index.html": "two"})
	p.ok("deploy")
	p.ok("rollback")
	p.commit("Third", map[string]string{"index.html": "three"})
	p.fails(3, "waits for the thaw", "deploy")
	p.ok("thaw", "--yes")
	p.ok("follow", "--pause")
	p.ok("follow", "--resume")
	assert.Contains(t, p.ok("status"), "Third")
	assert.Regexp(t, `enough to +deploy\n`, p.ok("store"))
	p.fails(1, "lack the permission", "history", "--site", "velley")
	p.fails(1, "lack the permission", "deploy", "--site", "velley", "--take-over")
	p.fails(1, "lack the permission", "store", "prune", "--yes")
}

// findObject returns the file of the object that has a content.
func findObject(t *testing.T, folder, content string) (found string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(filepath.Join(folder, "objects"), func(path string, entry fs.DirEntry,
		err error) error {
		if err == nil && !entry.IsDir() {
			if data, _ := os.ReadFile(path); string(data) == content {
				found = path
			}
		}
		return err
	}))
	require.NotEmpty(t, found, content)
	return found
}

// output writes a folder of ready output that has some
// pages of its own and some that others have too.
func (p *place) output(name string, variant, pages int) {
	files := map[string]string{name + "/index.html": fmt.Sprint("variant ", variant)}
	for i := range pages {
		files[fmt.Sprintf("%s/notices/%d.html", name, i)] = fmt.Sprintf("notice %d %s", (variant%5)*pages+i,
			strings.Repeat("x", i*50))
	}
	p.write(files)
}

// whole verifies a store.
func (p *place) whole(store string) verified {
	p.t.Helper()
	v := document[verified](p, "store", "verify", "--store", store)
	require.Empty(p.t, v.Damage)
	return v
}

// TestKilledDeploysElsewhere ends deploys to servers with
// SIGKILL at random moments.
func TestKilledDeploysElsewhere(t *testing.T) {
	t.Parallel()
	onServers(t, func(t *testing.T, p *place, store elsewhere) {
		t.Helper()
		p.ok("store", "init", store.address)
		deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes",
			"--store", store.address}
		p.output("dist", 0, 40)
		started := time.Now()
		p.ok(deploy...)
		span := time.Since(started)
		kills := soak.Rounds(6, 300)
		rounds := p.killSome(deploy, span, kills, func(round int) { p.output("dist", round, 40) },
			func(int) {})
		v := p.whole(store.address)
		t.Logf("%d of %d deploys were killed; %d entries", kills, rounds, v.Entries)
		p.ok(deploy...)
		assert.Greater(t, p.whole(store.address).Entries, 1)
	})
}

// TestDeploysOnBadDays lets deploys go through a proxy that drops, delays,
// truncates, refuses, and loses answers. A deploy that says that it is live has
// exactly one entry; one that fails has none, or says that it does not know.
func TestDeploysOnBadDays(t *testing.T) {
	t.Parallel()
	server := storetest.S3(t)
	seed := uint64(time.Now().UnixNano())
	proxy, err := storetest.StartFaulty(server.Listen, 0, seed)
	require.NoError(t, err)
	defer proxy.Stop()
	p := newPlace(t)
	p.env = storetest.Env(nil)
	store, direct := server.Store("bad", proxy.Listen), server.Store("bad", "")
	p.ok("store", "init", direct)
	proxy.Rate(0.12)
	total, workers := soak.Rounds(40, 1000), 4
	var mutex sync.Mutex
	live, failed := map[string]bool{}, map[string]string{}
	var group sync.WaitGroup
	p.write(map[string]string{"out-0/index.html": "first"})
	p.ok("deploy", "--from", "out-0", "--site", "corvane", "--to", "production", "--yes", "--store", direct)
	for w := range workers {
		group.Go(func() {
			for n := w + 1; n <= total; n += workers {
				name := fmt.Sprintf("out-%d", n)
				p.output(name, n, 6)
				out, err := p.command(t.Context(), "deploy", "--from", name, "--site", "corvane", "--to",
					"production", "--yes", "--store", store, "-m", name).CombinedOutput()
				mutex.Lock()
				live[name] = err == nil
				if err != nil {
					failed[name] = string(out)
				}
				mutex.Unlock()
			}
		})
	}
	group.Wait()
	entries := document[[]struct{ Why string }](p, "history", "--site", "corvane", "--store", direct, "-n",
		"0")
	seen := map[string]int{}
	for _, entry := range entries {
		seen[entry.Why]++
	}
	for name, ok := range live {
		switch {
		case ok:
			assert.Equal(t, 1, seen[name], name)
		case seen[name] > 0:
			assert.Contains(t, failed[name], "stopped answering", name)
			assert.Equal(t, 1, seen[name], name)
		default:
			assert.Contains(t, failed[name], "error:", name)
			assert.NotContains(t, failed[name], "goroutine", name)
		}
	}
	v := p.whole(direct)
	assert.Equal(t, len(entries), v.Entries)
	t.Logf("seed %d: %d deploys, %d failed; %d requests went wrong, of which %d had succeeded", seed, total,
		len(failed), proxy.Faults.Load(), proxy.Lost.Load())
	assert.Greater(t, proxy.Lost.Load(), int64(total/10))
	assert.Greater(t, len(entries), total/2)
}

// TestDeployersAndAPruner lets eight deployers and a
// pruner work at once, with contents that come and go.
func TestDeployersAndAPruner(t *testing.T) {
	t.Parallel()
	onServers(t, func(t *testing.T, p *place, store elsewhere) {
		t.Helper()
		p.ok("store", "init", store.address)
		p.write(map[string]string{"orilla.yaml": "site: corvane\nstore: " + store.address +
			"\nretention: {releases: 1, younger_than: 1s}\nassets: {keep: 0s}\n"})
		for variant := range 120 {
			p.output(fmt.Sprint("out-", variant), variant, 10)
		}
		p.ok("deploy", "--from", "out-0", "--to", "production", "--yes")
		ctx, cancel := context.WithTimeout(t.Context(), time.Duration(soak.Rounds(5, 60))*time.Second)
		defer cancel()
		var deploys, prunes, freed atomic.Int64
		var group sync.WaitGroup
		for w := range 8 {
			home := filepath.Join(t.TempDir(), "home")
			group.Go(func() {
				for ctx.Err() == nil {
					to := []string{"production", fmt.Sprint("preview/branch-", w%3)}[rand.IntN(2)]
					command := p.command(t.Context(), "deploy", "--from", fmt.Sprint("out-", rand.IntN(120)),
						"--to", to, "--yes", "--again")
					command.Env = append(command.Env, "ORILLA_HOME="+home)
					out, err := command.CombinedOutput()
					if !assert.NoError(t, err, "%s", out) { //nolint:testifylint // in a goroutine
						return
					}
					deploys.Add(1)
				}
			})
		}
		group.Go(func() {
			for ctx.Err() == nil {
				out, err := p.command(t.Context(), "store", "prune", "--yes", "--unfinished", "0s", "--json").
					Output()
				if exit, ok := errors.AsType[*exec.ExitError](err); ok {
					assert.NoError(t, err, "%s", exit.Stderr)
					return
				}
				var done struct{ Objects int64 }
				assert.NoError(t, json.Unmarshal(out, &done)) //nolint:testifylint // in a goroutine
				prunes.Add(1)
				freed.Add(done.Objects)
			}
		})
		group.Wait()
		p.whole(store.address)
		time.Sleep(1100 * time.Millisecond) // what is younger than a second is kept
		last := document[struct{ Objects int64 }](p, "store", "prune", "--yes", "--unfinished", "0s")
		freed.Add(last.Objects)
		v := p.whole(store.address)
		t.Logf("%d deploys, %d prunes that removed %d objects; %d entries, %d of pruned releases",
			deploys.Load(), prunes.Load(), freed.Load(), v.Entries, v.Gone)
		assert.EqualValues(t, deploys.Load()+1, v.Entries)
		assert.Positive(t, prunes.Load())
		assert.Positive(t, freed.Load())
	})
}

// TestAnInterruptedUploadGoesOn ends an upload in its
// middle and counts what the next one sends.
func TestAnInterruptedUploadGoesOn(t *testing.T) {
	t.Parallel()
	onServers(t, func(t *testing.T, p *place, store elsewhere) {
		t.Helper()
		p.ok("store", "init", store.address)
		large := make([]byte, 70<<20)
		random := rand.NewChaCha8([32]byte{2})
		random.Read(large) //nolint:errcheck // never fails
		p.write(map[string]string{"dist/index.html": "home", "dist/film.webm": string(large)})
		deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes",
			"--store", store.address}
		command := p.command(t.Context(), append(deploy, "--rate", "20MB")...)
		require.NoError(t, command.Start())
		require.Eventually(t, func() bool {
			return sizeOf(filepath.Join(store.folder, "objects")) >= 24<<20
		}, 30*time.Second, 10*time.Millisecond)
		require.NoError(t, command.Process.Kill())
		require.Error(t, command.Wait())
		var report struct {
			New int64 `json:"new_bytes"`
		}
		require.NoError(t, json.Unmarshal([]byte(p.ok(append(deploy, "--json")...)), &report))
		assert.Less(t, report.New, int64(50<<20), "what was there is not sent again")
		assert.Positive(t, report.New)
		p.whole(store.address)
		got := filepath.Join(p.folder, "..", "back")
		p.ok("files", "--export", got, "--site", "corvane", "--store", store.address)
		data, err := os.ReadFile(filepath.Join(got, "film.webm"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(large, data))
	})
}

// sizeOf returns how many bytes lie in a folder, as far as they can be read.
func sizeOf(folder string) (size int64) {
	//nolint:errcheck // it may not be there yet
	filepath.WalkDir(folder, func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			if info, err := entry.Info(); err == nil {
				size += info.Size()
			}
		}
		return nil
	})
	return size
}

// TestAServerThatVanishes stops a server in the middle of an upload.
func TestAServerThatVanishes(t *testing.T) {
	t.Parallel()
	onServers(t, func(t *testing.T, p *place, store elsewhere) {
		t.Helper()
		p.ok("store", "init", store.address)
		deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes",
			"--store", store.address}
		p.output("dist", 1, 5)
		p.ok(deploy...)
		p.output("dist", 2, 150)
		// In the middle: a part has arrived, and the rest takes seconds.
		part := sizeOf(store.folder) + 50_000
		go func() {
			for sizeOf(store.folder) < part && t.Context().Err() == nil {
				time.Sleep(tick)
			}
			store.stop()
		}()
		notes := p.fails(1, "store-unreachable", append(deploy, "--rate", "100kB")...)
		assert.Contains(t, notes, "next:")
		require.NoError(t, store.start())
		assert.Equal(t, 1, p.whole(store.address).Entries, "nothing half live")
		p.ok(deploy...)
		assert.Equal(t, 2, p.whole(store.address).Entries)
	})
}

// TestWhatIsWrongElsewhereIsSaidInOneMessage goes through
// what keeps people from deploying.
func TestWhatIsWrongElsewhereIsSaidInOneMessage(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.output("dist", 1, 3)
	deploy := func(store string) []string {
		return []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes",
			"--store", store}
	}
	t.Run("s3", func(t *testing.T) {
		p := *p
		p.t = t
		server := storetest.S3(t)
		proxy, err := storetest.StartFaulty(server.Listen, 0, 1)
		require.NoError(t, err)
		defer proxy.Stop()
		store := server.Store("corvane", proxy.Listen)
		p.env = []string{"AWS_ACCESS_KEY_ID=", "AWS_SECRET_ACCESS_KEY=", "AWS_SHARED_CREDENTIALS_FILE=" +
			os.DevNull}
		p.fails(1, "there are none", deploy(store)...)
		p.env = []string{"AWS_ACCESS_KEY_ID=" + storetest.AccessKey, "AWS_SECRET_ACCESS_KEY=wrong"}
		p.fails(1, "store-credentials", deploy(store)...)
		p.env = storetest.Env(nil)
		p.fails(1, "no-bucket", deploy(strings.Replace(store, "corvane", "elsewhere", 1))...)
		p.fails(3, "--yes", "store", "init", strings.Replace(store, "corvane", "elsewhere", 1))
		p.fails(2, "store-address", deploy("s3://corvane?endpont=x")...)
		p.ok("store", "init", store)
		proxy.Answer(func(r *http.Request) (int, string) {
			if r.Method == http.MethodPut {
				return 403, "AccessDenied"
			}
			return 0, ""
		})
		p.fails(1, "store-denied", deploy(store)...)
		out := p.ok("store", "--store", store)
		assert.Contains(t, out, "may not   create")
		proxy.Answer(func(r *http.Request) (int, string) {
			if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "objects") {
				return 507, "InsufficientStorage"
			}
			return 0, ""
		})
		p.fails(1, "store-full", deploy(store)...)
		proxy.Answer(nil)
		proxy.Ahead(24 * time.Hour)
		p.fails(3, "clock", deploy(store)...)
		proxy.Ahead(0)
		proxy.Answer(func(r *http.Request) (int, string) {
			if r.Header.Get("Authorization") == "" {
				return 200, ""
			}
			return 0, ""
		})
		out, notes, status := p.run("store", "--store", store)
		assert.Equal(t, 4, status, notes)
		assert.Contains(t, out, "anyone can read it")
		out, notes, status = p.run("doctor", "--store", store)
		assert.Equal(t, 4, status, notes)
		assert.Contains(t, out, "anyone can read s3://")
		proxy.Answer(nil)
		p.ok(deploy(store)...)
	})
	t.Run("ssh", func(t *testing.T) {
		p := *p
		p.t = t
		p.env = storetest.Env(nil)
		server := storetest.SSH(t, "")
		store := server.Store("corvane")
		empty := filepath.Join(t.TempDir(), "known_hosts")
		require.NoError(t, os.WriteFile(empty, nil, 0o600))
		notes := p.fails(3, "host-key-unknown", deploy(strings.Replace(store, server.Known, empty, 1))...)
		known, err := os.ReadFile(server.Known)
		require.NoError(t, err)
		assert.Contains(t, notes, strings.TrimSpace(string(known)), "the line to add")
		other := storetest.SSH(t, "")
		changed, err := os.ReadFile(other.Known)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(empty,
			[]byte(strings.Replace(string(changed), other.Listen[len("127.0.0.1:"):],
				server.Listen[len("127.0.0.1:"):], 1)), 0o600))
		p.fails(3, "host-key-changed", deploy(strings.Replace(store, server.Known, empty, 1))...)
		p.fails(1, "store-credentials", deploy(strings.Replace(store, server.Key, other.Key, 1))...)
		p.fails(1, "no-store", deploy(store)...)
		p.ok("store", "init", store)
		p.ok(deploy(store)...)
		readOnly := storetest.SSH(t, "exec /usr/lib/openssh/sftp-server -R")
		require.NoError(t, os.MkdirAll(readOnly.Folder, 0o755))
		require.NoError(t, os.Symlink(filepath.Join(server.Folder, "corvane"),
			filepath.Join(readOnly.Folder, "corvane")))
		p.fails(1, "store-read-only", deploy(readOnly.Store("corvane"))...)
		assert.Contains(t, p.ok("store", "--store", readOnly.Store("corvane")), "may not   create")

		small := filepath.Join(server.Folder, "small")
		require.NoError(t, os.MkdirAll(small, 0o755))
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=12m", "tmpfs", small).
			CombinedOutput(); err != nil {
			t.Logf("a full disk is not tried: %s", out)
			return
		}
		defer exec.Command("umount", small).Run() //nolint:errcheck // the folder goes with the test
		p.ok("store", "init", server.Store("small"))
		film := make([]byte, 20<<20)
		rand.NewChaCha8([32]byte{3}).Read(film) //nolint:errcheck // never fails
		p.write(map[string]string{"large/index.html": "home", "large/film.webm": string(film)})
		full := deploy(server.Store("small"))
		full[2] = "large"
		p.fails(1, "store-full", full...)
	})
}
