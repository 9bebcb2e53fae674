// Package metrics counts what an edge node does, for systems that ask it now and then
// (OpenMetrics, prometheus/client_golang).
//
//	requests, bytes, durations, cache     from each visit
//	requests to the store, times, errors  from a store around the store (Store)
//	everything else                       asked when somebody asks: entries, connections,
//	                                      certificates, lines that were dropped
//
// Nothing that a stranger chooses becomes a label: hosts, paths and agents do not, and a site
// or an environment only if the node serves it. So there are as many series as there are
// environments and answers, however long somebody tries.
package metrics

import (
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"orilla.example/orilla/internal/core/visits"
)

// Metrics counts. Make it with New. Its methods are safe for concurrent use.
type Metrics struct {
	registry *prometheus.Registry

	requests *prometheus.CounterVec
	bytes    *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	cache    *prometheus.CounterVec
	known    sync.Map // *series by which

	upstreams       *prometheus.CounterVec
	upstreamSeconds *prometheus.HistogramVec

	storeSeconds *prometheus.HistogramVec
	storeFailed  *prometheus.CounterVec
}

// Sources are what is asked when somebody asks.
type Sources struct {
	Version string
	// Entries lists what the node serves.
	Entries func() []Entry
	// Looked is when the store last answered; zero for never.
	Looked func() time.Time
	// Connections are open, and for so many there was no room since the node began.
	Connections func() (open int, turned int64)
	// Dropped is how many lines of the access log were not written; nil without one.
	Dropped func() int64
	// Certificates are the names that have one, with its end; nil without any.
	Certificates func() map[string]time.Time
	// Cache is what lies on the disk, and may; nil without one.
	Cache func() (bytes, most int64)
	// Memory is what content and indexes take of memory, and may; nil if that is not known.
	Memory func() (content, contentMost, index, indexMost int64)
}

// Entry is what an environment serves.
type Entry struct {
	Site, Environment string
	Number            int64
}

// The bounds of durations, in seconds: from an answer out of memory to one that was waited for.
var (
	visitBounds = []float64{.0002, .001, .005, .02, .1, .5, 2, 10}
	storeBounds = []float64{.0005, .002, .01, .05, .2, 1, 5}
)

// New returns what counts for a node.
func New(sources Sources) *Metrics {
	m := &Metrics{registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "orilla_requests_total",
			Help: "Requests that were answered, by site, status, and what answered."},
			[]string{"site", "status", "by"}),
		bytes: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "orilla_response_bytes_total",
			Help: "Bytes of content that were sent."}, []string{"site"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "orilla_request_seconds",
			Help: "How long answers took, until the last byte was handed over.", Buckets: visitBounds},
			[]string{"by"}),
		cache: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "orilla_cache_total",
			Help: "Answers by where their content came from: memory (hit), or disk and store (miss)."},
			[]string{"result"}),
		upstreams: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "orilla_upstream_requests_total",
			Help: "Requests that were passed on, by site, upstream, and the hundreds of the status."},
			[]string{"site", "upstream", "status"}),
		upstreamSeconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "orilla_upstream_seconds",
			Help:    "How long answers of upstreams took, until the last byte was handed over.",
			Buckets: visitBounds},
			[]string{"site", "upstream"}),
		storeSeconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "orilla_store_request_seconds", Help: "How long requests to the store took.",
			Buckets: storeBounds}, []string{"operation"}),
		storeFailed: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "orilla_store_errors_total",
			Help: "Requests to the store that failed. That something is not there is no failure."},
			[]string{"operation"}),
	}
	m.registry.MustRegister(m.requests, m.bytes, m.seconds, m.cache, m.upstreams, m.upstreamSeconds,
		m.storeSeconds, m.storeFailed,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		&asked{sources})
	return m
}

// which is what a series counts.
type which struct {
	site   string
	status int
	by     visits.By
}

// The library finds a series by the texts of its labels, under a lock. Each combination is
// looked up once, and remembered by what it is made of.

// An upstream is what a rule or orilla.yaml names, and both are of somebody who deploys: so there are
// as many as are deployed, whatever visitors ask for. Requests that are passed on take milliseconds
// in any case, so their series are looked up each time.

// series are the counters of one combination of labels. Looking them up by their texts would
// cost more than a small answer.
type series struct {
	requests, bytes prometheus.Counter
	seconds         prometheus.Observer
}

// Visited counts a request. Sites of a visit are those that the node serves.
func (m *Metrics) Visited(v *visits.Visit) {
	key := which{v.Site, v.Status, v.By}
	found, ok := m.known.Load(key)
	if !ok {
		found, _ = m.known.LoadOrStore(key, &series{
			requests: m.requests.WithLabelValues(v.Site, strconv.Itoa(v.Status), string(v.By)),
			bytes:    m.bytes.WithLabelValues(v.Site), seconds: m.seconds.WithLabelValues(string(v.By))})
	}
	s, _ := found.(*series)
	s.requests.Inc()
	s.bytes.Add(float64(v.Bytes))
	s.seconds.Observe(v.Took.Seconds())
	if v.Upstream != "" {
		class := "none" // the visitor has gone meanwhile
		if v.Status > 0 {
			class = strconv.Itoa(v.Status/100) + "xx"
		}
		m.upstreams.WithLabelValues(v.Site, v.Upstream, class).Inc()
		m.upstreamSeconds.WithLabelValues(v.Site, v.Upstream).Observe(v.Took.Seconds())
	}
	if v.Cache != visits.NoContent {
		m.cache.WithLabelValues(string(v.Cache)).Inc()
	}
}

// atOnce is how many answers with metrics are made at a time.
const atOnce = 4

// Handler answers with all metrics at /metrics.
func (m *Metrics) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{
		EnableOpenMetrics: true, MaxRequestsInFlight: atOnce, Timeout: 10 * time.Second}))
	return mux
}

// What only grows is counted where it happens; what the node knows anyway is asked for when
// somebody asks, so that it costs nothing in between and cannot fall behind.

// asked is what is asked of the node when somebody asks for metrics.
type asked struct{ Sources }

// described are metrics that are asked for.
var (
	infoDesc = prometheus.NewDesc("orilla_info", "1, with the version of the program.",
		[]string{"version"}, nil)
	entryDesc = prometheus.NewDesc("orilla_entry",
		"The number of the entry that an environment serves: it grows with each deploy and rollback.",
		[]string{"site", "environment"}, nil)
	lookedDesc = prometheus.NewDesc("orilla_store_last_answer_seconds",
		"How long ago the store last answered.", nil, nil)
	openDesc   = prometheus.NewDesc("orilla_connections", "Connections that are open.", nil, nil)
	turnedDesc = prometheus.NewDesc("orilla_connections_turned_away_total",
		"Connections for which there was no room.", nil, nil)
	droppedDesc = prometheus.NewDesc("orilla_access_log_dropped_total",
		"Lines of the access log that were not written.", nil, nil)
	endDesc = prometheus.NewDesc("orilla_certificate_end_timestamp_seconds",
		"When the certificate of a name ends, in seconds since 1970.", []string{"name"}, nil)
	memoryDesc = prometheus.NewDesc("orilla_memory_bytes",
		"What is kept in memory of the store, and may be.", []string{"what", "of"}, nil)
	cacheDesc = prometheus.NewDesc("orilla_cache_bytes", "What the cache on the disk holds, and may.",
		[]string{"what"}, nil)
)

// Describe implements prometheus.Collector. What there is depends on the node, so nothing is
// promised beforehand.
func (a *asked) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (a *asked) Collect(to chan<- prometheus.Metric) {
	gauge := func(desc *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(desc, prometheus.GaugeValue, value, labels...)
	}
	count := func(desc *prometheus.Desc, value int64) {
		to <- prometheus.MustNewConstMetric(desc, prometheus.CounterValue, float64(value))
	}
	gauge(infoDesc, 1, a.Version)
	for _, e := range a.Entries() {
		gauge(entryDesc, float64(e.Number), e.Site, e.Environment)
	}
	if at := a.Looked(); !at.IsZero() {
		gauge(lookedDesc, time.Since(at).Seconds())
	}
	open, turned := a.Connections()
	gauge(openDesc, float64(open))
	count(turnedDesc, turned)
	if a.Dropped != nil {
		count(droppedDesc, a.Dropped())
	}
	if a.Certificates != nil {
		for name, end := range a.Certificates() {
			gauge(endDesc, float64(end.Unix()), name)
		}
	}
	if a.Memory != nil {
		content, contentMost, index, indexMost := a.Memory()
		gauge(memoryDesc, float64(content), "held", "content")
		gauge(memoryDesc, float64(contentMost), "limit", "content")
		gauge(memoryDesc, float64(index), "held", "indexes")
		gauge(memoryDesc, float64(indexMost), "limit", "indexes")
	}
	if a.Cache != nil {
		bytes, most := a.Cache()
		gauge(cacheDesc, float64(bytes), "held")
		gauge(cacheDesc, float64(most), "limit")
	}
}
