package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// visit is what one visit took.
type visit struct {
	text  int64   // bytes of pages, scripts, style sheets and data, with their header fields
	all   int64   // bytes that came over the link, with TLS and what the browser fetches later
	load  float64 // milliseconds until the load event, of all pages together
	paint float64 // until the largest paint
}

// idle is how long a page is looked at: the browser fetches later what is of later use.
const idle = 1500 * time.Millisecond

// visitor comes three times: for the first time, again, and after a deploy.
func visitor(s *site, r *rival, l *link) ([]visit, error) {
	if err := r.show(0); err != nil {
		return nil, err
	}
	r.way.use(l)
	// A browser of its own has a cache of its own.
	options := append(slices.Clone(chromedp.DefaultExecAllocatorOptions[:]), chromedp.NoSandbox,
		chromedp.Env("HOME="+r.home))
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel := chromedp.NewContext(allocator, chromedp.WithErrorf(func(string, ...any) {}))
	defer cancel()
	if err := chromedp.Run(ctx, network.Enable()); err != nil {
		return nil, err
	}
	var visits []visit
	for i := range occasions {
		if i == 2 {
			if err := r.show(1); err != nil {
				return nil, err
			}
		}
		r.way.use(l) // also closes the connections: days have passed
		v, err := once(ctx, s, r)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", occasions[i], err)
		}
		visits = append(visits, v)
	}
	return visits, nil
}

// once opens the pages of a site, one after the other.
func once(ctx context.Context, s *site, r *rival) (visit, error) {
	var v visit
	before := r.way.down.bytes.Load()
	for _, path := range s.open {
		if err := page(ctx, "https://"+r.origin+path, s.shows, &v); err != nil {
			return v, err
		}
	}
	v.all = r.way.down.bytes.Load() - before
	return v, nil
}

// page opens a page, and adds what it took.
func page(ctx context.Context, url, shows string, v *visit) error {
	var mutex sync.Mutex
	kinds := map[network.RequestID]network.ResourceType{}
	var text int64
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	chromedp.ListenTarget(ctx, func(event any) {
		mutex.Lock()
		defer mutex.Unlock()
		switch e := event.(type) {
		case *network.EventRequestWillBeSent:
			kinds[e.RequestID] = e.Type
		// With its header fields, as they came, and nothing for what was in the browser's cache.
		case *network.EventLoadingFinished:
			if debug {
				fmt.Println("     ", url, kinds[e.RequestID], e.EncodedDataLength)
			}
			switch kinds[e.RequestID] {
			case network.ResourceTypeDocument, network.ResourceTypeScript, network.ResourceTypeStylesheet,
				network.ResourceTypeFetch, network.ResourceTypeXHR, network.ResourceTypeOther:
				text += int64(e.EncodedDataLength)
			}
		case *network.EventResponseReceived:
			if debug {
				fmt.Println("     ", e.Response.URL, e.Response.Status, e.Response.FromDiskCache,
					e.Response.Headers)
			}
		}
	})
	// The load event says when all that the page names was there, the largest paint when its
	// visitor could read it.
	var times []float64
	var shown string
	err := chromedp.Run(ctx, chromedp.Navigate(url), chromedp.WaitReady("body"), chromedp.Sleep(idle),
		chromedp.Evaluate(`document.body.innerText`, &shown),
		chromedp.Evaluate(`new Promise(done => new PerformanceObserver(list => {
			const load = performance.getEntriesByType("navigation")[0].loadEventEnd
			done([load, list.getEntries().at(-1).startTime])
		}).observe({type: "largest-contentful-paint", buffered: true}))`, &times,
			chromedp.EvalAsValue, awaited))
	if err != nil {
		return err
	}
	if !strings.Contains(shown, shows) || len(times) != 2 || times[0] == 0 {
		return fmt.Errorf("%s was not shown whole: %.60q, %v", url, shown, times)
	}
	mutex.Lock()
	defer mutex.Unlock()
	v.text, v.load, v.paint = v.text+text, v.load+times[0], v.paint+times[1]
	return nil
}

// awaited has an expression's promise awaited.
func awaited(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
