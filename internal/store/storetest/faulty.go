package storetest

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

// Faulty stands between an S3 client and its server and
// does what networks and servers do on bad days.
type Faulty struct {
	Counts
	Listen string

	target string
	server *http.Server
	client http.Client
	mutex  sync.Mutex
	random *rand.Rand
	rate   float64
	kinds  []Fault
	answer func(*http.Request) (status int, code string) // 0: none of its own
	ahead  time.Duration
	way    way
}

// Counts are how many requests there were.
type Counts struct {
	Requests atomic.Int64
	Faults   atomic.Int64 // how many answers were spoiled
	Lost     atomic.Int64 // of those, answers of requests that had succeeded
}

// way is the time that requests are on their way to a server that is far.
type way struct {
	long  time.Duration // of each
	now   int           // how many are on it
	since time.Time     // one is
	spent time.Duration // at least one was
}

// StartFaulty stands before a server. Of all requests about the share of rate
// goes wrong, in ways that the seed decides. The caller stops it.
func StartFaulty(target string, rate float64, seed uint64) (*Faulty, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	f := &Faulty{Listen: listener.Addr().String(), target: target, rate: rate,
		kinds:  []Fault{Dropped, Refused500, Refused503, Lost, Truncated, Delayed},
		random: rand.New(rand.NewPCG(seed, 7))}

	f.client.Transport = &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true}
	f.server = &http.Server{Handler: f, ReadHeaderTimeout: time.Minute}
	go f.server.Serve(listener) //nolint:errcheck // ends with Stop
	return f, nil
}

// Stop ends it.
func (f *Faulty) Stop() { f.server.Close() } //nolint:errcheck // it ends

// Only limits the faults to the given kinds.
func (f *Faulty) Only(kinds ...Fault) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.kinds = kinds
}

// Rate changes which share of requests goes wrong.
func (f *Faulty) Rate(rate float64) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.rate = rate
}

// Answer makes it answer requests itself, with a status and the code of an S3
// error; status 0 passes a request on.
func (f *Faulty) Answer(answer func(*http.Request) (status int, code string)) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.answer = answer
}

// Ahead moves the server's clock, as its answers tell it.
func (f *Faulty) Ahead(by time.Duration) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.ahead = by
}

// Pause makes each request take longer by as much, as over a network.
func (f *Faulty) Pause(by time.Duration) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.way = way{long: by}
}

// After returns how many requests were made after one another since Pause: those that
// overlap count as one.
func (f *Faulty) After() int64 {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return int64((f.way.spent + f.way.long/2) / f.way.long)
}

// travel lets a request take its time.
func (f *Faulty) travel() {
	count := func(by int) {
		f.mutex.Lock()
		defer f.mutex.Unlock()
		if f.way.now += by; by > 0 && f.way.now == 1 {
			f.way.since = time.Now()
		} else if f.way.now == 0 {
			f.way.spent += time.Since(f.way.since)
		}
	}
	f.mutex.Lock()
	long := f.way.long
	f.mutex.Unlock()
	if long > 0 {
		count(1)
		time.Sleep(long)
		count(-1)
	}
}

// Fault is something that goes wrong with a request.
type Fault int

// The faults.
const (
	None       Fault = iota
	Dropped          // the connection ends before the request is passed on
	Refused500       // the server says that it failed
	Refused503       // the server says that it has too much to do
	Lost             // the request is carried out, and its answer never comes
	Truncated        // the answer ends in its middle
	Delayed          // the answer comes late
)

// choose decides by the seed what goes wrong with the next request, if
// anything.
func (f *Faulty) choose() (fault Fault, pause time.Duration) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.random.Float64() >= f.rate {
		return None, 0
	}
	f.Faults.Add(1)
	return f.kinds[f.random.IntN(len(f.kinds))], time.Duration(f.random.IntN(300)) * time.Millisecond
}

// ServeHTTP implements http.Handler.
func (f *Faulty) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mutex.Lock()
	answer, ahead := f.answer, f.ahead
	f.mutex.Unlock()
	f.Requests.Add(1)
	f.travel()
	if ahead != 0 {
		w.Header().Set("Date", time.Now().Add(ahead).UTC().Format(http.TimeFormat))
	}

	if answer != nil {
		if status, code := answer(r); status != 0 {
			refuse(w, status, code)
			return
		}
	}

	fault, late := f.choose()
	switch fault {
	case Dropped:
		panic(http.ErrAbortHandler) // ends the connection
	case Refused500:
		refuse(w, http.StatusInternalServerError, "InternalError")
		return
	case Refused503:
		refuse(w, http.StatusServiceUnavailable, "SlowDown")
		return
	case Delayed:
		time.Sleep(late)
	}

	response, body, err := f.forward(r)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	if fault == Lost {
		if response.StatusCode < 300 {
			f.Lost.Add(1)
		}
		panic(http.ErrAbortHandler)
	}

	for name, values := range response.Header {
		if ahead == 0 || name != "Date" {
			w.Header()[name] = values
		}
	}

	if fault == Truncated && len(body) > 0 {
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
		w.WriteHeader(response.StatusCode)
		w.Write(body[:len(body)/2]) //nolint:errcheck // it is spoiled on purpose
		panic(http.ErrAbortHandler)
	}
	w.WriteHeader(response.StatusCode)
	w.Write(body) //nolint:errcheck // the client notices
}

// forward passes a request on as it was signed.
func (f *Faulty) forward(r *http.Request) (*http.Response, []byte, error) {
	sent, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, nil, err
	}
	request, err := http.NewRequest(r.Method, "http://"+f.target+r.URL.RequestURI(), bytes.NewReader(sent))
	if err != nil {
		return nil, nil, err
	}

	request.Header, request.Host, request.ContentLength = r.Header.Clone(), r.Host, int64(len(sent))
	response, err := f.client.Do(request)
	if err != nil {
		return nil, nil, err
	}
	defer response.Body.Close() //nolint:errcheck // read only
	body, err := io.ReadAll(response.Body)
	return response, body, err
}

// refuse answers with an error in the form of S3.
func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.Header().Set("Last-Modified", time.Now().UTC().Format(http.TimeFormat))
	w.WriteHeader(status)
	//nolint:errcheck // the client notices
	fmt.Fprintf(w, "<?xml version=\"1.0\" encoding=\"UTF-8\"?><Error><Code>%s</Code><Message>as "+
		"the test says</Message></Error>", code)
}
