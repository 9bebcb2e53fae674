// Package inbox is a stand-in for those who are told something: a mail server that passes nothing
// on, and an address of webhooks. Both keep what they get in memory, and show it on a page.
//
//	box := &inbox.Box{}
//	go box.ServeMail(ctx, listener)
//	http.Serve(page, box.Page())
//	for _, item := range box.Items() { … }
//
// They can be made to misbehave, as the world does: see Trouble.
package inbox

import (
	"bytes"
	"embed"
	"html/template"
	"net/http"
	"strconv"
	"sync"
	"time"

	"orilla.example/orilla/internal/httpanswer"
)

// Bounds of a box: it is for trying things out, and whoever reaches it can fill it.
const (
	mostItems = 500
	mostBytes = 4 << 20 // of one mail or webhook
)

// Item is one mail, or one webhook.
type Item struct {
	Number   int
	When     time.Time
	ID       string // of the mail, or the event
	From, To string
	Title    string // the subject, or what the event says
	Text     string // as text
	HTML     string // of a mail that has it
	Raw      string // as it came
	Note     string // "signature is good", "over TLS, as orilla"
	Bad      bool   // the signature is not good
	Again    bool   // one with this id came before
}

// Trouble is how a stand-in misbehaves.
type Trouble struct {
	Refuse bool          // every mail, or webhook, with an error that is not for good
	Reject bool          // for good
	Slow   time.Duration // this long before each answer
}

// Box is what was got. Its zero value is empty; its methods are safe for concurrent use.
type Box struct {
	Trouble Trouble
	Secret  []byte     // what webhooks are signed with; empty: signatures are not looked at
	Tell    func(Item) // is told of each; nil for nobody

	mutex sync.Mutex
	items []Item
	count int
	seen  map[string]bool
}

// add keeps an item.
func (b *Box) add(item Item) {
	b.mutex.Lock()
	b.count++
	item.Number, item.When = b.count, time.Now()
	if b.seen == nil {
		b.seen = map[string]bool{}
	}
	item.Again = item.ID != "" && b.seen[item.ID]
	if len(b.seen) < 100*mostItems {
		b.seen[item.ID] = true
	}
	b.items = append(b.items, item)
	if len(b.items) > mostItems {
		b.items = b.items[1:]
	}
	b.mutex.Unlock()
	if b.Tell != nil {
		b.Tell(item)
	}
}

// Items returns what is kept, the newest last.
func (b *Box) Items() []Item {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return append([]Item{}, b.items...)
}

// Page shows what was got: a list, and one item at /NUMBER. What strangers wrote is shown as
// text, or in a frame that can run nothing and load nothing.
func (b *Box) Page() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		items := b.Items()
		for i, j := 0, len(items)-1; i < j; i, j = i+1, j-1 {
			items[i], items[j] = items[j], items[i]
		}
		httpanswer.Page(w, r, http.StatusOK, listPage, "stand-in", items)
	})
	mux.HandleFunc("GET /{number}", func(w http.ResponseWriter, r *http.Request) {
		if item, ok := b.find(r.PathValue("number")); ok {
			w.Header().Set("Content-Security-Policy",
				"default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'")
			httpanswer.Page(w, r, http.StatusOK, itemPage, "stand-in", item)
			return
		}
		http.NotFound(w, r)
	})
	mux.HandleFunc("GET /{number}/html", func(w http.ResponseWriter, r *http.Request) {
		item, ok := b.find(r.PathValue("number"))
		if !ok || item.HTML == "" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().
			Set("Content-Security-Policy", "sandbox; default-src 'none'; "+
				"style-src 'unsafe-inline'; img-src data:")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		bytes.NewBufferString(item.HTML).WriteTo(w) //nolint:errcheck // nobody reads it
	})
	return mux
}

// find returns an item by its number.
func (b *Box) find(number string) (Item, bool) {
	n, err := strconv.Atoi(number)
	for _, item := range b.Items() {
		if err == nil && item.Number == n {
			return item, true
		}
	}
	return Item{}, false
}

// What is shown was written by whoever could reach the stand-in, so it is shown as text. The page of
// a mail is shown as a page, in a frame that may run, load and send nothing: one wants to see what
// a mail program would make of it.

// The pages share their style: a list is wider than a message of an edge node.

//go:embed style.html list.html item.html
var files embed.FS

// page reads one of them.
func page(name string) *template.Template {
	shared := template.Must(template.New("style").Parse(read("style.html")))
	return template.Must(shared.New(name).Parse(read(name)))
}

// read returns a file that the program carries.
func read(name string) string {
	data, _ := files.ReadFile(name) // it is there, or the program would not have been built
	return string(data)
}

var listPage, itemPage = page("list.html"), page("item.html")
