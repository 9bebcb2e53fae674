// Projects takes kinds of projects, made by real build tools, the way that their
// authors and visitors go:
//
//	a fresh checkout, orilla init, orilla deploy
//	a browser: the home page, another page by a link, a reload there
//	a change of one component and of one page that is loaded later, and a deploy
//	in the page that is still open: a link to the page that has changed
//	in CI: the same commits from shallow, detached checkouts; a proposed change that is
//	opened, changed, closed, opened again and merged
//
// and two ways of working in the browser: serve in many tabs, and in front of a
// development server.
//
// Nothing may fail in the browser, and no deploy may warn of anything. Run it in the
// repository: go run -C scripts/projects . [KIND...]. It needs Chromium, and for most
// kinds npm and its registry; what cannot be reached is skipped, and said.
package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

func main() {
	if err := run(context.Background(), os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// world is what all kinds share: the program, a store with an edge node, a browser.
type world struct {
	folder, program, address string
	browser                  context.Context
}

// run tries the kinds that are named, or all.
func run(ctx context.Context, names []string) error {
	folder, err := os.MkdirTemp("", "projects")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	w := &world{folder: folder, program: filepath.Join(folder, "orilla")}
	if _, err := w.shell(ctx, "../..", "go build -trimpath -o '"+w.program+"' ./cmd/orilla"); err != nil {
		return err
	}

	stop, err := w.serve(ctx)
	if err != nil {
		return err
	}
	defer stop()
	options := append(slices.Clone(chromedp.DefaultExecAllocatorOptions[:]), chromedp.NoSandbox)
	allocator, cancel := chromedp.NewExecAllocator(ctx, options...)
	defer cancel()
	browser, cancel := chromedp.NewContext(allocator, chromedp.WithErrorf(func(string, ...any) {}))
	defer cancel()
	if err := chromedp.Run(browser); err != nil {
		return fmt.Errorf("no browser: %w", err)
	}
	w.browser = browser

	failed, tried, skipped := 0, 0, 0
	for _, k := range kinds {
		if len(names) > 0 && !slices.Contains(names, k.name) {
			continue
		}
		if why := w.lacks(ctx, k); why != "" {
			fmt.Printf("%-14s SKIPPED: %s\n", k.name, why)
			skipped++
			continue
		}
		tried++
		began := time.Now()
		told, err := w.try(ctx, k)
		if err != nil {
			failed++
			fmt.Printf("%-14s FAILED: %v\n", k.name, err)
			continue
		}
		fmt.Printf("%-14s %s; %.0f s\n", k.name, told, time.Since(began).Seconds())
	}

	more, without, bad := w.tryServings(ctx, names)
	tried, skipped, failed = tried+more, skipped+without, failed+bad
	fmt.Printf("%d kinds of projects, %d skipped, %d failed\n", tried, skipped, failed)
	if failed > 0 || tried == 0 {
		return errors.New("not every project went well")
	}
	return nil
}

// lacks says what a kind needs that is not here; "" for nothing.
func (w *world) lacks(ctx context.Context, k kind) string {
	if k.needs == "" {
		return ""
	}
	if _, err := exec.LookPath(k.needs); err != nil {
		return k.needs + " is not installed"
	}
	if k.needs == "npm" {
		if _, err := w.shell(ctx, w.folder, "timeout 60 npm view vite version"); err != nil {
			return "the npm registry cannot be reached"
		}
	}
	return ""
}

// shell runs a script in a folder, in which orilla means the program, and returns
// what it prints.
func (w *world) shell(ctx context.Context, folder, script string, variables ...string) (string, error) {
	command := exec.CommandContext(ctx, "bash", "-c", script)
	command.Dir = folder
	command.Env = append(os.Environ(), "PATH="+w.folder+string(os.PathListSeparator)+os.Getenv("PATH"),
		"ORILLA_HOME="+filepath.Join(w.folder, "home"),
		"GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=Ines Marrow", "GIT_AUTHOR_EMAIL=ines@corvane.example",
		"GIT_COMMITTER_NAME=Ines Marrow", "GIT_COMMITTER_EMAIL=ines@corvane.example",
		"NEXT_TELEMETRY_DISABLED=1", "NG_CLI_ANALYTICS=false",
		"CI=", "GITHUB_REF=", "GITHUB_REF_TYPE=", "GITHUB_HEAD_REF=")
	command.Env = append(command.Env, variables...)
	var out bytes.Buffer
	command.Stdout, command.Stderr = &out, &out
	if err := command.Run(); err != nil {
		return out.String(), fmt.Errorf("%s: %w\n%s", firstLine(script), err, out.String())
	}
	return out.String(), nil
}

// firstLine is the beginning of a script, for messages.
func firstLine(script string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(script), "\n")
	return line[:min(len(line), 80)]
}

// serve starts an edge node, and returns what ends it.
func (w *world) serve(ctx context.Context) (func(), error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	w.address = listener.Addr().String()
	if err := listener.Close(); err != nil {
		return nil, err
	}
	store := filepath.Join(w.folder, "home", "store")
	if _, err := w.shell(ctx, w.folder, "orilla store init '"+store+"'"); err != nil {
		return nil, err
	}

	node := exec.CommandContext(ctx, w.program, "edge", "--listen", w.address, "--store", store)
	if err := node.Start(); err != nil {
		return nil, err
	}
	return func() {
		node.Process.Signal(os.Interrupt) //nolint:errcheck // it ends
		node.Wait()                       //nolint:errcheck // it ends
	}, nil
}

// warned finds a warning in what a deploy told, apart from what its steps printed.
var warned = regexp.MustCompile(`(?m)^(?:[^ ]| [^ ]|  [^|]).*(?:warning|note:).*$`)

// deploy publishes what a folder holds, and returns what it told. A warning is an
// error: nothing here deserves one.
func (w *world) deploy(ctx context.Context, k kind, folder string) (string, error) {
	script := "orilla deploy"
	if k.zip {
		script = "rm -f ../zip.zip && zip -qr ../zip.zip . -x '.git/*' && cd .. && " +
			"orilla deploy --from zip.zip --site zip --to production --yes"
	}
	told, err := w.shell(ctx, folder, script)
	if err == nil && warned.MatchString(told) {
		err = fmt.Errorf("a deploy warns: %s", warned.FindString(told))
	}
	return told, err
}

// try goes the way of one kind.
func (w *world) try(ctx context.Context, k kind) (string, error) {
	author, clone := filepath.Join(w.folder, k.name), filepath.Join(w.folder, k.name+"-clone")
	if err := os.MkdirAll(author, 0o755); err != nil {
		return "", err
	}
	if _, err := w.shell(ctx, author, "set -e\n"+k.make); err != nil {
		return "", err
	}
	origin := filepath.Join(w.folder, k.name+".git")
	if _, err := w.shell(ctx, author, "git init -qb main && git add -A && git commit -qm Site && "+
		"git init -q --bare -b main '"+origin+"' && git remote add origin 'file://"+origin+"' && "+
		"git push -q origin main && git clone -q 'file://"+origin+"' '"+clone+"'"); err != nil {
		return "", err
	}
	if !k.zip {
		if _, err := w.shell(ctx, clone, "orilla init --yes --site "+k.name+" "+strings.Join(k.init, " ")+
			" && git add -A && git commit -qm 'How it is published' && git push -q origin main"); err != nil {
			return "", err
		}
	}
	if _, err := w.deploy(ctx, k, clone); err != nil {
		return "", err
	}

	tab, err := w.openTab(k)
	if err != nil {
		return "", err
	}
	defer tab.close()
	if err := tab.look(k); err != nil {
		return "", err
	}
	if _, err := w.shell(ctx, clone, k.edit+"\ngit add -A && git commit -qm 'The winter' && "+
		"git push -q origin main"); err != nil {
		return "", err
	}
	if _, err := w.deploy(ctx, k, clone); err != nil {
		return "", err
	}
	if err := tab.goOn(k); err != nil {
		return "", err
	}
	fresh, err := w.openTab(k)
	if err != nil {
		return "", err
	}
	defer fresh.close()
	if err := fresh.see(k.after); err != nil {
		return "", err
	}

	told := fmt.Sprintf("%d requests in the page that stayed open, %d of them immutable", tab.asked,
		tab.immutable)
	if k.zip {
		return told, nil
	}
	changes, err := w.ci(ctx, k, origin, clone)
	if err != nil {
		return "", fmt.Errorf("in CI: %w", err)
	}
	if !changes {
		return told + "; CI, but no changes: builds cannot be isolated here", nil
	}
	return told + "; CI", nil
}

// ci publishes from shallow, detached checkouts, which are thrown away. It reports
// whether changes were among it: they are built only where they can be isolated.
func (w *world) ci(ctx context.Context, k kind, origin, clone string) (changes bool, err error) {
	_, noBubblewrap := exec.LookPath("bwrap")
	_, noPasta := exec.LookPath("pasta")
	changes = noBubblewrap == nil && noPasta == nil
	checkout := func(ref, script string, variables ...string) (string, error) {
		folder, err := os.MkdirTemp(w.folder, "ci")
		if err != nil {
			return "", err
		}
		defer os.RemoveAll(folder)
		fetch := "git init -q && git remote add origin 'file://" + origin + "' && " +
			"git fetch -q --depth=1 origin " + ref + " && git checkout -q --detach FETCH_HEAD && "
		return w.shell(ctx, folder, fetch+script, append(variables, "CI=true")...)
	}

	for i, step := range steps(k) {
		if i > 1 && !changes {
			break
		}
		if _, err := w.shell(ctx, clone, step.script); err != nil {
			return changes, fmt.Errorf("%s: %w", step.what, err)
		}
		told, err := checkout(step.ref, step.ci, step.variables...)
		if err != nil || !strings.Contains(told, step.want) {
			return changes, fmt.Errorf("%s: %w, %s", step.what, err, told)
		}
	}
	return changes, nil
}

// ciStep is something that its author does, and what CI does then.
type ciStep struct {
	what, script string // in the author's clone
	ref, ci      string // the checkout, and what runs in it
	variables    []string
	want         string // in what that tells
}

// steps are the life of a proposed change.
func steps(k kind) []ciStep {
	const (
		once    = "orilla follow --once"
		change  = "refs/proposed/7/head"
		push    = " && git push -q origin main"
		propose = " && git push -qf origin HEAD:" + change
	)
	main := []string{"ORILLA_CI_BRANCH=main"}
	host := "http://change-7.preview." + k.name + ".localhost"
	labels := `previews: {refs: [refs/proposed/*/head], labels: {"refs/proposed/*/head": change-*}}`
	return []ciStep{
		{"nothing new", "true", "main", once, main, "already live"},
		{"previews of changes", "echo '" + labels + "' >>orilla.yaml && git commit -qam Previews" + push,
			"main", once, main, ""},
		{"a change", "git checkout -qb change && echo one >change.txt && " +
			"git add -A && git commit -qm One" + propose,
			change, once, []string{"ORILLA_CI_REF=" + change}, host},
		{"its change", "git commit -q --amend -m Two" + propose,
			change, once + " --branch " + change, nil, host},
		{"its end", "true",
			"main", "orilla preview remove " + change + " --yes", nil, "preview/change-7 ended"},
		{"its merge", "git checkout -q main && git merge -q --no-ff -m Merge change" + push,
			"main", once, main, ""},
	}
}

// tab is one page in the browser, and what went wrong in it.
type tab struct {
	ctx   context.Context
	close context.CancelFunc
	url   string

	mutex            sync.Mutex
	troubles         []string
	asked, immutable int
}

// openTab opens the home page of a kind.
func (w *world) openTab(k kind) (*tab, error) {
	_, port, _ := net.SplitHostPort(w.address)
	t := &tab{url: "http://" + k.name + ".localhost:" + port}
	t.ctx, t.close = chromedp.NewContext(w.browser)
	chromedp.ListenTarget(t.ctx, func(event any) {
		t.mutex.Lock()
		defer t.mutex.Unlock()
		switch event := event.(type) {
		case *network.EventResponseReceived:
			t.asked++
			kept, _ := event.Response.Headers["Cache-Control"].(string)
			if strings.Contains(kept, "immutable") {
				t.immutable++
			}
			if event.Response.Status >= 400 {
				t.troubles = append(t.troubles, fmt.Sprint(event.Response.Status, " ", event.Response.URL))
			}
		case *network.EventLoadingFailed:
			if !event.Canceled {
				t.troubles = append(t.troubles, event.ErrorText)
			}
		case *runtime.EventExceptionThrown:
			t.troubles = append(t.troubles, event.ExceptionDetails.Error())
		}
	})
	return t, chromedp.Run(t.ctx, network.Enable(), chromedp.Navigate(t.url+k.open))
}

// see waits for a text on the page, and for the troubles of a moment.
func (t *tab) see(text string) error {
	// Asked again and again: a page that is being left answers nothing.
	var shown string
	var err error
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		err = chromedp.Run(t.ctx, chromedp.Evaluate("location.href + ': ' + document.body.innerText", &shown))
		if err == nil && strings.Contains(shown, text) {
			break
		}
		if time.Now().After(until) {
			err = errors.Join(fmt.Errorf("%q is not there: %s", text, shown), err)
			break
		}
	}
	time.Sleep(300 * time.Millisecond)
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if len(t.troubles) > 0 {
		err = errors.Join(err, errors.New(strings.Join(t.troubles, "; ")))
	}
	return err
}

// look opens the home page, goes to another one, and reloads there.
func (t *tab) look(k kind) error {
	if err := t.see(k.home); err != nil {
		return fmt.Errorf("the home page: %w", err)
	}
	if err := chromedp.Run(t.ctx, chromedp.Click(k.click, chromedp.ByQuery)); err != nil {
		return err
	}
	if err := t.see(k.there); err != nil {
		return fmt.Errorf("%s by a link: %w", k.path, err)
	}
	if err := chromedp.Run(t.ctx, chromedp.Reload()); err != nil {
		return err
	}
	if err := t.see(k.there); err != nil {
		return fmt.Errorf("%s after a reload: %w", k.path, err)
	}
	return nil
}

// goOn follows a link in the page that was opened before the deploy.
func (t *tab) goOn(k kind) error {
	if err := chromedp.Run(t.ctx, chromedp.Click(k.lazy, chromedp.ByQuery)); err != nil {
		return err
	}
	if err := t.see(k.still); err != nil {
		return fmt.Errorf("the page that stayed open: %w", err)
	}
	return nil
}
