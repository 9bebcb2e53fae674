package main

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/store/storetest"
)

// What is compared with does less: it puts files where they are to be, one by one, and whoever reads
// meanwhile sees some of them. It is what people use, and so the measure of what wholeness may cost.
//
// Servers, and both tools, run on this machine, so the way between them costs nothing, and what is
// measured is work. What a way costs is counted in requests, and told beside the times.

// measureStores compares uploads to real servers on this machine with general-purpose
// tools that put the same files there.
func measureStores(b *bench) {
	gateway, err := storetest.StartS3(b.unused())
	if err != nil {
		log.Fatal(err)
	}
	defer gateway.Stop()
	folder := b.unused()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		log.Fatal(err)
	}

	server, err := storetest.StartSSH(folder, "")
	if err != nil {
		log.Fatal(err)
	}
	defer server.Stop()
	os.Setenv("AWS_ACCESS_KEY_ID", storetest.AccessKey)     //nolint:errcheck // a name without =
	os.Setenv("AWS_SECRET_ACCESS_KEY", storetest.SecretKey) //nolint:errcheck // see above
	tree := b.tree(10_000, 90_000_000)
	measureBuckets(b, gateway, tree)
	measureSSH(b, server, tree)
	measureRequests(b, gateway)
}

// measureBuckets compares a fresh upload with a bare loop of the client library, with
// the number of workers that is best here.
func measureBuckets(b *bench, gateway *storetest.S3Server, tree string) {
	client, err := minio.New(gateway.Listen,
		&minio.Options{Creds: credentials.NewStaticV4(storetest.AccessKey, storetest.SecretKey, ""),
			Region: "us-east-1"})
	if err != nil {
		log.Fatal(err)
	}

	bucket := func() string {
		b.count++
		name := fmt.Sprintf("bench-%d", b.count)
		if err := os.MkdirAll(filepath.Join(gateway.Folder, name), 0o755); err != nil {
			log.Fatal(err)
		}
		return name
	}

	best, fastest := 0, time.Hour
	for _, workers := range []int{4, 8, 16, 32, 64} {
		b.sync()
		took := putAll(client, bucket(), tree, workers)
		fmt.Printf("%-62s %.2f s\n", fmt.Sprintf("%s: bare puts with %d workers", b.where, workers),
			took.Seconds())
		if took < fastest {
			best, fastest = workers, took
		}
	}

	b.compare(fmt.Sprintf("fresh upload to S3 of 10,000 files, 90 MB / bare puts (%d)", best), 1/0.9,
		func(int) time.Duration {
			store := gateway.Store(bucket(), "")
			b.orilla(b.unused(), "store", "init", "--store", store)
			return b.deploy(b.unused(), tree, "--store", store)
		}, func(int) time.Duration { return putAll(client, bucket(), tree, best) })
}

// putAll puts every file of a tree under its path.
func putAll(client *minio.Client, bucket, tree string, workers int) time.Duration {
	started := time.Now()
	var group errgroup.Group
	group.SetLimit(workers)
	err := filepath.WalkDir(tree, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		group.Go(func() error {
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			name, err := filepath.Rel(tree, path)
			if err != nil {
				return err
			}

			_, err = client.PutObject(context.Background(), bucket, filepath.ToSlash(name),
				bytes.NewReader(data), int64(len(data)), minio.PutObjectOptions{})
			return err
		})

		return nil
	})
	if err == nil {
		err = group.Wait()
	}
	if err != nil {
		log.Fatal(err)
	}

	return time.Since(started)
}

// measureSSH compares a fresh upload over SFTP with rsync
// over SSH. rsync flushes nothing.
func measureSSH(b *bench, server *storetest.SSHServer, tree string) {
	host, port, _ := net.SplitHostPort(server.Listen)
	shell := fmt.Sprintf("ssh -p %s -i %s -o UserKnownHostsFile=%s -o IdentitiesOnly=yes", port, server.Key,
		server.Known)
	b.compare("fresh upload over SFTP of 10,000 files, 90 MB / rsync -a -e ssh", 99,
		func(i int) time.Duration {
			store := server.Store(fmt.Sprint("bench-", i))
			b.orilla(b.unused(), "store", "init", "--store", store)
			return b.deploy(b.unused(), tree, "--store", store)
		}, func(i int) time.Duration {
			target := filepath.Join(server.Folder, fmt.Sprint("copy-", i))
			return b.must(exec.Command("rsync", "-a", "-e", shell, tree+"/", server.User+"@"+host+":"+target+
				"/"))
		})
}

// measureRequests counts what is asked of an S3 server.
func measureRequests(b *bench, gateway *storetest.S3Server) {
	var count atomic.Int64
	target := &url.URL{Scheme: "http", Host: gateway.Listen}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(
			target)
		r.Out.Host = r.In.Host
	}}

	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}

	//nolint:errcheck,gosec // ends with the program
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		count.Add(1)
		proxy.ServeHTTP(w, r)
	}))

	store := gateway.Store("counted", listener.Addr().String())
	home, tree := b.unused(), b.tree(100_000, 20_000_000)
	b.orilla(home, "store", "init", "--store", store)
	asked := func(what string, do func() time.Duration) {
		count.Store(0)
		took := do()
		fmt.Printf("%-62s %d requests, %.2f s\n", b.where+": S3: "+what, count.Load(), took.Seconds())
	}

	asked("fresh deploy of 100,000 files",
		func() time.Duration { return b.deploy(home, tree, "--store", store) })
	if err := os.WriteFile(filepath.Join(tree, "index.html"), []byte("second"), 0o644); err != nil {
		log.Fatal(err)
	}

	asked("one changed file of 100,000, on the same machine",
		func() time.Duration { return b.deploy(home, tree, "--store", store) })
	if err := os.WriteFile(filepath.Join(tree, "index.html"), []byte("third"), 0o644); err != nil {
		log.Fatal(err)
	}

	asked("one changed file of 100,000, on another machine",
		func() time.Duration { return b.deploy(b.unused(), tree, "--store", store, "--take-over") })
	asked("rollback", func() time.Duration {
		return b.orilla(home, "rollback", "--site", "bench", "--store",
			store)
	})
}
