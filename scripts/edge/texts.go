package main

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
)

// What is compressed is held in memory by whoever sends it, and compressing takes memory
// too: both are bounded, and beyond that visitors get the text as it is.

// text is text of a size that no other is like, and that halves when it is compressed.
func text(size int) []byte { return []byte(hex.EncodeToString(random(size / 2))) }

// textSite makes a site of texts.
func (s *suite) textSite(ctx context.Context, name string, n, size int) *node {
	w, path := s.folderStore(name)
	check(w.Claim(ctx, "corvane"))
	files := map[string][]byte{"index.html": page}
	for i := range n {
		files[fmt.Sprintf("logs/%d.txt", i)] = text(size)
	}
	id, err := w.Put(ctx, "corvane", files)
	check(err)
	_, err = w.Activate(ctx, "corvane", "production", id)
	check(err)
	started := s.start(path, nil)
	started.ready("corvane.localhost", 200)
	return started
}

// texts reads many texts compressed, each in one of the codings, as a search engine does.
func texts(ctx context.Context, s *suite) error {
	n := s.textSite(ctx, "texts", 250, 4<<20)
	defer n.stop()
	var group errgroup.Group
	group.SetLimit(20)
	var encoded atomic.Int64
	began := time.Now()
	for i := range 250 {
		group.Go(func() error {
			r, err := http.NewRequest(http.MethodGet, fmt.Sprintf("http://%s/logs/%d.txt", n.address, i), nil)
			check(err)
			r.Host = "corvane.localhost"
			r.Header.Set("Accept-Encoding", []string{"br", "zstd", "gzip"}[i%3])
			answer, err := client.Do(r)
			if err != nil {
				return err
			}
			defer answer.Body.Close() //nolint:errcheck // read
			if answer.Header.Get("Content-Encoding") != "" {
				encoded.Add(1)
			}
			_, err = io.Copy(io.Discard, answer.Body)
			if err == nil && answer.StatusCode != http.StatusOK {
				err = fmt.Errorf("status %d", answer.StatusCode)
			}
			return err
		})
	}
	err := group.Wait()
	s.figure("memory of the node at most", n.peak(), 256, "MB")
	fmt.Printf("   %d of 250 were sent compressed, in %s\n", encoded.Load(),
		time.Since(began).Round(time.Millisecond))
	return err
}

// slowTexts reads many texts slowly, compressed: each reader's is another one.
func slowTexts(ctx context.Context, s *suite) error {
	n := s.textSite(ctx, "slow-texts", 300, 4<<20)
	defer n.stop()
	var readers sync.WaitGroup
	var broken, encoded atomic.Int64
	until := time.Now().Add(30 * time.Second)
	for i := range 300 {
		readers.Go(func() {
			c, err := net.Dial("tcp", n.address)
			check(err)
			defer c.Close()                      //nolint:errcheck // it was read
			c.(*net.TCPConn).SetReadBuffer(4096) //nolint:errcheck // it only makes it slower
			//nolint:errcheck // reading tells
			fmt.Fprintf(c, "GET /logs/%d.txt HTTP/1.1\r\nHost: corvane.localhost\r\n"+
				"Accept-Encoding: gzip\r\n\r\n", i)
			buffer := make([]byte, 3200)
			for first := true; time.Now().Before(until); first = false {
				if _, err := io.ReadFull(c, buffer); err != nil {
					broken.Add(1)
					return
				}
				if first && bytes.Contains(buffer, []byte("Content-Encoding: gzip")) {
					encoded.Add(1)
				}
				time.Sleep(100 * time.Millisecond)
			}
		})
	}
	readers.Wait()
	s.figure("memory of the node at most", n.peak(), 256, "MB")
	s.figure("readers that lost their answer", float64(broken.Load()), 0.5, "")
	fmt.Printf("   %d of 300 got it compressed\n", encoded.Load())
	return nil
}
