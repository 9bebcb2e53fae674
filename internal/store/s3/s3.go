// Package s3 keeps a store in a bucket of an S3-compatible object store.
//
//	s3://corvane/stores?region=north&endpoint=https://storage.example
//
// Each key is an object below the store's prefix. A PUT is durable and visible at
// once, and whole; If-None-Match: * makes it fail if the key is taken. Whether a
// server really keeps to that is tried out when a store is made: one that ignores
// the condition would let two deploys overwrite each other's entries.
//
// An answer that is lost leaves open whether the request was carried out. For a
// Create that matters; so bytes are compared, and what is there already and is
// equal was ours.
package s3

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// Store is a store in a bucket. It implements storage.Store, storage.Clock,
// storage.Remover and storage.Wide.
type Store struct {
	config  Config
	core    minio.Core
	account string
	ahead   atomic.Pointer[time.Duration]
}

var (
	_ storage.Remote  = (*Store)(nil)
	_ storage.Clock   = (*Store)(nil)
	_ storage.Remover = (*Store)(nil)
	_ storage.Wide    = (*Store)(nil)
)

// parallel is how many requests at once are worth while: with small objects,
// most of the time goes into waiting for answers.
const parallel = 24

// Open returns the store at an address. Nothing is asked of the server yet. The
// error is storage.ErrCredentials if there are none. getenv is os.Getenv.
func Open(config Config, getenv func(string) string) (*Store, error) {
	keys, account, err := config.credentials(getenv)
	if err != nil {
		return nil, err
	}
	s, err := connect(config, keys)
	if err == nil {
		s.account = account
	}
	return s, err
}

// connect returns a store that has asked nothing of its server yet.
func connect(config Config, keys *credentials.Credentials) (*Store, error) {
	// No proxy timeouts of the library's: the address says how long an answer
	// may take.
	secure := config.Endpoint.Scheme == "https"
	transport, err := minio.DefaultTransport(secure)
	if err != nil {
		return nil, err
	}

	transport.ResponseHeaderTimeout, transport.MaxIdleConnsPerHost = config.Timeout, 128
	transport.DialContext = (&net.Dialer{Timeout: min(config.Timeout, 10*time.Second),
		KeepAlive: 30 * time.Second}).DialContext
	s := &Store{config: config}
	style := minio.BucketLookupDNS
	if config.PathStyle {
		style = minio.BucketLookupPath
	}

	// The library only signs and parses. What is repeated, and what an answer
	// means for a record, is decided here.
	client, err := minio.New(config.Endpoint.Host, &minio.Options{
		Creds: keys, Secure: secure, Transport: &clocked{transport, &s.ahead}, Region: config.Region,
		BucketLookup:    style,
		TrailingHeaders: true, // allows checksums to be given
		MaxRetries:      1,    // repeating is done here, where what an answer means is known
	})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAddress, err)
	}
	s.core = minio.Core{Client: client}
	return s, nil
}

// credentials finds keys in the usual places: the environment, the profile's
// file, and where a machine's own role is told.
func (c Config) credentials(getenv func(string) string) (*credentials.Credentials, string, error) {
	file, profile := credentialsFile(getenv), c.profileName(getenv)
	providers := []struct {
		provider credentials.Provider
		from     string
	}{
		{&credentials.EnvAWS{}, "AWS_ACCESS_KEY_ID"},
		{&credentials.FileAWSCredentials{Filename: file, Profile: profile}, "profile " + profile + " of " +
			file},
	}

	if c.Profile != "" { // said in the address, it comes before the environment
		slices.Reverse(providers)
	}
	// The role of a machine is asked for only where something says that there
	// is one: elsewhere the question waits for a timeout.
	if getenv("AWS_WEB_IDENTITY_TOKEN_FILE") != "" ||
		getenv("AWS_CONTAINER_CREDENTIALS_RELATIVE_URI") != "" ||
		getenv("AWS_CONTAINER_CREDENTIALS_FULL_URI") != "" {
		providers = append(providers, struct {
			provider credentials.Provider
			from     string
		}{&credentials.IAM{}, "this machine's role"})
	}

	for _, p := range providers {
		keys := credentials.New(p.provider)
		value, err := keys.GetWithContext(&credentials.CredContext{Client: http.DefaultClient})
		if err == nil && value.AccessKeyID != "" && value.SecretAccessKey != "" {
			return keys, value.AccessKeyID + " (" + p.from + ")", nil
		}
	}

	return nil, "", fmt.Errorf(
		"%w: there are none: neither AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY nor profile %s in %s",
		storage.ErrCredentials, profile, file)
}

// clocked learns the server's clock from the Date field of
// its answers, which counts in seconds.
type clocked struct {
	http.RoundTripper
	ahead *atomic.Pointer[time.Duration]
}

// RoundTrip implements http.RoundTripper. Every answer tells the server's clock
// (RFC 9110, section 6.6.1) to the second; half of one is added, as the clock
// is that much further on average.
func (c *clocked) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := c.RoundTripper.RoundTrip(request)
	if err == nil {
		if date, err := http.ParseTime(response.Header.Get("Date")); err == nil {
			// The field has whole seconds (RFC 9110, section 5.6.7), cut off;
			// half a second makes the error the smallest.
			ahead := time.Until(date.Add(500 * time.Millisecond))
			c.ahead.Store(&ahead)
		}
	}
	return response, err
}

// Ahead implements storage.Clock.
func (s *Store) Ahead() (time.Duration, bool) {
	if ahead := s.ahead.Load(); ahead != nil {
		return *ahead, true
	}
	return 0, false
}

// Parallel implements storage.Wide.
func (s *Store) Parallel() int { return parallel }

// Address returns what was given to Parse.
func (s *Store) Address() string { return s.config.given }

// ConfigOf returns what a store was opened with.
func ConfigOf(s *Store) Config { return s.config }

// Place implements storage.Remote.
func (s *Store) Place() string { return s.config.Place() }

// Account names the key that signs requests, and where it was found.
func (s *Store) Account() string { return s.account }

// name is the name of the object that a key is kept in.
func name(s *Store, key string) string {
	if s.config.Prefix == "" {
		return key
	}
	return s.config.Prefix + "/" + key
}

// Get implements storage.Store.
func (s *Store) Get(ctx context.Context, key string) (data []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	err = s.repeat(ctx, func(int) error {
		body, info, _, err := s.core.GetObject(ctx, s.config.Bucket, name(s, key), minio.GetObjectOptions{})
		if err != nil {
			return err
		}
		defer body.Close() //nolint:errcheck // read only
		// Whoever can write to the bucket could otherwise fill the memory of
		// every reader.
		if info.Size > 8*storage.MaxObject {
			return fmt.Errorf("an object of %d bytes is no part of a store", info.Size)
		}

		data = make([]byte, 0, max(info.Size, 0)+1)
		buffer := bytes.NewBuffer(data)
		_, err = io.Copy(buffer, io.LimitReader(body, 8*storage.MaxObject))
		data = buffer.Bytes()
		// A connection that ended early can look like the end of the body.
		if err == nil && info.Size >= 0 && int64(len(data)) != info.Size {
			err = io.ErrUnexpectedEOF
		}
		return err
	})
	if err != nil {
		return nil, err
	}

	return data, nil
}

// Slice implements storage.Slicer.
func (s *Store) Slice(ctx context.Context, key string, offset int64, length int) (data []byte, err error) {
	defer storage.Failed(&err, s, "get", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return nil, err
	}
	if length <= 0 {
		return nil, nil
	}
	var options minio.GetObjectOptions
	if err := options.SetRange(offset, offset+int64(length)-1); err != nil {
		return nil, err
	}
	err = s.repeat(ctx, func(int) error {
		body, info, _, err := s.core.GetObject(ctx, s.config.Bucket, name(s, key), options)
		if minio.ToErrorResponse(err).StatusCode == http.StatusRequestedRangeNotSatisfiable {
			data = nil // beyond its end
			return nil
		}
		if err != nil {
			return err
		}
		defer body.Close() //nolint:errcheck // read only
		data = make([]byte, length)
		n, err := io.ReadFull(body, data)
		data = data[:n]
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = nil
		}
		// A connection that ended early can look like the end of the body.
		if err == nil && info.Size >= 0 && int64(n) != info.Size {
			err = io.ErrUnexpectedEOF
		}
		return err
	})
	return data, err
}

// Stat implements storage.Store.
func (s *Store) Stat(ctx context.Context, key string) (item storage.Item, err error) {
	defer storage.Failed(&err, s, "stat", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return storage.Item{}, err
	}
	err = s.repeat(ctx, func(int) error {
		info, err := s.core.StatObject(ctx, s.config.Bucket, name(s, key), minio.StatObjectOptions{})
		item = storage.Item{Key: key, Size: info.Size, Modified: info.LastModified}
		return err
	})
	return item, err
}

// List implements storage.Store. One request brings up to a thousand items.
func (s *Store) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		if err := errors.Join(ctx.Err(), storage.CheckKey(folder)); err != nil {
			yield(storage.Item{}, storage.Wrap(err, s, "list", folder))
			return
		}
		prefix, token := name(s, folder)+"/", ""
		for {
			var page minio.ListBucketV2Result
			err := s.repeat(ctx, func(int) (err error) {
				page, err = listPage(ctx, s, prefix, token, "/", 1000)
				return err
			})
			if err != nil {
				yield(storage.Item{}, storage.Wrap(err, s, "list", folder))
				return
			}

			for _, item := range children(page, folder, prefix) {
				if ctx.Err() != nil || !yield(item, nil) {
					return
				}
			}

			if !page.IsTruncated {
				return
			}
			// Some servers forget it. A listing that silently ends early would
			// let a prune remove what is live.
			if token = page.NextContinuationToken; token == "" {
				yield(storage.Item{}, storage.Wrap(fmt.Errorf(
					"%w: it says that its listing goes on, and not how", storage.ErrUnable), s, "list",
					folder))
				return
			}
		}
	}
}

// listPage asks for one page of a listing. The library's
// call knows no context: it goes on by itself until it is
// answered or its time is up, and nobody waits for it.
func listPage(ctx context.Context, s *Store, prefix, token, delimiter string, most int,
) (minio.ListBucketV2Result, error) {
	type answer struct {
		page minio.ListBucketV2Result
		err  error
	}
	// The library's call takes no context, so it is left behind when the caller
	// cannot wait; the transport's timeout ends it.
	answers := make(chan answer, 1)
	go func() {
		page, err := s.core.ListObjectsV2(s.config.Bucket, prefix, "", token, delimiter, most)
		answers <- answer{page, err}
	}()

	select {
	case <-ctx.Done():
		return minio.ListBucketV2Result{}, ctx.Err()
	case a := <-answers:
		return a.page, a.err
	}
}

// children turns a page of a listing into items, in order.
func children(page minio.ListBucketV2Result, folder, prefix string) []storage.Item {
	items := make([]storage.Item, 0, len(page.Contents)+len(page.CommonPrefixes))
	for _, found := range page.Contents {
		// Keys that end in a slash are folders that other tools make.
		if name := strings.TrimPrefix(found.Key, prefix); name != "" && !strings.HasSuffix(name, "/") {
			items = append(items, storage.Item{Key: folder + "/" + name, Size: found.Size,
				Modified: found.LastModified})
		}
	}

	for _, found := range page.CommonPrefixes {
		if name := strings.Trim(strings.TrimPrefix(found.Prefix, prefix), "/"); name != "" {
			items = append(items, storage.Item{Key: folder + "/" + name, Folder: true})
		}
	}
	slices.SortFunc(items, func(a, b storage.Item) int { return strings.Compare(a.Key, b.Key) })
	return items
}

// Empty implements storage.Remote.
func (s *Store) Empty(ctx context.Context) (empty bool, err error) {
	defer storage.Failed(&err, s, "list", "")
	prefix := s.config.Prefix
	if prefix != "" {
		prefix += "/"
	}

	err = s.repeat(ctx, func(int) error {
		page, err := listPage(ctx, s, prefix, "", "", 2)
		empty = len(page.Contents) == 0
		return err
	})
	return empty, err
}

// Create implements storage.Store. If a request may have succeeded although its
// answer was lost, and the name is taken when it is repeated, then what is
// there is compared: the same bytes are those that were written.
func (s *Store) Create(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "create", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	repeated, sum := false, digest.Of(data)
	err = s.repeat(ctx, func(attempt int) error {
		repeated = attempt > 0
		return put(ctx, s, key, data, sum, true)
	})
	// The answer to an earlier try was lost. If what is there is what was sent,
	// that try had arrived, and this call has created it. Records hold a random
	// attempt, so no other writer's bytes are equal by chance.
	if repeated && errors.Is(err, storage.ErrExists) {
		there, readErr := s.Get(ctx, key)
		switch {
		case readErr == nil && bytes.Equal(there, data):
			return nil
		case readErr != nil: // whose it is cannot be known
			return readErr
		}
	}

	return err
}

// Replace implements storage.Store.
func (s *Store) Replace(ctx context.Context, key string, data []byte) (err error) {
	defer storage.Failed(&err, s, "replace", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	sum := digest.Of(data)
	return s.repeat(ctx, func(int) error { return put(ctx, s, key, data, sum, false) })
}

// put sends one object. The server compares it with its SHA-256, which is also
// what the request is signed with.
func put(ctx context.Context, s *Store, key string, data []byte, sum digest.Digest, onlyNew bool) error {
	options := minio.PutObjectOptions{
		// The server compares the sum: what was spoiled on the way is refused,
		// and not kept under the name of what it was.
		DisableContentSha256: true, // of the body in pieces: the sum of the whole is given
		UserMetadata: map[string]string{"x-amz-checksum-sha256": base64.StdEncoding.EncodeToString(
			sum[:])},
	}

	if onlyNew {
		options.SetMatchETagExcept("*")
	}
	_, err := s.core.PutObject(ctx, s.config.Bucket, name(s, key), bytes.NewReader(data), int64(len(data)),
		"",
		hex.EncodeToString(sum[:]), options)
	return err
}

// Delete implements storage.Store.
func (s *Store) Delete(ctx context.Context, key string) (err error) {
	defer storage.Failed(&err, s, "delete", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return err
	}
	err = s.repeat(ctx, func(int) error {
		return s.core.RemoveObject(ctx, s.config.Bucket, name(s, key), minio.RemoveObjectOptions{})
	})
	if errors.Is(err, storage.ErrNotFound) {
		return nil
	}
	return err
}

// Remove implements storage.Remover: a thousand keys a request.
func (s *Store) Remove(ctx context.Context, keys []string) (err error) {
	defer storage.Failed(&err, s, "remove", storage.First(keys))
	// A request may name a thousand keys.
	for some := range slices.Chunk(keys, 1000) {
		err := s.repeat(ctx, func(int) error {
			names := make(chan minio.ObjectInfo, len(some))
			for _, key := range some {
				names <- minio.ObjectInfo{Key: name(s, key)}
			}
			close(names)
			var failed error
			for result := range s.core.RemoveObjects(ctx, s.config.Bucket, names,
				minio.RemoveObjectsOptions{}) {
				if result.Err != nil && failed == nil &&
					minio.ToErrorResponse(result.Err).Code != minio.NoSuchKey {
					failed = result.Err
				}
			}

			return failed
		})
		if err != nil {
			return err
		}
	}

	return ctx.Err()
}

// Begin implements storage.Store. What is added is durable and visible at once.
func (s *Store) Begin(ctx context.Context) (_ storage.Batch, err error) {
	defer storage.Failed(&err, s, "begin", "")
	return &batch{store: s, seen: map[string]bool{}, records: map[string][]byte{}}, ctx.Err()
}

// batch writes objects at once, and records when it is committed.
type batch struct {
	store   *Store
	mutex   sync.Mutex
	seen    map[string]bool
	records map[string][]byte // what is not an object waits for Commit
	ended   bool
}

// Add implements storage.Batch. An object is written without asking, at once.
func (b *batch) Add(ctx context.Context, key string, data []byte) (_ bool, err error) {
	defer storage.Failed(&err, b.store, "add", key)
	if err := errors.Join(ctx.Err(), storage.CheckKey(key)); err != nil {
		return false, err
	}
	if taken, err := b.take(key, data); !taken || err != nil {
		return false, err
	}

	if !strings.HasPrefix(key, "objects/") {
		return true, nil
	}
	// Objects are put without a condition: whoever puts one under its digest
	// puts the same bytes.
	sum, named := digest.FromKey(key) // should the bytes be others, the server refuses them
	if !named {
		sum = digest.Of(data)
	}
	return true, b.store.repeat(ctx, func(int) error { return put(ctx, b.store, key, data, sum, false) })
}

// take reports whether the batch did not have a key, and
// keeps the bytes of a record.
func (b *batch) take(key string, data []byte) (bool, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	switch {
	case b.ended:
		return false, errors.New("the batch has ended")
	case b.seen[key]:
		return false, nil
	}

	b.seen[key] = true
	if !strings.HasPrefix(key, "objects/") {
		b.records[key] = slices.Clone(data)
	}
	return true, nil
}

// Commit implements storage.Batch. Records are written
// only if their names are free.
func (b *batch) Commit(ctx context.Context) (taken []string, err error) {
	defer storage.Failed(&err, b.store, "commit", "")
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.ended {
		return nil, errors.New("the batch has ended")
	}

	b.ended = true
	var mutex sync.Mutex
	group, each := errgroup.WithContext(ctx)
	group.SetLimit(parallel)

	// Records last, and only if they are not there: with them, what the batch
	// holds begins to count.
	for key, data := range b.records {
		group.Go(func() error {
			err := b.store.Create(each, key, data)
			if !errors.Is(err, storage.ErrExists) {
				return err
			}
			there, err := b.store.Get(each, key)
			if err == nil && !bytes.Equal(there, data) {
				mutex.Lock()
				defer mutex.Unlock()
				taken = append(taken, key)
			}
			return err
		})
	}

	return taken, errors.Join(group.Wait(), ctx.Err())
}

// Discard implements storage.Batch.
func (b *batch) Discard() {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.ended = true
}
