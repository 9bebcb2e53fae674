package test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/file"
)

// verify opens the store as it lies there and checks that
// every object is whole and every entry leads to a whole
// release. It returns the entries of production.
func (p *place) verify() []journal.Entry {
	p.t.Helper()
	root := filepath.Join(p.home, "store")
	require.NoError(p.t, filepath.WalkDir(filepath.Join(root, "objects"), func(path string, entry fs.DirEntry,
		err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		require.Equal(p.t, entry.Name(), digest.Of(data).String(), "a torn object")
		return err
	}))
	store, err := file.Open(root)
	require.NoError(p.t, err)
	j := journal.Journal{Store: store, Site: "corvane", Environment: "production"}
	head, err := j.HeadNumber(p.t.Context(), 0)
	require.NoError(p.t, err)
	checked := map[string]bool{}
	var entries []journal.Entry
	for entry, err := range j.Back(p.t.Context(), head) {
		require.NoError(p.t, err)
		entries = append(entries, entry)
		if checked[entry.Release.String()] {
			continue
		}
		checked[entry.Release.String()] = true
		reader, err := release.Read(p.t.Context(), store, "corvane", entry.Release)
		require.NoError(p.t, err)
		_, err = answer.Open(p.t.Context(), reader)
		require.NoError(p.t, err, "the rules of %s", entry.Label())
		for one, err := range reader.Files(p.t.Context()) {
			require.NoError(p.t, err)
			for _, object := range one.Objects() {
				_, err := store.Stat(p.t.Context(), object.Key())
				require.NoError(p.t, err, "%s of %s", one.Path, entry.Label())
			}
		}
	}
	slices.Reverse(entries)
	return entries
}

// killSome runs deploys until so many were ended by SIGKILL, each at a random
// moment of a span, which moves to where most, but not all, are killed, and one
// at least was not. It returns how many there were in all.
func (p *place) killSome(deploy []string, span time.Duration, killed int, before, after func(round int),
) (rounds int) {
	p.t.Helper()
	for whole := 0; killed > 0 || whole == 0; {
		rounds++
		before(rounds)
		command := p.command(p.t.Context(), deploy...)
		require.NoError(p.t, command.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(span))))
		command.Process.Kill() //nolint:errcheck // it may have ended
		if command.Wait() != nil {
			killed--
			span += span / 50
		} else {
			whole++
			span -= span / 20
		}
		after(rounds)
	}
	return rounds
}

// TestKilledDeploysLeaveNothingHalfDone ends deploys with
// SIGKILL at random moments.
func TestKilledDeploysLeaveNothingHalfDone(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	content := func(round int) map[string]string {
		files := map[string]string{"dist/index.html": fmt.Sprint("round ", round),
			"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {output: dist}\n",
			"site.rules":  fmt.Sprintf("redirect /round -> /notices/%d\n", round%80)}
		for i := range 80 {
			files[fmt.Sprintf("dist/notices/%d.html", i)] = fmt.Sprintf("notice %d of round %d %s", i,
				round/3, strings.Repeat("x", i*70))
		}
		return files
	}
	p.write(content(0))
	deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes"}
	started := time.Now()
	p.ok(deploy...)
	span := time.Since(started)
	before, kills := len(p.verify()), soak.Rounds(40, 1400)
	rounds := p.killSome(deploy, span, kills, func(round int) { p.write(content(round)) }, func(round int) {
		if round%20 == 0 {
			entries := p.verify()
			require.GreaterOrEqual(t, len(entries), before, "an entry is never lost")
			before = len(entries)
		}
	})
	t.Logf("%d of %d deploys were killed; %d entries", kills, rounds, before)

	whole := p.objects()["objects"]
	type report struct {
		NewFiles int64 `json:"new_files"`
		Files    int64
	}
	d := document[report](p, append(deploy, "--rehash")...)
	after := p.objects()["objects"]
	for _, key := range whole {
		require.Contains(t, after, key)
	}
	assert.LessOrEqual(t, d.NewFiles, d.Files)
	assert.GreaterOrEqual(t, len(after)-len(whole), int(d.NewFiles), "what was whole is not uploaded again")
	d = document[report](p, deploy...)
	assert.Zero(t, d.NewFiles)
	p.verify()
}

// TestKilledDeploysOfRulesAlone ends deploys that build nothing: of an entry,
// its rules and the record of where they were written are there.
func TestKilledDeploysOfRulesAlone(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	rules := func(round int) map[string]string {
		return map[string]string{"site.rules": fmt.Sprintf(
			"redirect /round/%d -> /\nexpect /round/%d 301 /\n", round, round)}
	}
	p.write(map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {run: ['mkdir dist " +
		"&& cp index.html dist/'], output: dist}\n", "index.html": "home"})
	p.commit("First", rules(0))
	p.ok("deploy")
	p.commit("Second", rules(1))
	started := time.Now()
	assert.True(t, document[ruledDeploy](p, "deploy").Reused)
	span := time.Since(started)
	kills := soak.Rounds(15, 300)
	total := p.killSome([]string{"deploy"}, span, kills,
		func(round int) { p.commit("Next", rules(round+1)) }, func(int) {})
	entries := p.verify()
	t.Logf("%d of %d deploys were killed; %d entries", kills, total, len(entries))
	require.Greater(t, len(entries), 1)
	for _, entry := range entries[1:] {
		out := p.ok("explain", "/", "--on", "r-"+entry.Release.String(), "--json")
		assert.Contains(t, out, `"status": 200`)
	}
	p.ok("deploy")
	assert.Contains(t, p.ok("explain", fmt.Sprintf("/round/%d", total+1), "--on", "production"),
		"site.rules:1")
}

// TestDeploysThatMeet starts eight processes at once, each with an output of
// its own, while a reader watches the journal.
func TestDeploysThatMeet(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"first/index.html": "first"})
	p.ok("deploy", "--from", "first", "--site", "corvane", "--to", "production", "--yes")
	store, err := file.Open(filepath.Join(p.home, "store"))
	require.NoError(t, err)
	done := make(chan struct{})
	var reader sync.WaitGroup
	reader.Go(func() {
		for n := int64(1); ; {
			data, err := store.Get(t.Context(), storage.JournalKey("corvane", "production", n))
			if err == nil {
				if _, err := journal.Decode(data, "corvane", "production", n); err != nil {
					t.Errorf("an entry that is half written: %v", err)
				}
				n++
				continue
			}
			select {
			case <-done:
				return
			default:
			}
		}
	})
	rounds := soak.Rounds(3, 30)
	for round := range rounds {
		var writers sync.WaitGroup
		for i := range 8 {
			name := fmt.Sprintf("out-%d-%d", round, i)
			p.write(map[string]string{name + "/index.html": name, name + "/shared.html": fmt.Sprint("round ",
				round)})
			writers.Go(func() {
				out, err := p.command(t.Context(), "deploy", "--from", name, "--site", "corvane", "--to",
					"production", "-m", name, "--json").CombinedOutput()
				assert.NoError(t, err, "%s", out)
			})
		}
		writers.Wait()
	}
	close(done)
	reader.Wait()
	entries := p.verify()
	require.Len(t, entries, 1+8*rounds)
	seen := map[string]bool{}
	for i, entry := range entries {
		assert.EqualValues(t, i+1, entry.Number)
		assert.False(t, seen[entry.Why], entry.Why)
		seen[entry.Why] = true
	}
}

// TestOneChangedFileAddsLittle counts by class what a deploy adds to the store.
func TestOneChangedFileAddsLittle(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	files := map[string]string{"dist/index.html": "first page"}
	for i := range 3000 {
		files[fmt.Sprintf("dist/%d/page-%d.html", i%50, i)] = strconv.Itoa(i)
	}
	p.write(files)
	deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes"}
	p.ok(deploy...)
	before := p.objects()
	p.write(map[string]string{"dist/7/page-1007.html": "changed"})
	p.ok(deploy...)
	after := p.objects()
	added := map[string]int{}
	for class := range after {
		added[class] = len(after[class]) - len(before[class])
	}
	assert.Contains(t, []int{2, 3}, added["objects"], "the object, and one or two chunks")
	delete(added, "objects")
	assert.Equal(t, map[string]int{"releases": 1, "builds": 1, "journal": 1, "pulse": 0, "sites": 0,
		"orilla-store": 0}, added)
}

// TestDamagedRecordsAreNamed makes sure that commands say
// what is damaged instead of guessing.
func TestDamagedRecordsAreNamed(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"dist/index.html": "one"})
	deploy := []string{"deploy", "--from", "dist", "--site", "corvane", "--to", "production", "--yes"}
	p.ok(deploy...)
	p.write(map[string]string{"dist/index.html": "two"})
	p.ok(deploy...)
	head := filepath.Join(p.home, "store", storage.JournalKey("corvane", "production", 2))
	whole, err := os.ReadFile(head)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(head, whole[:len(whole)/2], 0o644))
	p.fails(1, "production:2", "rollback", "--site", "corvane")
	p.fails(1, "production:2", "status", "--site", "corvane")
	assert.Contains(t, p.ok("history", "--site", "corvane"), "unreadable")
	require.NoError(t, os.WriteFile(head, whole, 0o644))

	var entry struct{ Release string }
	first, err := os.ReadFile(filepath.Join(p.home, "store", storage.JournalKey("corvane", "production", 1)))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(first, &entry))
	require.NoError(t, os.Remove(filepath.Join(p.home, "store",
		storage.ReleaseKey("corvane", entry.Release))))
	p.fails(3, "no longer complete", "rollback", "--site", "corvane")
	assert.Len(t, p.objects()["journal"], 2, "nothing changed")
}
