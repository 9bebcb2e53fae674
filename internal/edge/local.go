package edge

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fsnotify/fsnotify"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/release"
)

// Local answers from a folder as an edge node would once it is published. Pages reload by themselves when the folder changes,
// unless that is switched off: then the bytes are exactly those of the edge.
type Local struct {
	Root     string
	Base     string // where the site lies: "" or "/prefix"
	Reload   bool
	Settings release.Settings
	// Scan looks at the folder and returns its files with the paths of their sources, relative to Root.
	Scan func(ctx context.Context) ([]release.File, map[string]string, error)
	Tell func(Event) // is told of requests and of trouble; nil for nobody

	current atomic.Pointer[localFiles]
	mutex   sync.Mutex
	waiting map[chan struct{}]bool // open pages
}

// localFiles is what the folder held at the last look.
type localFiles struct {
	files   map[string]release.File
	sources map[string]string
}

// Lookup implements answer.Files.
func (f *localFiles) Lookup(_ context.Context, path string) (release.File, bool, error) {
	file, ok := f.files[path]
	return file, ok, nil
}

// Refresh looks at the folder, has open pages reload if something changed, and returns how many files there are and the paths
// of those that changed. After an error the last good state goes on being served.
func (l *Local) Refresh(ctx context.Context) (int, []string, error) {
	files, sources, err := l.Scan(ctx)
	if err != nil {
		return 0, nil, err
	}
	next := &localFiles{files: make(map[string]release.File, len(files)), sources: sources}
	for _, file := range files {
		next.files[file.Path] = file
	}
	changed := different(l.current.Swap(next), next)
	if len(changed) > 0 {
		l.announce()
	}
	return len(files), changed, nil
}

// different returns the paths at which two states differ, in order.
func different(before, after *localFiles) []string {
	if before == nil {
		return nil
	}
	var paths []string
	for path, file := range after.files {
		if old, ok := before.files[path]; !ok || old.Digest != file.Digest {
			paths = append(paths, path)
		}
	}
	for path := range before.files {
		if _, ok := after.files[path]; !ok {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	return paths
}

func (l *Local) announce() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for page := range l.waiting {
		select {
		case page <- struct{}{}:
		default:
		}
	}
}

// The addresses below answer.Reserved that local serving answers.
const (
	reloadScript  = "/" + answer.Reserved + "/reload.js"
	reloadChanges = "/" + answer.Reserved + "/changes"
)

// ServeHTTP answers a request.
func (l *Local) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if l.Reload && r.URL.Path == reloadScript {
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		io.WriteString(w, script) //nolint:errcheck // the browser has gone
		return
	}
	if l.Reload && r.URL.Path == reloadChanges {
		l.changes(w, r)
		return
	}
	counted := &countingWriter{ResponseWriter: w}
	by := l.serve(counted, r)
	if l.Tell != nil {
		l.Tell(Event{Time: time.Now(), Kind: "request", Method: r.Method, Path: r.URL.EscapedPath(), Status: counted.status, By: by, Bytes: counted.bytes})
	}
}

func (l *Local) serve(w http.ResponseWriter, r *http.Request) string {
	if l.Base != "" && r.URL.Path == "/" {
		return toBase(w, l.Base)
	}
	files := l.current.Load()
	if files == nil {
		return say(w, r, http.StatusServiceUnavailable, "There is nothing to serve yet.")
	}
	a, err := answer.Decide(r.Context(), request(r, l.Base, answer.Production, time.Now()), answer.Site{Files: files, Settings: l.Settings})
	if err == nil && l.Reload && a.File != nil && strings.HasPrefix(a.File.Type, "text/html") {
		err = l.page(w, r, a, files)
	} else if err == nil {
		err = respond(w, r, a, l.contents(files))
	}
	if err != nil {
		if l.Tell != nil {
			l.Tell(Event{Time: time.Now(), Kind: "trouble", Method: r.Method, Host: r.Host, Path: r.URL.EscapedPath(), Status: 500, Text: err.Error()})
		}
		return "trouble"
	}
	by := string(a.By)
	if a.File != nil {
		by = a.File.Path
	}
	if a.Location != "" {
		by = "-> " + a.Location
	}
	return by
}

// localContents reads from the folder.
type localContents struct {
	root  string
	files *localFiles
}

func (l *Local) contents(files *localFiles) contents { return localContents{l.Root, files} }

func (c localContents) open(_ context.Context, file release.File) (io.ReadSeeker, error) {
	data, err := os.ReadFile(filepath.Join(c.root, filepath.FromSlash(c.files.sources[file.Path])))
	return bytes.NewReader(data), err
}

// page sends a page with the line that makes it reload. It has no entity tag, since these are not the bytes of the release.
func (l *Local) page(w http.ResponseWriter, r *http.Request, a answer.Answer, files *localFiles) error {
	content, err := l.contents(files).open(r.Context(), *a.File)
	if err != nil {
		fail(w, r)
		return err
	}
	data, err := io.ReadAll(content)
	if err != nil {
		fail(w, r)
		return err
	}
	line := []byte(`<script src="` + reloadScript + `" defer></script>`)
	if at := bytes.LastIndex(bytes.ToLower(data), []byte("</body>")); at >= 0 {
		data = append(data[:at:at], append(line, data[at:]...)...)
	} else {
		data = append(data, line...)
	}
	for _, field := range a.Header {
		w.Header().Add(field.Name, field.Value)
	}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Length", strconv.Itoa(len(data)))
	w.WriteHeader(a.Status)
	if r.Method != http.MethodHead {
		w.Write(data) //nolint:errcheck // the browser has gone
	}
	return nil
}

// script reloads the page when the folder changed, and when serving comes back after it had ended.
const script = `(() => {
  let lost = false;
  const changes = new EventSource(` + "`" + reloadChanges + "`" + `);
  changes.onmessage = () => location.reload();
  changes.onerror = () => { lost = true; };
  changes.onopen = () => { if (lost) location.reload(); };
  addEventListener("pagehide", () => changes.close());
})();
`

// changes is a stream of server-sent events, one for each change of the folder.
func (l *Local) changes(w http.ResponseWriter, r *http.Request) {
	page := make(chan struct{}, 1)
	l.mutex.Lock()
	if l.waiting == nil {
		l.waiting = map[chan struct{}]bool{}
	}
	l.waiting[page] = true
	l.mutex.Unlock()
	defer func() {
		l.mutex.Lock()
		delete(l.waiting, page)
		l.mutex.Unlock()
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	control := http.NewResponseController(w)
	io.WriteString(w, ": open\n\n") //nolint:errcheck // the next write tells
	if control.Flush() != nil {
		return
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		text := ": still here\n\n"
		select {
		case <-r.Context().Done():
			return
		case <-page:
			text = "data: changed\n\n"
		case <-beat.C:
		}
		if _, err := io.WriteString(w, text); err != nil || control.Flush() != nil {
			return
		}
	}
}

// settleDown is how long a folder must be quiet before it is looked at: builds write many files in a row.
const settleDown = 120 * time.Millisecond

// Watch calls changed after each change below Root, until the context ends. Where the system cannot tell of changes, it looks
// every second.
func (l *Local) Watch(ctx context.Context, changed func()) {
	watcher, err := fsnotify.NewWatcher()
	if err == nil {
		defer watcher.Close() //nolint:errcheck // nothing to lose
		err = watchFolders(watcher, l.Root)
	}
	if err != nil {
		every(ctx, time.Second, changed)
		return
	}
	var quiet <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case event, ok := <-watcher.Events:
			if !ok {
				return
			}
			if event.Has(fsnotify.Create) || event.Has(fsnotify.Remove) {
				watchFolders(watcher, l.Root) //nolint:errcheck // what went again cannot be watched
			}
			quiet = time.After(settleDown)
		case <-watcher.Errors:
			quiet = time.After(settleDown)
		case <-quiet:
			quiet = nil
			watchFolders(watcher, l.Root) //nolint:errcheck // see above
			changed()
		}
	}
}

func every(ctx context.Context, pause time.Duration, do func()) {
	ticker := time.NewTicker(pause)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			do()
		}
	}
}

// watchFolders adds a folder and all below it, and the folder above, in which a build may make the folder anew.
func watchFolders(watcher *fsnotify.Watcher, root string) error {
	if err := watcher.Add(filepath.Dir(root)); err != nil {
		return err
	}
	return filepath.WalkDir(root, func(path string, entry os.DirEntry, err error) error {
		if err != nil || !entry.IsDir() {
			return nil
		}
		if name := entry.Name(); path != root && (name == ".git" || name == "node_modules") {
			return filepath.SkipDir
		}
		return watcher.Add(path)
	})
}
