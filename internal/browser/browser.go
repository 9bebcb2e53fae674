// Package browser has a Chromium show pages of a site that is not on any network, and takes pictures of
// them.
//
//	b, err := browser.Start(ctx, browser.Options{Program: []string{path}, Answer: handler,
//		Origin: "https://www.corvane.example"})
//	picture, err := b.Take(ctx, browser.Page{Path: "/fares",
//		View: pictures.View{Width: 390, Scheme: "light"}})
//	b.Close()
//
// The browser is driven through a pipe by the Chrome DevTools Protocol, and through the same pipe it gets
// what its pages ask for: from the handler if it is of the site, and nothing otherwise. So there is no
// port that anybody else on the machine could drive it by, and it needs no network: where bubblewrap
// works, it has none, and sees nothing of the machine but programs and fonts.
//
// The same page gives the same picture, byte by byte: time stands still but for the few seconds that a
// page is given, and these pass at once; chance is always the same; animations are at their ends.
package browser

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/sandbox"
)

// Errors that callers decide on.
var (
	// ErrNone: no browser was found.
	ErrNone = errors.New("no Chromium or Chrome found")
	// ErrEnded: the browser ended, or was ended, before it had answered.
	ErrEnded = errors.New("the browser ended")
	// ErrMemory: it used more memory than it may.
	ErrMemory = errors.New("the page uses more memory than it may")
	// ErrRoot: a browser that root starts has no sandbox.
	ErrRoot = errors.New("a browser that root starts is not sandboxed, and bubblewrap does not work here")
)

// Options say which browser shows what.
type Options struct {
	Program    []string     // its path, and what is to stand before the other arguments
	Bubblewrap string       // the path of bwrap; "" to rely on the browser's own sandbox
	Origin     string       // of the site: https://www.corvane.example
	Answer     http.Handler // answers for the site
	Memory     int64        // bytes that it may use; 0 for MostMemory
	Tabs       int          // how many pages at once; 0 for one more than there are processors
}

// MostMemory is how much memory a browser may use, unless said otherwise.
const MostMemory = 3 << 30

// Browser is one that runs. Its methods may be called from several goroutines.
type Browser struct {
	options Options
	product string
	command *exec.Cmd
	profile string // a folder that is removed
	said    *tail
	*pipe

	free  chan *tab
	turns answering
	tabs  sync.Map // by the id of their target: *tab
	over  sync.Once
	ended chan struct{} // closed when the process has ended
}

// names are how Chromium and its like are called.
var names = []string{"chromium", "chromium-browser", "google-chrome-stable", "google-chrome", "chrome",
	"microsoft-edge-stable", "microsoft-edge", "msedge"}

// Find returns the path of a browser: the one that is named, or one that is there.
func Find(named string) (string, error) {
	if named != "" {
		path, err := exec.LookPath(named)
		if err != nil {
			return "", fmt.Errorf("%s: %w", named, ErrNone)
		}
		return filepath.Abs(path)
	}
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return filepath.Abs(path)
		}
	}
	for _, path := range usualPlaces() {
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			return path, nil
		}
	}
	return "", ErrNone
}

// usualPlaces are where installers put browsers that are in no PATH.
func usualPlaces() (list []string) {
	switch runtime.GOOS {
	case "darwin":
		for _, folder := range []string{"/Applications", filepath.Join(os.Getenv("HOME"), "Applications")} {
			list = append(list, folder+"/Chromium.app/Contents/MacOS/Chromium",
				folder+"/Google Chrome.app/Contents/MacOS/Google Chrome")
		}
	case "windows":
		for _, variable := range []string{"PROGRAMFILES", "PROGRAMFILES(X86)", "LOCALAPPDATA"} {
			list = append(list, filepath.Join(os.Getenv(variable), `Google\Chrome\Application\chrome.exe`),
				filepath.Join(os.Getenv(variable), `Chromium\Application\chrome.exe`),
				filepath.Join(os.Getenv(variable), `Microsoft\Edge\Application\msedge.exe`))
		}
	}
	return list
}

// What the command line says:
//
//	how it draws    without a graphics card, without hints of fonts and colours of subpixels
//	what it omits   everything that asks for updates, accounts, and what is not there yet
//	where it leads  to a proxy that nobody is, and to names that do not resolve: what is not answered
//	                through the pipe is not answered
var arguments = []string{"--headless", "--disable-gpu", "--hide-scrollbars", "--mute-audio", "--no-first-run",
	"--no-default-browser-check", "--disable-background-networking", "--disable-component-update",
	"--disable-sync", "--disable-extensions", "--disable-default-apps", "--disable-breakpad",
	"--metrics-recording-only",
	"--disable-features=Translate,OptimizationHints,MediaRouter,AutofillServerCommunication,PaintHolding",
	"--font-render-hinting=none", "--disable-lcd-text", "--force-color-profile=srgb", "--lang=en-US",
	"--blink-settings=imageAnimationPolicy=2", "--js-flags=--max-old-space-size=768",
	"--proxy-server=127.0.0.1:9", "--proxy-bypass-list=<-loopback>", "--host-resolver-rules=MAP * ~NOTFOUND",
	// The second is how versions before called the first.
	"--webrtc-ip-handling-policy=disable_non_proxied_udp",
	"--force-webrtc-ip-handling-policy=disable_non_proxied_udp", "--disk-cache-size=1"}

// profilePrefix begins the names of folders for profiles.
const profilePrefix = "orilla-browser-"

// startTime is how long a browser may take to begin.
const startTime = 30 * time.Second

// What it needs is made here, and goes when it ends: a folder for its profile (in the cell, in memory), two
// pipes, and a goroutine each for what it says and for how much memory it uses.

// Start starts a browser. It ends with the context, or by Close.
func Start(ctx context.Context, options Options) (*Browser, error) {
	standIn := len(options.Program) > 1 // it runs no scripts
	if options.Bubblewrap == "" && runtime.GOOS != "windows" && os.Geteuid() == 0 && !standIn {
		return nil, ErrRoot
	}
	if options.Tabs == 0 {
		options.Tabs = runtime.GOMAXPROCS(0) + 1
	}
	if options.Memory == 0 {
		options.Memory = MostMemory
	}
	b := &Browser{options: options, free: make(chan *tab, options.Tabs),
		ended: make(chan struct{}), turns: answering{making: make(chan struct{}, mostMaking)}}
	for range options.Tabs {
		b.free <- nil // opened when it is needed
	}
	clearStrays()
	profile, err := os.MkdirTemp("", profilePrefix)
	if err != nil {
		return nil, err
	}
	b.profile = profile
	inside := profile
	if options.Bubblewrap != "" {
		inside = sandbox.TemporaryPlace + "/profile"
	}
	line := slices.Concat(options.Program, arguments, []string{"--user-data-dir=" + inside})
	if options.Bubblewrap != "" {
		line = sandbox.BrowserArguments(options.Bubblewrap, append(line, pipeArgument, "about:blank"),
			append(fonts(), placeOf(options.Program)...), linkOf, exists)
	}
	//nolint:gosec,noctx // a browser that was found or named; Close ends it with all of its processes
	b.command = exec.Command(line[0], line[1:]...)
	b.command.Env = append(process.Environment("FONTCONFIG_*"), "TZ=UTC", "HOME="+profile)
	// What it says of its own troubles is for those who make it, but for the last line where it ends.
	b.said = &tail{}
	b.command.Stderr, b.command.WaitDelay = b.said, drawTime
	if b.pipe, err = startPiped(b.command, options.Bubblewrap == ""); err != nil {
		os.RemoveAll(profile) //nolint:errcheck // litter of the system's temporary folder
		return nil, err
	}
	go b.wait()
	go b.watch()
	b.event = b.happened
	go b.read()
	starting, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()
	if err := b.begin(starting); err != nil {
		b.Close()
		if starting.Err() != nil && ctx.Err() == nil {
			err = fmt.Errorf("%w: it said nothing for %s", ErrEnded, startTime)
		}
		if line := b.said.last(); line != "" && errors.Is(err, ErrEnded) {
			err = fmt.Errorf("%w: %s", err, line)
		}
		return nil, err
	}
	context.AfterFunc(ctx, b.Close)
	return b, nil
}

// tail keeps the end of what a browser says.
type tail struct {
	mutex sync.Mutex
	text  []byte
}

// Write implements io.Writer.
func (t *tail) Write(data []byte) (int, error) {
	const most = 4096
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.text = append(t.text, data...)
	t.text = t.text[max(0, len(t.text)-most):]
	return len(data), nil
}

// last is the last line; "" for none.
func (t *tail) last() string {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	lines := strings.Split(strings.TrimSpace(string(t.text)), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// begin asks the browser who it is, and says how it is to behave.
func (b *Browser) begin(ctx context.Context) error {
	var version struct {
		Product string `json:"product"`
	}
	if err := b.call(ctx, "", "Browser.getVersion", nil, &version); err != nil {
		return err
	}
	b.product = version.Product
	// For the whole browser, so that nothing is forgotten: pages, frames, workers.
	every := members{"patterns": []members{{"urlPattern": "*"}}}
	if err := b.call(ctx, "", "Fetch.enable", every, nil); err != nil {
		return err
	}
	return b.call(ctx, "", "Target.setDiscoverTargets", members{"discover": true}, nil)
}

// Product is the browser's name and version: "Chrome/156.0.8078.108".
func (b *Browser) Product() string { return b.product }

// Close ends the browser. Nothing of it is left, for whoever calls first and for all others.
func (b *Browser) Close() {
	b.over.Do(func() {
		end(b.command)
		<-b.ended
		b.pipe.close()
		os.RemoveAll(b.profile) //nolint:errcheck // litter of the system's temporary folder
	})
}

// clearStrays removes folders that are left of those who were killed.
func clearStrays() {
	const old = 24 * time.Hour
	strays, _ := filepath.Glob(filepath.Join(os.TempDir(), profilePrefix+"*"))
	for _, stray := range strays {
		if info, err := os.Lstat(stray); err == nil && info.IsDir() && time.Since(info.ModTime()) > old {
			os.RemoveAll(stray) //nolint:errcheck // somebody else's, perhaps
		}
	}
}

// wait waits until the process has ended, and lets go whoever waits for an answer.
func (b *Browser) wait() {
	b.command.Wait() //nolint:errcheck // that it ended is enough
	process.Done(b.command)
	close(b.ended)
	b.fail(ErrEnded)
}

// Letters are a good part of a picture, so fonts of the user are shown too, to be read.

// fonts are folders of fonts that are not the system's.
func fonts() (list []string) {
	if home, err := os.UserHomeDir(); err == nil {
		list = append(list, filepath.Join(home, ".fonts"), filepath.Join(home, ".local", "share", "fonts"))
	}
	return list
}

// placeOf is what must be shown of a browser that is not one of the system's: its folder, but for one in
// which everything of somebody lies.
func placeOf(line []string) []string {
	program := line[0]
	folder := filepath.Dir(program)
	home, _ := os.UserHomeDir()
	switch {
	case strings.HasPrefix(program, "/usr/"),
		strings.HasPrefix(program, "/opt/"),
		strings.HasPrefix(program, "/snap/"):
		return nil
	case len(line) > 1, folder == home, folder == "/", filepath.Base(folder) == "bin":
		return []string{program}
	}
	return []string{folder}
}

// linkOf is where a symbolic link leads; "" for what is none.
func linkOf(path string) string {
	target, err := os.Readlink(path)
	if err != nil {
		return ""
	}
	return target
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// isOwn reports whether an address is of the site.
func isOwn(origin, address string) bool {
	rest, ok := strings.CutPrefix(address, origin)
	return ok && (rest == "" || rest[0] == '/' || rest[0] == '?' || rest[0] == '#')
}
