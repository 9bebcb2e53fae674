//go:build chromium

package browser_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/browser"
	"orilla.example/orilla/internal/core/pictures"
)

const origin = "https://www.corvane.example"

// shown starts a browser that shows pages.
func shown(t *testing.T, pages map[string]string) *browser.Browser {
	t.Helper()
	program, err := browser.Find("")
	require.NoError(t, err)
	bubblewrap, _ := exec.LookPath("bwrap")
	if os.Getenv("WITHOUT_CELL") != "" { // as on systems that have none
		bubblewrap = ""
	}
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, ok := pages[r.URL.Path]
		if !ok {
			http.NotFound(w, r)
			return
		}
		w.Header().
			Set("Content-Type", map[bool]string{true: "text/javascript", false: "text/html; charset=utf-8"}[strings.HasSuffix(r.URL.Path, ".js")])
		w.Write([]byte(text)) //nolint:errcheck // a recorder
	})
	b, err := browser.Start(
		t.Context(),
		browser.Options{Program: []string{program}, Bubblewrap: bubblewrap, Origin: origin, Answer: handler,
			Memory: 900 << 20},
	)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return b
}

func at(path string, width int) browser.Page {
	return browser.Page{Path: path, View: pictures.View{Width: width, Scheme: pictures.Light}}
}

// lively is a page of which everything changes each time: clocks, chance, animations.
const lively = `<!doctype html><meta name=viewport content="width=device-width"><style>
@keyframes turn { to { transform: rotate(360deg) } } @keyframes come { from { opacity: 0 } }
.a { width: 90px; height: 40px; background: teal; animation: turn 3s infinite } .b { animation: come 2s } input { width: 9em }</style>
<p class=a>turns</p><p class=b>comes</p><p id=c></p><p id=d></p><canvas width=200 height=100></canvas><input autofocus>
<script>
c.textContent = new Date().toISOString() + " " + Date.now() + " " + performance.now() + " " + Math.random() + " " + crypto.randomUUID();
setTimeout(() => { d.textContent = "later " + new Date() }, 1500);
const g = document.querySelector("canvas").getContext("2d"); let n = 0;
const draw = () => { g.fillStyle = "hsl(" + Math.random() * 360 + " 50% 50%)"; g.fillRect(n * 3 % 200, n % 90, 9, 9); if (n++ < 50) requestAnimationFrame(draw) };
draw();
</script>`

func TestTheSamePageGivesTheSamePicture(t *testing.T) {
	t.Parallel()
	pages := map[string]string{"/lively": lively, "/other": "<p>another"}
	seen := map[string]string{}
	var mutex sync.Mutex
	for range 2 { // another process
		b := shown(t, pages)
		var group sync.WaitGroup
		for i := range 12 {
			group.Go(func() {
				path, width := []string{"/lively", "/other"}[i%2], []int{390, 1280}[i/2%2]
				p, err := b.Take(t.Context(), at(path, width))
				if !assert.NoError(t, err) {
					return
				}
				key, sum := fmt.Sprint(path, width), fmt.Sprintf("%x", sha256.Sum256(p.PNG))
				mutex.Lock()
				defer mutex.Unlock()
				if seen[key] == "" {
					seen[key] = sum
				}
				assert.Equal(t, seen[key], sum, key)
			})
		}
		group.Wait()
	}
	assert.Len(t, seen, 4)
}

// TestHostilePages cannot hurt the machine, keep others from being taken, or reach anything.
func TestHostilePages(t *testing.T) {
	t.Parallel()
	reached := make(chan string, 100)
	listener := listen(t)
	go func() { // that somebody connects is enough
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			reached <- "TCP from " + conn.RemoteAddr().String()
			conn.Close() //nolint:errcheck // it was never used
		}
	}()
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		for {
			if _, from, err := packets.ReadFrom(make([]byte, 2000)); err != nil {
				return
			} else {
				reached <- "UDP from " + from.String()
			}
		}
	}()
	t.Cleanup(func() {
		listener.Close() //nolint:errcheck // it is over
		packets.Close()  //nolint:errcheck // see above
	})
	local, udp := "http://"+listener.Addr().String(), packets.LocalAddr().String()
	pages := map[string]string{
		"/endless":  "<p>one<script>for (;;) {}</script>",
		"/dialogs":  "<p>two<script>alert(1); confirm(2); prompt(3); print(); onbeforeunload = e => e.preventDefault(); for (let i = 0; i < 50; i++) open('/dialogs')</script>",
		"/download": "<p>three<script>const a = document.createElement('a'); a.href = 'data:application/octet-stream,x'; a.download = 'evil.sh'; document.body.append(a); a.click()</script>",
		"/files":    "<p>four<iframe src='file:///etc/passwd'></iframe><script>fetch('file:///etc/passwd').then(r => r.text()).then(t => document.body.append(t)); location = 'file:///etc/passwd'</script>",
		"/private": "<p>five<img src='" + local + "/img'><iframe src='" + local + "/frame'></iframe><script>fetch('" + local + "/fetch', {mode: 'no-cors'}); new WebSocket('" +
			strings.Replace(
				local,
				"http",
				"ws",
				1,
			) + "/socket'); navigator.sendBeacon('" + local + "/beacon'); new Worker('/worker.js'); new EventSource('" + local + "/events')</script>",
		"/udp": "<p>ten<script>const c = new RTCPeerConnection({iceServers: [{urls: 'stun:" + udp + "'}]}); c.createDataChannel('x'); " +
			"c.onicecandidate = e => { if (e.candidate) document.body.append(e.candidate.candidate) }; c.createOffer().then(o => c.setLocalDescription(o)); " +
			"try { new WebTransport('https://" + udp + "/x') } catch {}</script>",
		"/hints": "<link rel=preconnect href='" + local + "'><link rel=dns-prefetch href='" + local + "'><link rel=prefetch href='" + local + "/p'>" +
			"<script type=speculationrules>{\"prefetch\":[{\"source\":\"list\",\"urls\":[\"" + local + "/s\"]}],\"prerender\":[{\"source\":\"list\",\"urls\":[\"/good\"]}]}</script>" +
			"<meta http-equiv=refresh content='1;url=" + local + "/m'><form action='" + local + "/f' id=f></form><object data='" + local + "/o'></object><video src='" + local + "/v' autoplay></video><p>eleven",
		"/shared":    "<p>twelve<script>new SharedWorker('/worker.js'); navigator.serviceWorker.register('/worker.js')</script>",
		"/worker.js": "fetch('" + local + "/worker', {mode: 'no-cors'}); importScripts('" + local + "/import')",
		"/huge":      "<script>const s = 'x'.repeat(1 << 20); for (let i = 0; i < 4000; i++) { const p = document.createElement('p'); p.textContent = s + i; document.documentElement.append(p) }</script>",
		"/memory":    "<script>const a = []; setInterval(() => a.push(new Uint8Array(50 << 20).fill(7)), 10)</script>",
		"/restless":  "<p id=p>six<script>setInterval(() => p.textContent += ' more', 50)</script>",
		"/away":      "<p>seven<script>location = 'https://elsewhere.example/'</script>",
		"/loop":      "<p>eight<script>location.reload()</script>",
		"/flood":     "<p>thirteen<script>for (let i = 0; i < 20000; i++) { fetch('/good?' + i); fetch('" + local + "/' + i).catch(() => {}) }</script>",
		"/tall":      "<p style='height: 90000px'>nine",
		"/good":      "<p>good",
	}
	b := shown(t, pages)
	began := time.Now()
	var group sync.WaitGroup
	results := sync.Map{}
	for path := range pages {
		if path == "/memory" || path == "/worker.js" {
			continue
		}
		group.Go(func() {
			p, err := b.Take(t.Context(), at(path, 390))
			results.Store(path, fmt.Sprint(err))
			t.Logf(
				"%-10s %v %d bytes restless %v cut %v blocked %v %v",
				path,
				err,
				len(p.PNG),
				p.Restless,
				p.Cut,
				p.Blocked,
				time.Since(began),
			)
			switch path {
			case "/endless", "/loop", "/huge", "/hints", "/flood":
			case "/away":
				assert.ErrorContains(t, err, "https://elsewhere.example")
			case "/restless":
				assert.NoError(t, err)
				assert.True(t, p.Restless)
			case "/tall":
				assert.NoError(t, err)
				assert.True(t, p.Cut)
				assert.Equal(t, pictures.MostHeight, p.Height)
			case "/private":
				assert.NoError(t, err)
				assert.Contains(t, p.Blocked, local)
			default:
				assert.NoError(t, err, path)
			}
		})
	}
	group.Wait()
	p, err := b.Take(t.Context(), at("/good", 390))
	require.NoError(t, err, "others are taken still")
	assert.NotEmpty(t, p.PNG)
	endless, _ := results.Load("/endless")
	assert.Contains(t, endless, "does not end")
	select {
	case what := <-reached:
		t.Error("it reached", what)
	default:
	}
	assert.Less(t, time.Since(began), 2*time.Minute)

	_, err = b.Take(t.Context(), at("/memory", 390))
	t.Log("memory:", err)
	require.Error(t, err)
	_, err = os.Stat("evil.sh")
	assert.Error(t, err)
}

func TestABrowserThatIsKilledIsTold(t *testing.T) {
	t.Parallel()
	b := shown(t, map[string]string{"/endless": "<script>for (;;) {}</script>"})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	time.AfterFunc(time.Second, b.Close)
	_, err := b.Take(ctx, at("/endless", 390))
	require.ErrorIs(t, err, browser.ErrEnded)
}

// listen takes a port of this machine.
func listen(t *testing.T) net.Listener {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return listener
}
