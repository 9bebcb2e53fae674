package main

// What cannot be seen without a browser: that any number of tabs follow, which a stream
// for each would keep from loading; that the tab which listens for the others can be
// closed; that a page which comes out of an earlier life of serve loads again; that a
// module is replaced in the page, and not the page loaded again, through serve too.

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"
)

// serving is a way of working that is tried in the browser: what serve shows while
// somebody edits.
type serving struct {
	name  string
	needs string
	try   func(ctx context.Context, w *world, folder string) (string, error)
}

var servings = []serving{
	{"serve", "", tryServe}, {"in-front-of", "npm", tryInFront},
}

// tryServings tries the ways of working that are named, or all, and counts them.
func (w *world) tryServings(ctx context.Context, names []string) (tried, skipped, failed int) {
	for _, one := range servings {
		if len(names) > 0 && !slices.Contains(names, one.name) {
			continue
		}
		if why := w.lacks(ctx, kind{needs: one.needs}); why != "" {
			fmt.Printf("%-14s SKIPPED: %s\n", one.name, why)
			skipped++
			continue
		}
		tried++
		began, place := time.Now(), filepath.Join(w.folder, one.name)
		err := os.MkdirAll(place, 0o755)
		told := ""
		if err == nil {
			told, err = one.try(ctx, w, place)
		}
		if err != nil {
			failed++
			fmt.Printf("%-14s FAILED: %v\n", one.name, err)
			continue
		}
		fmt.Printf("%-14s %s; %.0f s\n", one.name, told, time.Since(began).Seconds())
	}

	return tried, skipped, failed
}

// manyTabs is more than the six connections that browsers open to a host.
const manyTabs = 9

// server is a running orilla serve.
type server struct {
	address string
	command *exec.Cmd
}

// start runs serve in a folder at an address.
func (w *world) start(ctx context.Context, folder, address string, args ...string) (*server, error) {
	s := &server{"http://" + strings.Replace(address, "127.0.0.1", "localhost", 1),
		exec.CommandContext(ctx, w.program, append([]string{"serve", "--listen", address}, args...)...)}
	s.command.Dir = folder
	s.command.Env = append(os.Environ(), "ORILLA_HOME="+filepath.Join(w.folder, "home"))
	s.command.Cancel = func() error { return s.command.Process.Signal(os.Interrupt) }
	if err := s.command.Start(); err != nil {
		return nil, err
	}
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		if connection, err := net.Dial("tcp", address); err == nil {
			return s, connection.Close()
		}
	}
	return nil, errors.New("serve does not listen")
}

// end ends it.
func (s *server) end() {
	s.command.Process.Signal(os.Interrupt) //nolint:errcheck // it may have ended
	s.command.Wait()                       //nolint:errcheck // see above
}

// freeAddress is an address that nobody listens on.
func freeAddress() (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return listener.Addr().String(), listener.Close()
}

// page is a tab without a list of its troubles: in these, some are meant.
type page struct {
	ctx   context.Context
	close context.CancelFunc
}

// open opens a page, and does not wait for it to load.
func (w *world) open(url string) (*page, error) {
	p := &page{}
	p.ctx, p.close = chromedp.NewContext(w.browser)
	return p, chromedp.Run(p.ctx, chromedp.Navigate(url))
}

// value evaluates an expression; "" while the page is being left.
func (p *page) value(expression string) string {
	var value string
	chromedp.Run(p.ctx, chromedp.Evaluate("String("+expression+")", &value)) //nolint:errcheck // asked again
	return value
}

// await waits until an expression has a value that holds a text, or, with !, does not.
func (p *page) await(expression, text string) error {
	unwanted, not := strings.CutPrefix(text, "!")
	value := ""
	// Asked often, since how soon a save shows is told.
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
		value = p.value(expression)
		if value != "" && strings.Contains(value, unwanted) != not {
			return nil
		}
	}
	return fmt.Errorf("%s is %q and not %q", expression, value, text)
}

// reload loads the page again; one that is just loading by itself refuses that.
func (p *page) reload() (err error) {
	for range 10 {
		if err = chromedp.Run(p.ctx, chromedp.Reload()); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("reloading: %w", err)
}

const (
	bodyText = "document.body.innerText"
	noteText = `document.getElementById("orilla-changes")?.innerText ?? "none"`
)

// all does something with every page.
func all(pages []*page, do func(*page) error) error {
	for i, p := range pages {
		if err := do(p); err != nil {
			return fmt.Errorf("tab %d: %w", i+1, err)
		}
	}
	return nil
}

// files writes files of a project.
func files(folder string, texts map[string]string) error {
	for name, text := range texts {
		at := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

const goodBuild = "mkdir -p dist && cp src/* dist/\n"

// home is the page of a season.
func home(season string) string {
	return "<!doctype html><title>Ferries</title><link rel=icon href=data:,><body><h1>" + season +
		"</h1></body>"
}

// tryServe edits a site that is open in many tabs.
func tryServe(ctx context.Context, w *world, folder string) (string, error) {
	err := files(folder, map[string]string{"site.rules": "", "build.sh": goodBuild,
		"src/index.html": home("summer"),
		"orilla.yaml":    "site: serve\nrules: site.rules\nbuild: {run: ['sh build.sh'], output: dist}\n"})
	if err != nil {
		return "", err
	}
	address, err := freeAddress()
	if err != nil {
		return "", err
	}
	s, err := w.start(ctx, folder, address)
	if err != nil {
		return "", err
	}
	defer func() { s.end() }()

	var pages []*page
	for range manyTabs {
		p, err := w.open(s.address + "/")
		if err != nil {
			return "", err
		}
		defer p.close()
		pages = append(pages, p)
	}
	first, err := saveAndFail(folder, pages)
	if err != nil {
		return "", err
	}

	// The tab that listened is closed, and then serve itself is started anew.
	pages[0].close()
	pages = pages[1:]
	if err := changes(folder, pages, "src/index.html", home("spring"), bodyText, "spring"); err != nil {
		return "", fmt.Errorf("after the first tab was closed: %w", err)
	}
	s.end()
	if err := files(folder, map[string]string{"src/index.html": home("autumn")}); err != nil {
		return "", err
	}
	if s, err = w.start(ctx, folder, address); err != nil {
		return "", err
	}
	if err := all(pages, func(p *page) error { return p.await(bodyText, "autumn") }); err != nil {
		return "", fmt.Errorf("after serve was started anew: %w", err)
	}
	return fmt.Sprintf("%d tabs; a save shows after %d ms", manyTabs, first.Milliseconds()), nil
}

// changes writes a file, and waits until every page shows what comes of it.
func changes(folder string, pages []*page, name, text, expression, shows string) error {
	if err := files(folder, map[string]string{name: text}); err != nil {
		return err
	}
	return all(pages, func(p *page) error { return p.await(expression, shows) })
}

// saveAndFail saves a page, and makes mistakes and mends them. It returns after what
// time the first page showed the save.
func saveAndFail(folder string, pages []*page) (first time.Duration, err error) {
	if err := all(pages, func(p *page) error { return p.await(bodyText, "summer") }); err != nil {
		return 0, err
	}
	saved := time.Now()
	if err := changes(folder, pages[:1], "src/index.html", home("winter"), bodyText, "winter"); err != nil {
		return 0, err
	}
	first = time.Since(saved)
	if err := all(pages, func(p *page) error { return p.await(bodyText, "winter") }); err != nil {
		return 0, err
	}

	// A mistake shows with the build's last lines, stays through a reload and through
	// other changes, and goes when it is mended.
	broken := "echo 'fares.md:7: no such island'; exit 2\n"
	if err := changes(folder, pages, "build.sh", broken, noteText, "fares.md:7: no such island"); err != nil {
		return 0, err
	}
	nowhere := "redirect /old -> /nowhere\n"
	err = changes(folder, pages[1:2], "site.rules", nowhere, noteText, "A deploy would refuse this")
	if err != nil {
		return 0, err
	}
	if err := pages[2].reload(); err != nil {
		return 0, err
	}
	if err := all(pages, func(p *page) error { return p.await(noteText, "fares.md:7") }); err != nil {
		return 0, err
	}
	if err := pages[0].picture(os.Getenv("SERVING_PICTURE")); err != nil {
		return 0, err
	}
	if err := files(folder, map[string]string{"site.rules": ""}); err != nil {
		return 0, err
	}
	return first, changes(folder, pages, "build.sh", goodBuild, noteText, "none")
}

// picture takes one of a page; "" takes none.
func (p *page) picture(file string) error {
	if file == "" {
		return nil
	}
	var data []byte
	err := chromedp.Run(p.ctx, chromedp.EmulateViewport(1280, 800), chromedp.CaptureScreenshot(&data))
	return errors.Join(err, os.WriteFile(file, data, 0o644))
}

// hotSite has a module that is replaced in the page.
const hotSite = `set -e
cat >orilla.yaml <<'END'
site: in-front-of
rules: site.rules
END
: >site.rules
cat >index.html <<'END'
<!doctype html><title>Ferries</title><link rel=icon href=data:,>
<body><h1 id=season></h1><script type=module src=/main.js></script></body>
END
cat >main.js <<'END'
import { season } from "./season.js"
const show = s => { document.getElementById("season").textContent = s }
show(season)
import.meta.hot.accept("./season.js", next => show(next.season))
END
echo 'export const season = "summer"' >season.js
echo '{"private": true}' >package.json
npm install --no-audit --no-fund --silent vite`

// tryInFront edits a module that its development server replaces in the page, and has
// that server die.
func tryInFront(ctx context.Context, w *world, folder string) (string, error) {
	if _, err := w.shell(ctx, folder, hotSite); err != nil {
		return "", err
	}
	behind, err := freeAddress()
	if err != nil {
		return "", err
	}
	address, err := freeAddress()
	if err != nil {
		return "", err
	}
	_, port, _ := net.SplitHostPort(behind)
	s, err := w.start(ctx, folder, address, "--in-front-of", "http://"+behind, "--run",
		"echo $$ >pid; exec npx vite --host 127.0.0.1 --strictPort --port "+port)
	if err != nil {
		return "", err
	}
	defer s.end()
	p, err := w.open(s.address + "/")
	if err != nil {
		return "", err
	}
	defer p.close()
	took, err := replace(folder, p)
	if err != nil {
		return "", err
	}

	// The server dies. Who comes then waits for the next one.
	if err := killPid(filepath.Join(folder, "pid")); err != nil {
		return "", err
	}
	late, err := w.open(s.address + "/")
	if err != nil {
		return "", err
	}
	defer late.close()
	if err := late.await(bodyText, "winter"); err != nil {
		return "", fmt.Errorf("after the server died: %w", err)
	}
	return fmt.Sprintf("a module is replaced after %d ms, and the server was started again",
		took.Milliseconds()), nil
}

// replace edits a module, which must not load the page again, and makes a mistake in
// the rules, which shows above it.
func replace(folder string, p *page) (took time.Duration, err error) {
	err = errors.Join(p.await(bodyText, "summer"), p.await("(window.kept = 'still here')", "still"))
	if err != nil {
		return 0, err
	}
	time.Sleep(time.Second) // until the page has its connection
	saved, one := time.Now(), []*page{p}
	winter := "export const season = \"winter\"\n"
	if err := changes(folder, one, "season.js", winter, bodyText, "winter"); err != nil {
		return 0, err
	}
	took = time.Since(saved)
	if err := p.await("window.kept", "still here"); err != nil {
		return 0, fmt.Errorf("the page was loaded again: %w", err)
	}
	loop := "redirect /a -> /b\nredirect /b -> /a\n"
	return took, changes(folder, one, "site.rules", loop, noteText, "A deploy would refuse this")
}

// killPid kills the process whose number is in a file.
func killPid(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	number := 0
	if _, err := fmt.Sscan(string(text), &number); err != nil {
		return err
	}
	return syscall.Kill(number, syscall.SIGKILL)
}
