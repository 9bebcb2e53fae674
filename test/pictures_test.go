package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/view"
)

// drawn is a place in which the stand-in draws pages.
func drawn(t *testing.T) *place {
	t.Helper()
	p := newPlace(t)
	p.env = append(p.env, "ORILLA_BROWSER=stand-in")
	return p
}

// words makes a page with a line for each.
func words(lines ...string) string {
	return "<!doctype html><link rel=stylesheet href=/a.css><p>" + strings.Join(lines, "</p><p>") + "</p>"
}

// seen runs a comparison with --json.
func (p *place) seen(args ...string) (r view.SeenPages) {
	p.t.Helper()
	out, notes, _ := p.run(append([]string{"diff", "--pictures", "--json"}, args...)...)
	require.NoError(p.t, json.Unmarshal([]byte(out), &r), out+notes)
	return r
}

// states lists what became of pages, in the width of a telephone.
func states(r view.SeenPages) (list []string) {
	for _, one := range r.Pages {
		if one.Width == 390 {
			list = append(list, strings.TrimSpace(one.From+" "+one.Path+" "+one.State))
		}
	}
	return list
}

func TestPicturesOfARelease(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	site := map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\npictures: {pages: /fares}\n",
		"out/index.html": words("Corvane Ferries"), "out/fares.html": words("Fares", "Adult 6.20"), "out/a.css": "p {}",
		"out/about.html": words("About us"), "out/404.html": words("Not here")}
	p.commit("First", site)
	p.ok("deploy")
	out, notes, _ := p.run("pictures")
	assert.Regexp(t, `(?m)^/ +844 high, \S+ kB +800 high, \S+ kB$`, out)
	assert.Contains(t, out, "/fares")
	assert.NotContains(t, out, "/about", "nobody chose it, and nothing was before")
	assert.Contains(t, notes, "taken     4 pictures in ")
	_, notes, _ = p.run("pictures")
	assert.Contains(t, notes, "0 pictures in", "they are there")

	p.commit("Second", map[string]string{"out/about.html": words("About us and our boats")})
	p.ok("deploy", "--pictures")
	out = p.ok("pictures")
	assert.Contains(t, out, "/about", "it changed")
	assert.NotContains(t, out, "404")

	// The same again is the same, byte by byte, also where nothing is remembered.
	report := func(args ...string) (r view.PicturesReport) {
		require.NoError(t, json.Unmarshal([]byte(p.ok(append([]string{"pictures", "--json"}, args...)...)), &r))
		return r
	}
	before := report()
	again := report("--retake", "--out", "shots", "--scheme", "both")
	assert.Equal(t, 12, again.Taken)
	for _, one := range before.Pictures {
		found := false
		for _, other := range again.Pictures {
			found = found || one.Image == other.Image && one.Path == other.Path && one.Width == other.Width
			if other.Path == "/fares" && other.Scheme == "dark" {
				file, err := os.Open(filepath.Join(p.folder, "shots", fmt.Sprintf("fares-%d-dark.png", other.Width)))
				require.NoError(t, err)
				size, err := png.DecodeConfig(file)
				file.Close() //nolint:errcheck // it was read
				require.NoError(t, err)
				assert.Equal(t, other.Width, size.Width)
				assert.Equal(t, other.Height, size.Height)
			}
		}
		assert.True(t, found, one.Path)
	}
	assert.Contains(t, p.ok("open", "--picture", "--show"), ".png")

	p.fails(2, "--width 5", "pictures", "--width", "5")
	p.fails(2, "--scheme blue", "pictures", "--scheme", "blue")
	p.fails(2, "--page fares", "pictures", "--page", "fares")
	p.fails(1, "apt-get install chromium", "pictures", "--browser", "/nowhere/chromium")
}

func TestPagesBesideHowTheyLooked(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	many := []string{}
	for i := range 30 {
		many = append(many, fmt.Sprintf("Sailing number%d leaves at quay%d", i, i*7))
	}
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n", "out/a.css": "p {}",
		"out/index.html": words("Corvane Ferries"), "out/fares.html": words("Fares", "Adult 6.20", "Car 28.00"),
		"out/sailings.html": words(many...), "out/old.html": words("A page that is", "about boats"), "out/gone.html": words("gone"),
		"out/plain.html": "<p>without styles"})
	p.ok("deploy")
	p.commit("The same", map[string]string{"notes.txt": "nothing that is published"})
	p.ok("deploy", "--rebuild")
	for _, one := range p.seen("production:1", "production").Pages {
		assert.Equal(t, "same", one.State, one.Path)
	}

	p.git("mv", "out/old.html", "out/boats.html")
	p.git("rm", "-q", "out/gone.html")
	p.commit("Second", map[string]string{"out/fares.html": words("Fares", "Adult 6.20", "Car 29.00"),
		"out/sailings.html": words(append([]string{"New this winter"}, many...)...), "out/new.html": words("new")})
	p.ok("deploy")
	r := p.seen("production:1", "production")
	assert.ElementsMatch(t, []string{"/ same", "/old /boats same", "/fares changed", "/gone  gone", "/new new", "/sailings changed"},
		states(r))
	for _, one := range r.Pages {
		kinds := map[string]int{}
		for _, region := range one.Regions {
			kinds[region.Kind]++
		}
		switch one.Path {
		case "/fares":
			assert.Equal(t, map[string]int{"changed": 1}, kinds)
			assert.Less(t, one.Percent, 0.2)
		case "/sailings":
			assert.Equal(t, 1, kinds["moved"], "what is below a new line has moved")
			assert.Less(t, one.Percent, 10.0)
		}
	}
	out, notes, status := p.run("diff", "production:1", "production", "--pictures", "--fail-above", "50")
	assert.Zero(t, status, notes)
	assert.Contains(t, out, "moved by 20 down")
	p.fails(4, "more than 0.02 %", "diff", "production:1", "production", "--pictures", "--fail-above", "0.02")
	p.fails(2, "goes with --pictures", "diff", "--fail-above", "1")

	// A style sheet changes every page that loads it, and no other.
	p.commit("Third", map[string]string{"out/a.css": "p { color: teal }"})
	p.ok("deploy")
	r = p.seen("production:3", "production")
	assert.ElementsMatch(t, []string{"/ changed", "/boats changed", "/fares changed", "/new changed", "/sailings changed"}, states(r))
	r = p.seen("production:3", "production", "--most", "2")
	assert.Len(t, states(r), 2)
	assert.Equal(t, 3, r.Left)
}

// TestALookIsACheck: a deploy whose pages look too different goes back by itself.
func TestALookIsACheck(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	check := fmt.Sprintf(`ORILLA_HOME='%s' '%s' diff "$ORILLA_BEFORE" "$ORILLA_ENTRY" --pictures --browser stand-in --fail-above 1`,
		p.home, program)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n", "out/a.css": "",
		"out/index.html": words("Corvane Ferries")})
	p.ok("deploy")
	p.commit("Second", map[string]string{"out/index.html": words("Corvane Ferries", "and a line")})
	p.ok("deploy", "--wait-for", check)
	p.commit("Third", map[string]string{"out/index.html": strings.Repeat(words("everything is different"), 60)})
	_, notes, status := p.run("deploy", "--wait-for", check)
	assert.Equal(t, 4, status, notes)
	assert.Contains(t, notes, "pages look different by more than 1.0 %")
	assert.Contains(t, p.ok("history"), "rollback")
}

// TestManyTakePicturesAtOnce: each has its own, and whoever misses one takes it again.
func TestManyTakePicturesAtOnce(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	files := map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\npictures: {widths: 390}\n", "out/index.html": "<p>home"}
	for i := range 6 {
		files[fmt.Sprintf("out/p%d.html", i)] = fmt.Sprintf("<p>page %d", i)
	}
	p.commit("First", files)
	p.ok("deploy")
	assert.Contains(t, p.ok("doctor"), "taken by")
	var group sync.WaitGroup
	for i := range 6 {
		group.Go(func() {
			out, notes, status := p.run("pictures", "--page", fmt.Sprintf("/p%d", i))
			assert.Zero(t, status, notes)
			assert.Contains(t, out, fmt.Sprintf("/p%d ", i))
		})
	}
	// Others are killed half way.
	for range 4 {
		group.Go(func() {
			command := p.command(t.Context(), "pictures", "--retake", "--page", "/p1", "--page", "/p2")
			if command.Start() == nil {
				time.Sleep(60 * time.Millisecond)
				command.Process.Kill() //nolint:errcheck // it may have ended
				command.Wait()         //nolint:errcheck // see above
			}
		})
	}
	group.Wait()
	args := []string{"pictures", "--json"}
	for i := range 6 {
		args = append(args, "--page", fmt.Sprintf("/p%d", i))
	}
	var r view.PicturesReport
	require.NoError(t, json.Unmarshal([]byte(p.ok(args...)), &r))
	assert.Len(t, r.Pictures, 7)
	for _, one := range r.Pictures {
		assert.Empty(t, one.Problem, one.Path)
	}
	r = view.PicturesReport{}
	require.NoError(t, json.Unmarshal([]byte(p.ok(args...)), &r))
	assert.Zero(t, r.Taken, "all are there now")
}

func TestBadDaysOfPictures(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	bad := func(day string) string { return `<meta name="stand-in" content="` + day + `"><p>a bad day` }
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n" +
		"pictures: {pages: [/crash, /exit, /restless, /elsewhere, /a.txt, /nowhere], widths: 390}\n",
		"out/index.html": words("Corvane Ferries"), "out/crash.html": bad("crash"), "out/exit.html": bad("exit"),
		"out/restless.html": bad("restless"), "out/elsewhere.html": `<img src="https://elsewhere.example/x.png"><p>away`, "out/a.txt": "text",
		"out/a.css": "p {}"})
	p.ok("deploy")
	out, notes, status := p.run("pictures")
	assert.Zero(t, status, notes)
	for _, pattern := range []string{`/crash: the page's process ended`, `/exit: the browser ended while it showed the page`,
		`restless: /restless`, `/elsewhere asked for https://elsewhere.example`, `/a.txt: it answers 200, and not with a page`,
		`/nowhere: it answers 404`} {
		assert.Regexp(t, pattern, notes)
	}
	assert.Regexp(t, `(?m)^/ +844 high`, out, "the others are taken all the same")
	assert.Regexp(t, `(?m)^/elsewhere +844 high`, out)

	// What is damaged in the store is told, and taken again.
	p.commit("Second", map[string]string{"out/index.html": words("Corvane Ferries", "and boats")})
	p.ok("deploy", "--pictures")
	images := filepath.Join(p.home, "store", "sites", "corvane", "images")
	files, err := os.ReadDir(images)
	require.NoError(t, err)
	for _, file := range files {
		require.NoError(t, os.WriteFile(filepath.Join(images, file.Name()), []byte("not a picture"), 0o600))
	}
	r := p.seen("production:1", "production")
	assert.Equal(t, "unknown", r.Pages[0].State)
	assert.Contains(t, r.Pages[0].Problem, "--retake")
	assert.Equal(t, "changed", p.seen("production:1", "production", "--retake").Pages[0].State)

	// What was removed is taken again by itself.
	files, err = os.ReadDir(images)
	require.NoError(t, err)
	for _, file := range files {
		require.NoError(t, os.Remove(filepath.Join(images, file.Name())))
	}
	assert.Equal(t, "changed", p.seen("production:1", "production").Pages[0].State)

	// A record of nonsense is no record.
	records, err := filepath.Glob(filepath.Join(p.home, "store", "sites", "corvane", "pictures", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, records)
	for _, file := range records {
		require.NoError(t, os.WriteFile(file, []byte(`{"format":1,"shots":[{"path":"../../etc"}]}`), 0o600))
	}
	assert.Equal(t, "changed", p.seen("production:1", "production").Pages[0].State)
	p.ok("store", "verify")
	p.ok("store", "prune", "--yes")

	// A deploy goes live, whatever comes of its pictures.
	p.commit("Third", map[string]string{"out/index.html": words("Corvane Ferries", "and islands")})
	_, notes, status = p.run("deploy", "--pictures", "--quiet")
	assert.Zero(t, status, notes)
	p.env = append(p.env, "ORILLA_BROWSER=/nowhere/chromium")
	p.commit("Fourth", map[string]string{"out/index.html": words("Corvane Ferries", "and quays")})
	_, notes, status = p.run("deploy", "--pictures")
	assert.Zero(t, status, notes)
	assert.Contains(t, notes, "no pictures were taken")
	p.fails(1, "orilla pictures production:4", "open", "--picture", "--show")
}

// TestPicturesOfStrangersAreIsolated: without bubblewrap there are none.
func TestPicturesOfStrangersAreIsolated(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: ['mkdir -p out && cp index.html out/'], output: out, trust: [main], isolation: off}\n",
		"index.html": "<p>Corvane Ferries"})
	p.ok("deploy")
	p.git("checkout", "-qb", "stranger")
	p.commit("Second", map[string]string{"index.html": "<p>a stranger's page"})
	p.ok("deploy")
	folder := t.TempDir()
	git, err := exec.LookPath("git")
	require.NoError(t, err)
	require.NoError(t, os.Symlink(git, filepath.Join(folder, "git")))
	p.env = append(p.env, "PATH="+folder)
	p.fails(3, "shown only in isolation", "pictures", "preview/stranger")
	p.fails(3, "apt-get install bubblewrap", "diff", "production", "preview/stranger", "--pictures")
	// By whatever name.
	run := document[[]view.BuildRow](p, "builds")[0]
	for _, name := range []string{run.Release, run.Build, run.Commit, run.Entry} {
		require.NotEmpty(t, name)
		p.fails(3, "shown only in isolation", "pictures", name)
	}
	p.fails(2, "--open goes without --json", "pictures", "--open", "--json")
	p.fails(2, "--open goes without --json", "diff", "--pictures", "--open", "--json")
	p.ok("pictures", "production")
	// Without its record nobody knows whose it is.
	require.NoError(t, os.RemoveAll(filepath.Join(p.home, "store", "sites", "corvane", "builds")))
	p.fails(3, "shown only in isolation", "pictures", "production")
}

// TestTheGalleryIsForThisMachine shows what was compared, and to nobody else.
func TestTheGalleryIsForThisMachine(t *testing.T) {
	t.Parallel()
	p := drawn(t)
	p.commit("First", map[string]string{"orilla.yaml": "site: corvane\nbuild: {output: out}\n", "out/index.html": words("Corvane Ferries"), "out/a.css": ""})
	p.ok("deploy")
	p.commit("Second </script><script>alert(1)</script>", map[string]string{"out/index.html": words("Corvane Boats")})
	p.ok("deploy")
	command := p.command(t.Context(), "diff", "production:1", "production", "--pictures", "--open", "--show")
	printed := &shared{}
	command.Stdout = printed
	require.NoError(t, command.Start())
	t.Cleanup(func() {
		command.Process.Kill() //nolint:errcheck // it may have ended
		command.Wait()         //nolint:errcheck // see above
	})
	var address string
	require.Eventually(t, func() bool {
		address = regexp.MustCompile(`http://localhost:\d+/`).FindString(printed.String())
		return address != ""
	}, 30*time.Second, 10*time.Millisecond)
	ask := func(path, host string) (int, string, http.Header) {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address+path, nil)
		require.NoError(t, err)
		if host != "" {
			request.Host = host
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close() //nolint:errcheck // it is read
		data, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(data), response.Header
	}
	status, text, header := ask("", "")
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "<script>alert(1)")
	assert.Contains(t, text, `"state":"changed"`)
	assert.Contains(t, header.Get("Content-Security-Policy"), "default-src 'none'")
	for _, path := range []string{"picture/before/0.png", "picture/after/0.png", "difference/0.png"} {
		status, text, header = ask(path, "")
		assert.Equal(t, 200, status, path)
		assert.True(t, strings.HasPrefix(text, "\x89PNG"), path)
		assert.Equal(t, "image/png", header.Get("Content-Type"))
	}
	for _, path := range []string{"picture/before/99.png", "picture/x/-1.png", "difference/x", "etc/passwd"} {
		status, _, _ = ask(path, "")
		assert.Equal(t, 404, status, path)
	}
	status, _, _ = ask("", "evil.example")
	assert.Equal(t, 421, status)
}

// shared is a buffer that several write to and read.
type shared struct {
	mutex sync.Mutex
	text  bytes.Buffer
}

// Write implements io.Writer.
func (s *shared) Write(data []byte) (int, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.text.Write(data)
}

// String returns what was written so far.
func (s *shared) String() string {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.text.String()
}

// TestPicturesAreWhereOneLooks: in mails, in the report, in terminals that can.
func TestPicturesAreWhereOneLooks(t *testing.T) {
	t.Parallel()
	p := newTold(t)
	p.env = append(p.env, "ORILLA_BROWSER=stand-in")
	p.commit("Fares for the winter", map[string]string{"orilla.yaml": p.config, "index.html": "<p>Corvane Ferries", "build.sh": siteSteps})
	p.ok("deploy", "--pictures")
	p.commit("A boat more to Strike", map[string]string{"index.html": "<p>Corvane Boats"})
	p.ok("deploy")
	p.ok("rollback", "-m", "the fares were wrong")
	p.ok("notices", "send")
	pictured := map[string]bool{}
	for _, item := range p.mail.Items() {
		pictured[strings.Split(item.ID, "/")[0]+" "+item.Title] = strings.Contains(strings.ToLower(item.Raw), "content-id: <home@orilla.invalid>") &&
			strings.Contains(item.HTML, `<img src="data:image/jpeg;base64,/9j/`)
		assert.NotContains(t, item.HTML, "http-equiv")
	}
	rolled := 0
	for title, has := range pictured {
		switch {
		case strings.Contains(title, "back"):
			rolled++
			assert.True(t, has, "what it went back to was pictured: %s", title)
		case strings.Contains(title, "Strike"):
			assert.False(t, has, title)
		}
	}
	assert.Equal(t, 1, rolled, "%v", pictured)

	p.ok("report", "--out", "report.html")
	data, err := os.ReadFile(filepath.Join(p.folder, "report.html"))
	require.NoError(t, err)
	assert.Contains(t, string(data), `<img src="data:image/jpeg;base64,/9j/`)
	assert.Contains(t, string(data), `alt="The home page of production"`)

	if runtime.GOOS != "windows" {
		terminal := p.terminal("status", "--pictures")
		assert.Contains(t, terminal.ends(0), "this terminal shows no pictures")
		p.env = append(p.env, "KITTY_WINDOW_ID=1")
		terminal = p.terminal("status", "--pictures")
		terminal.ends(0)
		assert.Contains(t, terminal.raw(), "\x1b_Ga=T,f=100,")
	}
	out, notes, _ := p.run("status", "--pictures")
	assert.NotContains(t, out, "\x1b")
	assert.Contains(t, notes, "orilla open --picture")
}
