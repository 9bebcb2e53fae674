package pipeline

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// store scans an output, uploads what the store lacks, and records the release and its build. The order makes a root imply a
// whole release: first all objects, chunks and logs among them, then the root and the build record. If what was uploaded was
// removed by somebody meanwhile, it is uploaded again.
func (r *Run) store(ctx context.Context, output ready) error {
	live, err := r.live(ctx)
	if err != nil {
		return err
	}
	unfinished := r.beginUpload()
	for {
		again, err := r.storeOnce(ctx, output, live, unfinished)
		if err != nil {
			return err
		}
		if !again {
			r.endUpload()
			return nil
		}
		unfinished = true
		r.result.Changes, r.result.Findings = Changes{}, nil
	}
}

// storeOnce reports whether objects that it put were removed meanwhile; then no root was written.
func (r *Run) storeOnce(ctx context.Context, output ready, live *release.Reader, unfinished bool) (again bool, err error) {
	put := r.putter(ctx)
	defer put.Discard()
	tree, done, err := output.open()
	if err != nil {
		return false, err
	}
	defer done() //nolint:errcheck // read only
	files, scan, err := r.upload(ctx, output, tree, live, put, unfinished)
	if err != nil {
		return false, err
	}
	ruled, err := r.ruleOutput(ctx, tree, files)
	if err != nil {
		return false, err
	}
	if err := keep(ctx, put, ruled.objects); err != nil {
		return false, err
	}
	index, err := release.Build(files, ruled.set, r.Plan.Config.Settings())
	if err != nil {
		return false, err
	}
	changes, err := r.addIndex(ctx, index, live, put)
	if err != nil {
		return false, err
	}
	if err := unchanging(changes, r.Plan.Config.Settings()); err != nil {
		return false, err
	}
	if live != nil {
		r.result.Ruled = !sameSet(live.Root.Rules, ruled.set)
	}
	err = r.timed("check", output.name, func() error { return r.look(ctx, ruled.in, changes, live, content(tree, scan)) })
	if err != nil {
		return false, err
	}
	r.result.Changes = CountChanges(changes)
	record := output.record
	record.Outcome, record.Rules = builds.Succeeded, ruled.record
	if record.Log, err = addLog(ctx, put, output.log); err != nil {
		return false, err
	}
	r.result.Log = record.Log
	put.rely(storage.ReleaseKey(r.Plan.Site, index.ID.String()))
	err = r.timed("commit", "", func() error {
		if again, err = put.settle(ctx, r); again || err != nil {
			return err
		}
		r.result.Release, r.result.Files, r.result.Bytes = index.ID, index.Root.Files, index.Root.Bytes
		record.Release = index.ID
		return r.record(ctx, record, index.Data)
	})
	return again, err
}

// putting puts objects into the store and knows which it put.
type putting struct {
	*publish.Rolling
	mutex sync.Mutex
	keys  map[digest.Digest]struct{} // of objects
	root  string                     // the key of the root that will be written
}

// Bytes after which what was uploaded is committed, so that an upload that is interrupted goes on from there. A store far away takes
// longer for them.
const (
	rollNear = 256 << 20
	rollFar  = 32 << 20
)

func (r *Run) putter(ctx context.Context) *putting {
	every := int64(rollNear)
	if _, far := r.Store.(storage.Remote); far {
		every = rollFar
	}
	return &putting{Rolling: publish.NewRolling(ctx, r.Store, every), keys: map[digest.Digest]struct{}{}}
}

// Add implements publish.Putter.
func (p *putting) Add(ctx context.Context, key string, data []byte) (bool, error) {
	if d, isObject := digest.FromKey(key); isObject {
		p.note(d)
	}
	return p.Rolling.Add(ctx, key, data)
}

func (p *putting) note(d digest.Digest) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.keys[d] = struct{}{}
}

// rely says which root will be written: should it be there, and be on its way out, then it must be gone before it is made again.
func (p *putting) rely(root string) { p.root = root }

// settle commits, and makes sure that nobody removes or has removed what was put.
func (p *putting) settle(ctx context.Context, r *Run) (again bool, err error) {
	if err := p.Commit(); err != nil {
		return false, err
	}
	return r.hold.Settle(ctx, func(key string) bool {
		d, isObject := digest.FromKey(key)
		_, put := p.keys[d]
		return isObject && put || key == p.root
	}, r.waiting)
}

// waiting tells that somebody removes what this run needs.
func (r *Run) waiting(who string) {
	r.Report.Notice(fault.Notice{Code: "waiting-for-prune", What: "waiting for " + who + ", who is removing something that this release needs; it is uploaded again then"})
}

// The file that says that an upload of a site to a store has begun and not ended: the next one asks what is there already.
func (r *Run) unfinishedFile() string {
	sum := digest.Of([]byte(r.Store.Address() + " " + r.Plan.Site))
	return filepath.Join(r.Plan.Project.Places.Cache, "unfinished", hex.EncodeToString(sum[:12]))
}

func (r *Run) beginUpload() (unfinished bool) {
	if _, far := r.Store.(storage.Remote); !far {
		return false // a folder is always asked
	}
	path := r.unfinishedFile()
	if _, err := os.Stat(path); err == nil {
		return true
	}
	if os.MkdirAll(filepath.Dir(path), 0o700) == nil {
		os.WriteFile(path, nil, 0o600) //nolint:errcheck // then the next upload sends everything again
	}
	return false
}

func (r *Run) endUpload() { os.Remove(r.unfinishedFile()) } //nolint:errcheck // then the next upload asks without need

// isThere asks whether an earlier try has put an object.
func (r *Run) isThere(put *putting) func(context.Context, digest.Digest, int) (bool, error) {
	return func(ctx context.Context, d digest.Digest, size int) (bool, error) {
		item, err := r.Store.Stat(ctx, d.Key())
		if errors.Is(err, storage.ErrNotFound) {
			return false, nil
		}
		if err == nil && item.Size == int64(size) {
			put.note(d)
			return true, nil
		}
		return false, err
	}
}

// ruleOutput reads and checks all rules, with those that the build wrote.
func (r *Run) ruleOutput(ctx context.Context, output publish.Output, files []release.File) (*ruled, error) {
	sources, err := ruleSources(r.Plan.Config, r.readBeside, func(file string) ([]byte, error) { return fs.ReadFile(output.FS, path.Clean(file)) })
	if err != nil {
		return nil, err
	}
	return r.timedRules(ctx, sources, files)
}

// upload scans and fingerprints the output, and puts what the live release does not have. scan says where in the output each file
// lies. After an upload that was not finished, what is there already is not sent again.
func (r *Run) upload(ctx context.Context, output ready, tree publish.Output, live *release.Reader, put *putting, unfinished bool) (files []release.File, scan *publish.Scan, err error) {
	err = r.timed("scan", output.name, func() (err error) {
		scan, err = publish.Find(tree, r.scanOptions(), r.Now())
		return err
	})
	if err != nil {
		return nil, nil, renamed(err, output)
	}
	r.result.LeftOut = scan.LeftOut
	for _, notice := range scan.Notices {
		r.Report.Notice(notice)
	}
	memory := r.memory(output.folder)
	upload := &publish.Upload{Batch: put, Live: live, Memory: memory, Rehash: r.Rehash, Parallel: cmp.Or(r.Parallel, storage.Parallel(r.Store)), Rate: r.Rate}
	if unfinished {
		upload.Known = r.isThere(put)
	}
	upload.Seen = func(done publish.Progress) { r.Report.Uploaded(done, len(scan.Files), scan.Bytes) }
	err = r.timed("upload", output.name, func() error {
		var done publish.Progress
		files, done, err = upload.Run(ctx, tree, scan)
		r.result.NewFiles, r.result.NewBytes = done.NewFiles, done.NewBytes
		return err
	})
	if err == nil {
		r.saveMemory(output.folder, memory)
	}
	return files, scan, err
}

func (r *Run) scanOptions() publish.Options {
	config, limits := r.Plan.Config, r.limitedBy()
	return publish.Options{
		LeaveOut: config.LeaveOut, Rules: config.RulesInOutput(), MaxFiles: limits.Files, MaxBytes: int64(limits.Size),
		MaxFile: int64(limits.FileSize), WithoutIndex: r.NoIndex,
	}
}

// renamed makes a message speak of the output by the name that the user gave it, not by the path of a workspace.
func renamed(err error, output ready) error {
	if problem, ok := errors.AsType[*fault.Error](err); ok && (output.made || output.workspace != nil) && problem.Where == filepath.Clean(output.folder) {
		problem.Where = output.name
	}
	return err
}

// addIndex puts the chunks that the live release lacks, and compares.
func (r *Run) addIndex(ctx context.Context, index release.Index, live *release.Reader, put *putting) ([]release.Change, error) {
	fresh, there := map[digest.Digest][]byte{}, map[digest.Digest]bool{}
	if live != nil {
		refs, err := live.Refs(ctx)
		if err != nil {
			return nil, err
		}
		for _, ref := range refs {
			there[ref.Digest] = true
		}
	}
	group, adding := errgroup.WithContext(ctx)
	group.SetLimit(cmp.Or(r.Parallel, storage.Parallel(r.Store)))
	for _, chunk := range index.Chunks {
		fresh[chunk.Digest] = chunk.Data
		if there[chunk.Digest] {
			continue
		}
		group.Go(func() error {
			_, err := put.Add(adding, chunk.Digest.Key(), chunk.Data)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	next := release.NewReader(index.ID, index.Root, func(ctx context.Context, d digest.Digest) ([]byte, error) {
		if data, ok := fresh[d]; ok {
			return data, nil
		}
		return r.load(ctx, d)
	})
	r.result.Changes.First = live == nil
	return release.Compare(ctx, live, next)
}

// unchanging refuses other bytes at a path whose answers visitors keep for a year.
func unchanging(changes []release.Change, settings release.Settings) error {
	var paths []string
	for _, change := range changes {
		if change.Before != nil && change.After != nil && change.Before.Digest != change.After.Digest && answer.Immutable(change.Path, settings) {
			paths = append(paths, change.Path)
		}
	}
	if len(paths) == 0 {
		return nil
	}
	problem := fault.New(fault.Refused, "immutable-changed", "other bytes at addresses that visitors keep for a year, since their names look like fingerprints")
	for i, path := range paths {
		if i == 10 {
			problem = problem.With(fmt.Sprintf("and %d more", len(paths)-i))
			break
		}
		problem = problem.With(path)
	}
	return problem.Then("give them other names, or, if the names are not fingerprints, list them in orilla.yaml: assets: {plain: [%q]}", paths[0])
}

// CountChanges counts how two releases differ.
func CountChanges(changes []release.Change) (c Changes) {
	for _, change := range changes {
		switch {
		case change.Before == nil:
			c.Added++
		case change.After == nil:
			c.Removed++
		default:
			c.Changed++
		}
	}
	return c
}

// addLog adds the log of a build to a batch.
func addLog(ctx context.Context, put publish.Putter, log string) ([]digest.Digest, error) {
	var parts []digest.Digest
	err := logParts(log, func(data []byte) error {
		d := digest.Of(data)
		parts = append(parts, d)
		_, err := put.Add(ctx, d.Key(), data)
		return err
	})
	return parts, err
}

// claim takes the site's name, if nobody has it, before the first record that counts is written.
func (r *Run) claim(ctx context.Context) error {
	if r.Plan.Apart || r.claimed {
		return nil
	}
	err := r.mine.Take(ctx, r.writer(), r.TakeOver)
	r.claimed = err == nil
	return err
}

// record keeps a build record and, of a build that succeeded, the root of its release.
func (r *Run) record(ctx context.Context, record builds.Record, root []byte) error {
	if err := r.describe(ctx, &record); err != nil {
		return err
	}
	if root != nil {
		if err := r.claim(ctx); err != nil {
			return err
		}
	}
	if root != nil && record.Key == r.lookedFor || r.Plan.Origin.Source == journal.FromOutput {
		record.Number = r.newest + 1 // the next one is free, unless somebody was faster or the same output is published again
		if taken, err := r.commitRecord(ctx, record, root); err != nil || !taken {
			r.result.Build = record
			return err
		}
	}
	last, newest, found, err := builds.Last(ctx, r.Store, r.Plan.Site, record.Key, func(b builds.Record) bool {
		return !r.hold.Doomed(r.keyOf(b)) && b.Outcome == builds.Succeeded && b.Release == record.Release && sameRules(b.Rules, record.Rules) && r.Plan.Origin.Source == journal.FromOutput
	})
	if err != nil {
		return err
	}
	if found && root != nil { // the same output again: how it came to be is recorded already
		r.result.Build = last
		err := r.writer().Create(ctx, storage.ReleaseKey(r.Plan.Site, record.Release.String()), root)
		if errors.Is(err, storage.ErrExists) {
			return nil
		}
		return err
	}
	for record.Number = newest + 1; ; record.Number++ {
		taken, err := r.commitRecord(ctx, record, root)
		if err != nil {
			return err
		}
		if !taken {
			r.result.Build = record
			return nil
		}
	}
}

// keyOf is where a build of the plan's site is recorded.
func (r *Run) keyOf(record builds.Record) string {
	return storage.BuildKey(r.Plan.Site, record.Key, record.Number)
}

// commitRecord reports whether the number is taken: by another build of the same key meanwhile, or by one whose record is on its way out
// and may be removed again.
func (r *Run) commitRecord(ctx context.Context, record builds.Record, root []byte) (taken bool, err error) {
	if r.hold.Doomed(r.keyOf(record)) {
		return true, nil
	}
	batch, err := r.writer().Begin(ctx)
	if err != nil {
		return false, err
	}
	defer batch.Discard()
	data, err := record.Encode()
	if err != nil {
		return false, err
	}
	key := r.keyOf(record)
	added, err := batch.Add(ctx, key, data)
	if err != nil {
		return false, err
	}
	if root != nil {
		if _, err := batch.Add(ctx, storage.ReleaseKey(r.Plan.Site, record.Release.String()), root); err != nil {
			return false, err
		}
	}
	names, err := batch.Commit(ctx)
	for _, name := range names {
		taken = taken || name == key
	}
	return taken || !added, err
}

// describe fills in what the plan knows of a build.
func (r *Run) describe(ctx context.Context, record *builds.Record) error {
	plan := r.Plan
	inputs := plan.Inputs
	record.Source, record.Branch, record.Subject, record.Commit = plan.Origin.Source, plan.Origin.Branch, plan.Origin.Subject, plan.Origin.Commit
	record.Who = plan.Project.Person(ctx)
	if plan.Commit != nil {
		record.Tree, record.Author = plan.Commit.Tree, plan.Commit.Author
	}
	record.Told = plan.Told
	if plan.Origin.Source != journal.FromCommit {
		inputs = builds.Inputs{Source: plan.Origin.Source, Release: record.Release, Commit: plan.Origin.Commit}
	}
	if plan.Origin.Source == journal.FromWorkingTree {
		record.Changed = plan.Uncommitted()
	}
	var err error
	record.Key, err = inputs.Key()
	return err
}

// recordFailure keeps the log of a build that did not succeed, and the record of one that failed, as far as the store allows: the
// build's own error is what the user must see.
func (r *Run) recordFailure(ctx context.Context, record builds.Record, log string, failed bool) []digest.Digest {
	batch, err := r.Store.Begin(ctx)
	if err != nil {
		return nil
	}
	defer batch.Discard()
	if record.Log, err = addLog(ctx, batch, log); err != nil {
		return nil
	}
	if _, err = batch.Commit(ctx); err == nil && failed {
		r.record(ctx, record, nil) //nolint:errcheck // see above
	}
	return record.Log
}

// memory loads the remembered digests of a folder.
func (r *Run) memory(folder string) *publish.Memory {
	data, err := os.ReadFile(r.memoryFile(folder))
	if err == nil {
		if memory, err := publish.DecodeMemory(data); err == nil {
			return memory
		}
	}
	return publish.NewMemory()
}

// saveMemory keeps them for the next time. Without them it is only slower.
func (r *Run) saveMemory(folder string, memory *publish.Memory) {
	if r.Plan.Origin.Source == journal.FromCommit {
		return // the workspace goes
	}
	path := r.memoryFile(folder)
	if os.MkdirAll(filepath.Dir(path), 0o700) != nil {
		return
	}
	temporary, err := os.CreateTemp(filepath.Dir(path), "new-*")
	if err != nil {
		return
	}
	_, err = temporary.Write(memory.Encode())
	if errors.Join(err, temporary.Close()) != nil || os.Rename(temporary.Name(), path) != nil {
		os.Remove(temporary.Name()) //nolint:errcheck // litter in the cache
	}
}

func (r *Run) memoryFile(folder string) string {
	absolute, err := filepath.Abs(folder)
	if err != nil {
		absolute = folder
	}
	sum := digest.Of([]byte(absolute))
	return filepath.Join(r.Plan.Project.Places.Cache, "digests", hex.EncodeToString(sum[:12]))
}
