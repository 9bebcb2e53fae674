package deploy

import (
	"cmp"
	"context"
	"io/fs"
	"maps"
	"path"
	"slices"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
)

// publishOutput brings an output into the store: it scans it, uploads what the
// store lacks, and records the release and its build.
//
// The order makes a root imply a whole release: first all objects,
// chunks and logs among them, then the root and the build record. If
// what was uploaded was removed by somebody meanwhile, it is
// uploaded again. What is returned with an error says what was sent.
func publishOutput(ctx context.Context, p *Prepared, output *build.Output, seen lookup) (Made, error) {
	// What is live is the best guess at what the store has already.
	live, err := liveRelease(ctx, p)
	if err != nil {
		return Made{}, err
	}
	upload := &uploading{p: p, output: output, live: live, seen: seen, unfinished: beginUpload(p)}
	// A prune that removes objects of ours while they are put is rare, so it is
	// looked for once, at the end, and everything is put again then.
	for {
		made, again, err := upload.once(ctx)
		if err != nil {
			return made, err
		}
		if !again {
			endUpload(p)
			return made, nil
		}
		upload.unfinished = true
	}
}

// uploading is an output on its way into the store.
type uploading struct {
	p          *Prepared
	output     *build.Output
	live       *release.Reader // that it is compared with; nil for none
	seen       lookup
	unfinished bool // an earlier try may have put objects: what is there is not sent again
}

// once tries to publish the output. again tells that objects that it put were
// removed meanwhile; then no root was written.
func (u *uploading) once(ctx context.Context) (made Made, again bool, err error) {
	p := u.p
	// Each try opens the output anew and scans it again: time has passed.
	put := newPutting(ctx, p)
	defer put.Keep()
	tree, done, err := u.output.Open()
	if err != nil {
		return made, false, err
	}
	defer done() //nolint:errcheck // read only

	files, scan, err := u.upload(ctx, tree, put, &made)
	if err != nil {
		return made, false, err
	}
	// Rules come after the files, since what they lead to has to be there, and
	// before the index, which names them.
	ruled, err := u.rules(ctx, tree, files)
	if err != nil {
		return made, false, err
	}

	if err := noteOrigins(ctx, p, ruled.in.Site.Rules); err != nil {
		return made, false, err
	}
	if err := put.addAll(ctx, ruled.objects); err != nil {
		return made, false, err
	}
	immutable := slices.Sorted(maps.Keys(ruled.in.Site.Unchanging))
	index, err := release.Assemble(files, immutable, ruled.set, p.Plan.Config.Settings())
	if err != nil {
		return made, false, err
	}

	// Whatever is refused from here on leaves objects that nothing leads to;
	// the next deploy of the same output finds them there.
	changes, err := u.addIndex(ctx, index, put)
	if err != nil {
		return made, false, err
	}
	made.semantics = index.Root.Semantics

	if err := refuseUnchanging(ctx, changes, u.live, p.Plan.Config.Settings()); err != nil {
		return made, false, err
	}
	made.Changes, made.Rules = CountChanges(changes), ruled.counts
	made.Differences, made.Trial = changes, p.Trial
	made.RulesChanged = u.live != nil && !release.SameSet(u.live.Root.Rules, ruled.set)

	// Pages are read as they were built, from the disk and not from the store.
	err = p.phases.Time("check", u.output.Name, func() (err error) {
		made.Findings, err = findBroken(ctx, p, ruled.in, changes, u.live, made.RulesChanged,
			openOutput(tree, scan))
		return err
	})
	if err != nil {
		return made, false, err
	}

	again, err = u.commit(ctx, put, index, ruled, &made)
	return made, again, err
}

// commit makes what was put durable, and then writes the record and the root.
func (u *uploading) commit(ctx context.Context, put *putting, index release.Index, ruled *ruled, made *Made,
) (again bool, err error) {
	p := u.p
	// The record says how the release came to be, and is written with the root:
	// a root without one could not be found by its inputs.
	record := u.output.Record
	record.Outcome, record.Rules, record.Release = builds.Succeeded, ruled.record, index.ID
	if record.Log, err = addLog(ctx, put, u.output.Log); err != nil {
		return false, err
	}

	made.Log = record.Log
	// Settling makes all objects durable and asks whether somebody condemned
	// any of them, or the root. Only then the root is written: where there is a
	// root, there is a whole release.
	put.root = storage.ReleaseKey(p.Plan.Site, index.ID.String())
	err = p.phases.Time("commit", "", func() error {
		if again, err = put.settle(ctx); again || err != nil {
			return err
		}
		made.ID, made.Files, made.Bytes = index.ID, index.Root.Files, index.Root.Bytes
		made.Build, err = keepRecord(ctx, p, record, index.Data, u.seen)
		return err
	})

	return again, err
}

// upload scans and fingerprints the output, and puts what the live release does
// not have. scan says where in the output each file lies. What was found and
// sent is noted in made, also if it then fails.
func (u *uploading) upload(ctx context.Context, tree publish.Output, put *putting, made *Made) (
	files []release.File, scan *publish.Scan, err error,
) {
	p := u.p
	err = p.phases.Time("scan", u.output.Name, func() (err error) {
		scan, err = publish.Find(tree, scanOptions(p), p.Now())
		return err
	})
	if err != nil {
		return nil, nil, u.output.Rename(err)
	}

	made.LeftOut = scan.LeftOut
	for _, notice := range scan.Notices {
		p.Report.Notice(notice)
	}

	// Of a folder that stays, digests are remembered by size, times and inode,
	// as Git's index does.
	memory := loadDigests(p, u.output.Folder)
	upload := &publish.Upload{
		Batch: put, Live: u.live, Memory: memory, Rehash: p.Rehash, Parallel: parallel(p), Rate: p.Rate,
		Seen: func(done publish.Progress) { p.Report.Uploaded(done, len(scan.Files), scan.Bytes) },
	}

	// Asking whether each object is there costs a request each, so it is asked
	// only if an earlier try was interrupted.
	if u.unfinished {
		upload.Known = put.there
	}
	err = p.phases.Time("upload", u.output.Name, func() error {
		var done publish.Progress
		files, done, err = upload.Run(ctx, tree, scan)
		made.NewFiles, made.NewBytes = done.NewFiles, done.NewBytes
		return err
	})
	if err == nil {
		saveDigests(p, u.output.Folder, memory)
	}

	return files, scan, err
}

// parallel is how many requests at once the store is asked.
func parallel(p *Prepared) int { return cmp.Or(p.Parallel, storage.Parallel(p.Store)) }

// scanOptions say what of an output is published, and how much at most.
func scanOptions(p *Prepared) publish.Options {
	config, limits := p.Plan.Config, p.Plan.Limits()
	// By the name that the configuration gives it: a workspace's path is nobody's
	// business, and goes away.
	output := config.Build.Output
	if p.Plan.Origin.Source == journal.FromOutput {
		output = ""
	}
	return publish.Options{
		LeaveOut: config.LeaveOut, Rules: config.RulesInOutput(), MaxFiles: limits.Files,
		MaxBytes: int64(limits.Size),
		MaxFile:  int64(limits.FileSize), WithoutIndex: p.NoIndex, Output: output,
	}
}

// rules reads and checks all rules, with those that the build wrote.
func (u *uploading) rules(ctx context.Context, tree publish.Output, files []release.File) (*ruled, error) {
	made := func(file string) ([]byte, error) { return fs.ReadFile(tree.FS, path.Clean(file)) }
	sources, err := site.RuleSources(u.p.Plan.Config, u.p.beside, made)
	if err != nil {
		return nil, err
	}
	return readRules(ctx, u.p, sources, files)
}

// addIndex puts the chunks that the live release lacks, and compares.
func (u *uploading) addIndex(ctx context.Context, index release.Index, put *putting,
) ([]release.Change, error) {
	// A chunk that the live release has too is whole by the order in which
	// things are written, so nobody asks the store.
	there := map[digest.Digest]bool{}
	if u.live != nil {
		refs, err := u.live.Refs(ctx)
		if err != nil {
			return nil, err
		}
		for _, ref := range refs {
			there[ref.Digest] = true
		}
		for _, object := range u.live.Root.Objects() {
			there[object] = true
		}
	}

	// Chunks that were just made are compared from memory: over a network,
	// reading back what one has just sent would double the round trips.
	fresh := map[digest.Digest][]byte{}
	group, adding := errgroup.WithContext(ctx)
	group.SetLimit(parallel(u.p))
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

	next := release.NewReader(index.ID, index.Root, func(ctx context.Context, d digest.Digest) ([]byte,
		error) {
		if data, ok := fresh[d]; ok {
			return data, nil
		}
		return u.p.objects.load(ctx, d)
	})
	return release.Compare(ctx, u.live, next)
}
