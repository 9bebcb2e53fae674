package file_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/deploy"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/soak"
	"orilla.example/orilla/internal/store/file"
)

// image is what a disk holds: the inode behind each name,
// and the content of each inode.
type image struct {
	names   map[string]int // files by path
	folders map[string]bool
	content map[int][]byte
}

func (i image) clone() image {
	return image{maps.Clone(i.names), maps.Clone(i.folders), maps.Clone(i.content)}
}

// reachable drops names whose folders never came to be.
func (i image) reachable() map[string][]byte {
	files := map[string][]byte{}
	for name, inode := range i.names {
		there := true
		for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
			there = there && i.folders[folder]
		}
		if there {
			files[name] = i.content[inode]
		}
	}
	return files
}

// change is one effect on the disk that a flush makes
// certain: a content, or a name in a folder.
type change struct {
	op     int    // index of the operation
	folder string // whose flush makes it certain; "" for a content
	inode  int
	apply  func(*image)
}

// journalled is a recording taken apart into changes and, for each operation,
// the changes that it made certain.
type journalled struct {
	start   image
	ops     []file.Op
	changes []change
	certain map[int]int // change -> the operation from which on it is certain
}

// takeApart models what POSIX promises and no more: a file's flush makes its
// content certain, not its name; a folder's flush the names in it; a rename is
// a name that comes and a name that goes, each on its own.
func takeApart(start image, ops []file.Op) *journalled {
	j := &journalled{start: start, ops: ops, certain: map[int]int{}}
	now, next := start.clone(), len(start.content)+1
	for _, inode := range start.names {
		next = max(next, inode+1)
	}
	add := func(c change) {
		c.apply(&now)
		j.changes = append(j.changes, c)
	}
	for i, op := range ops {
		switch op.Kind {
		case "mkdir":
			add(change{i, path.Dir(op.Path), 0, func(m *image) { m.folders[op.Path] = true }})
		case "write":
			inode := next
			next++
			add(change{i, "", inode, func(m *image) { m.content[inode] = op.Data }})
			add(change{i, path.Dir(op.Path), 0, func(m *image) { m.names[op.Path] = inode }})
		case "rename":
			inode := now.names[op.Path]
			add(change{i, path.Dir(op.To), 0, func(m *image) { m.names[op.To] = inode }})
			add(change{i, path.Dir(op.Path), 0, func(m *image) { delete(m.names, op.Path) }})
		case "remove":
			add(change{i, path.Dir(op.Path), 0, func(m *image) { delete(m.names, op.Path) }})
		default:
			for c, made := range j.changes {
				_, already := j.certain[c]
				switch {
				case already:
				case op.Kind == "sync-all", op.Kind == "sync-folder" && made.folder == op.Path,
					op.Kind == "sync-file" && made.folder == "" && made.inode == now.names[op.Path]:
					j.certain[c] = i
				}
			}
		}
	}
	return j
}

// after yields states that the disk can be in when the power
// fails after op: all that is certain, and of the rest
// nothing, all, each alone, all but each, and some at random;
// contents that are not certain are there, missing, or torn.
func (j *journalled) after(op int, random *rand.Rand, yield func(files map[string][]byte, how string)) {
	var open []int
	for c, made := range j.changes {
		if certain, ok := j.certain[c]; made.op <= op && (!ok || certain > op) {
			open = append(open, c)
		}
	}
	state := func(how string, taken func(i int) bool, torn int) {
		m := j.start.clone()
		chosen := map[int]bool{}
		for i, c := range open {
			chosen[c] = taken(i)
		}
		for c, made := range j.changes {
			isOpen := false
			if made.op > op {
				break
			}
			if take, ok := chosen[c]; ok {
				isOpen = true
				if !take {
					continue
				}
			}
			made.apply(&m)
			if isOpen && made.folder == "" && torn > 0 {
				m.content[made.inode] = m.content[made.inode][:len(m.content[made.inode])/torn]
			}
		}
		yield(m.reachable(), fmt.Sprintf("after %d (%s %s): %s, torn %d", op, j.ops[op].Kind, j.ops[op].Path,
			how, torn))
	}
	state("nothing of what is open", func(int) bool { return false }, 0)
	for _, torn := range []int{0, 2, 1 << 30} {
		state("everything", func(int) bool { return true }, torn)
	}
	for i := range open {
		state(fmt.Sprintf("only %d", i), func(k int) bool { return k == i }, 2)
		state(fmt.Sprintf("all but %d", i), func(k int) bool { return k != i }, 0)
	}
	for range 12 {
		state("some", func(int) bool { return random.IntN(2) == 0 }, random.IntN(3))
	}
}

// deployOutput publishes a folder of ready output.
func deployOutput(t *testing.T, store storage.Store, project, output string) *deploy.Release {
	t.Helper()
	places := site.Places{Cache: filepath.Join(project, "cache")}
	p, err := site.Load(t.Context(), project, places)
	require.NoError(t, err)
	plan, err := site.MakePlan(t.Context(), p, site.Order{From: output, Site: "corvane", To: "production"})
	require.NoError(t, err)
	made, _, err := deploy.Put(t.Context(), deploy.Job{
		Plan: plan, Store: store, Report: deploy.Silent{}, Now: time.Now, Cause: "command",
		Ask: deploy.Questions{Unclaimed: func() error { return nil }},
	})
	require.NoError(t, err)
	return made
}

func write(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		full := filepath.Join(folder, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
}

// capture reads a folder as an image in which everything is certain.
func capture(t *testing.T, root string) image {
	t.Helper()
	m := image{map[string]int{}, map[string]bool{}, map[int][]byte{}}
	require.NoError(t, filepath.WalkDir(root, func(full string, entry fs.DirEntry, err error) error {
		relative, _ := filepath.Rel(root, full)
		if err != nil || relative == "." {
			return err
		}
		if entry.IsDir() {
			m.folders[filepath.ToSlash(relative)] = true
			return nil
		}
		data, err := os.ReadFile(full)
		inode := len(m.names) + 1
		m.names[filepath.ToSlash(relative)], m.content[inode] = inode, data
		return err
	}))
	return m
}

func TestNoLossOfPowerTearsAnObjectOrALiveRelease(t *testing.T) {
	t.Parallel()
	root, project := filepath.Join(t.TempDir(), "store"), t.TempDir()
	store, err := file.Make(root)
	require.NoError(t, err)
	output := filepath.Join(project, "output")
	first := map[string]string{"index.html": "<title>Corvane</title>", "fares.html": "42.00",
		"style-3f9a2c1b7e.css": "body{}"}
	write(t, output, first)
	before := deployOutput(t, store, project, output)
	start := capture(t, root)

	var ops []file.Op
	file.Record(store, root, func(op file.Op) { ops = append(ops, op) })
	second := map[string]string{"fares.html": "43.00", "boats/dunlin.html": "The big one"}
	for i := range 70 { // more than are flushed one by one
		second[fmt.Sprintf("notices/%d.html", i)] = fmt.Sprint("notice ", i)
	}
	write(t, output, second)
	after := deployOutput(t, store, project, output)
	write(t, output, map[string]string{"fares.html": "44.00"}) // few, flushed one by one
	last := deployOutput(t, store, project, output)
	require.Greater(t, len(ops), 150)

	recording := takeApart(start, ops)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 2))
	states := 0
	step := soak.Rounds(24, 1) // in a soak after every operation: a minute
	for op := random.IntN(step); op < len(ops); op += step {
		recording.after(op, random, func(files map[string][]byte, how string) {
			states++
			head := sound(t, files, how)
			require.Contains(t, []release.ID{before.ID, after.ID, last.ID}, head, how)
		})
	}
	recording.after(len(ops)-1, random, func(files map[string][]byte, how string) {
		require.Equal(t, last.ID, sound(t, files, how), "a deploy that has ended is certain: %s", how)
		states++
	})
	t.Logf("%d operations, %d states", len(ops), states)

	// From states in the middle, the next deploy succeeds.
	for _, op := range []int{len(ops) / 5, len(ops) / 2, len(ops) * 4 / 5} {
		recording.after(op, random, func(files map[string][]byte, how string) {
			if random.IntN(20) == 0 {
				again := materialise(t, files)
				require.Equal(t, last.ID, deployOutput(t, again, project, output).ID, how)
			}
		})
	}
}

// sound checks the promises on one state, and returns the
// release that is live in it.
func sound(t *testing.T, files map[string][]byte, how string) release.ID {
	t.Helper()
	for name, data := range files {
		if strings.HasPrefix(name, "objects/") {
			require.Equal(t, path.Base(name), digest.Of(data).String(), "torn object: %s", how)
		}
		if name == "sites/corvane/claim" || name == "pulse/corvane" {
			require.True(t, json.Valid(data), "a torn %s: %s", name, how)
		}
		if id, ok := strings.CutPrefix(name, "sites/corvane/releases/"); ok {
			wholeRelease(t, files, id, how)
		}
	}
	var head journal.Entry
	for n := int64(1); ; n++ {
		data, ok := files[storage.JournalKey("corvane", "production", n)]
		if !ok {
			_, gap := files[storage.JournalKey("corvane", "production", n+1)]
			require.False(t, gap, "a gap in the journal: %s", how)
			break
		}
		entry, err := journal.Decode(data, "corvane", "production", n)
		require.NoError(t, err, how)
		head = entry
	}
	_, rooted := files[storage.ReleaseKey("corvane", head.Release.String())]
	require.True(t, rooted, "%s is live without a root: %s", head.Label(), how)
	return head.Release
}

// wholeRelease checks that a root implies everything that it leads to.
func wholeRelease(t *testing.T, files map[string][]byte, name, how string) {
	t.Helper()
	id, err := release.ParseID(name)
	require.NoError(t, err, how)
	root, err := release.DecodeRoot(files["sites/corvane/releases/"+name], id)
	require.NoError(t, err, how)
	reader := release.NewReader(id, root, func(_ context.Context, d digest.Digest) ([]byte, error) {
		data, ok := files[d.Key()]
		if !ok {
			return nil, errors.New("missing " + d.Key())
		}
		return data, nil
	})
	for one, err := range reader.Files(t.Context()) {
		require.NoError(t, err, how)
		_, there := files[one.Digest.Key()]
		require.True(t, there, "%s is missing: %s", one.Path, how)
	}
}

func materialise(t *testing.T, files map[string][]byte) storage.Store {
	t.Helper()
	root := t.TempDir()
	for name, data := range files {
		full := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, data, 0o644))
	}
	store, err := file.Open(root)
	require.NoError(t, err)
	return store
}
