package test

import (
	"bufio"
	"bytes"
	"encoding"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/invopop/jsonschema"
	validate "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/golden"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/source"
	"orilla.example/orilla/internal/view"
)

// documents are what commands print with --json, by the name of the document in
// docs/output.schema.json.
var documents = map[string]any{
	"errors": console.Failures{}, "store-remove": view.StoreRemovedReport{},
	"build": view.DeployReport{}, "builds": []view.BuildRow{}, "cancel": view.BuildRow{},
	"check": view.CheckReport{}, "deploy": view.DeployReport{}, "diff": view.DiffReport{},
	"diff-addresses": view.AddressesReport{}, "diff-text": view.TextReport{}, "doctor": []view.Finding{},
	"domains": []view.DomainReport{}, "domains-records": []view.ZoneReport{}, "domains-reserve": []view.ReservedReport{}, "edge": httpanswer.Event{}, "edge-list": []view.NodeReport{}, "entry": view.EntryReport{},
	"explain": view.ExplainReport{}, "export": view.ExportReport{}, "files": view.FilesReport{},
	"follow": view.EventReport{}, "follow-pause": view.PausedReport{}, "history": []view.EntryReport{},
	"hook": []source.Hook{}, "init": view.InitReport{}, "open": view.OpenReport{},
	"password": view.PasswordReport{}, "preview-remove": view.RemovedReport{},
	"pictures": view.PicturesReport{}, "diff-pictures": view.SeenPages{}, "report": view.WholeReport{}, "history-path": view.PathHistory{}, "bisect": view.BisectReport{}, "compare-live": view.LiveComparison{},
	"notices": view.NoticesReport{}, "notices-test": []view.NoticeTried{}, "notices-send": view.NoticeSummary{},
	"preview-share": view.ShareReport{}, "promote": view.DeployReport{}, "remove-site": view.RemoveSiteReport{},
	"rollback": view.RollbackReport{}, "rules-format": view.FormatReport{}, "serve": view.ServeEvent{},
	"sites": []view.SiteReport{}, "status": view.StatusReport{}, "store": view.StoreReport{},
	"store-copy": maintenance.Copied{}, "store-init": view.StoreInitReport{}, "store-prune": view.PruneReport{},
	"store-restored": record.Restored{}, "store-verify": maintenance.Verified{}, "traffic": view.TrafficReport{}, "traffic-rules": []view.LostRule{}, "usage": view.UsageReport{},
	"version": view.VersionReport{}, "write": view.OutputValues{},
}

// outputSchema makes the schema of all documents from the types that are printed.
func outputSchema(t *testing.T) []byte {
	t.Helper()
	reflector := &jsonschema.Reflector{Anonymous: true, Namer: func(of reflect.Type) string {
		if of.Name() == "" {
			return ""
		}
		return filepath.Base(of.PkgPath()) + "." + of.Name() // two packages may have a type of one name
	}, Mapper: func(of reflect.Type) *jsonschema.Schema {
		// What writes itself as a text is one: ids, digests, sketches. Times have a format of their own.
		if of.Implements(reflect.TypeFor[encoding.TextMarshaler]()) && of != reflect.TypeFor[time.Time]() {
			return &jsonschema.Schema{Type: "string"}
		}
		return nil
	}}
	for _, folder := range []string{"view", "edge", "environments", "follow", "httpanswer", "source", "core"} {
		require.NoError(t, reflector.AddGoComments("orilla.example/orilla/test", "../internal/"+folder))
	}

	all := jsonschema.Definitions{}
	for name, document := range documents {
		schema := reflector.ReflectFromType(reflect.TypeOf(document))
		for inner, definition := range schema.Definitions {
			all[inner] = definition
		}
		schema.Definitions, schema.Version = nil, ""
		all[name] = schema
	}

	data, err := json.MarshalIndent(map[string]any{"$schema": jsonschema.Version,
		"title": "What Orilla prints with --json: the definitions that docs/json.md names", "$defs": all}, "", "  ")
	require.NoError(t, err)
	return append(data, '\n')
}

// jsonPage is docs/json.md: each document has a heading with its name in the
// schema, and below it one example.
type jsonPage struct {
	text  string
	shown map[string]bool
}

var jsonExample = regexp.MustCompile("(?s)(### ([a-z-]+)\n.*?```json\n)(.*?)(```\n)")

// example compares what a command printed with the example on the page; with
// -update it takes its place.
func (p *jsonPage) example(t *testing.T, name, printed string) {
	t.Helper()
	p.shown[name] = true
	found := false
	p.text = jsonExample.ReplaceAllStringFunc(p.text, func(section string) string {
		parts := jsonExample.FindStringSubmatch(section)
		if parts[2] != name {
			return section
		}
		found = true
		return parts[1] + printed + parts[4]
	})
	assert.True(t, found, "docs/json.md has no section with an example for %s", name)
}

// varying is what differs from run to run, or from machine to machine.
var varying = []struct {
	pattern *regexp.Regexp
	instead string
}{
	{regexp.MustCompile(`"20\d\d-\d\d-\d\dT[0-9:.]+Z"`), `"2026-11-02T06:30:00Z"`},
	{regexp.MustCompile(`"20\d\d-\d\d"`), `"2026-11"`},
	{regexp.MustCompile(`"isolated": (true|false)`), `"isolated": true`},
	{regexp.MustCompile(`"image": "[0-9a-f]{64}"`), `"image": "6adbfae78e67e262debabec32f473d1e1b665441cbde24e77037552a591f37f8"`},
	{regexp.MustCompile(`"milliseconds": \{[^}]*\}`), `"milliseconds": {"activate": 7, "checkout": 21, "upload": 12}`},
	{regexp.MustCompile(`("milliseconds"|"answers_in"):( ?)\d+`), `$1:${2}12`},
	{regexp.MustCompile(`"node": "[^"]*"`), `"node": "harbour-7420"`},
	{regexp.MustCompile(`127\.0\.0\.1:\d+`), `127.0.0.1:7420`},
	{regexp.MustCompile(`localhost:\d+`), `localhost:7420`},
	{regexp.MustCompile(`"go": "[^"]*"`), `"go": "go1.26"`},
	{regexp.MustCompile(`"system": "[^"]*"`), `"system": "linux/amd64"`},
	{regexp.MustCompile(`"public_key": "[^"]*"`), `"public_key": "ed25519:3lnqua/q6h6tavnzfUVgIPmkQqLXpkahjul8ibfM5Sw="`},
	{regexp.MustCompile(`"milliseconds": [\d.]+,(\s+"public_key")`), `"milliseconds": 3.2,$1`},
	{regexp.MustCompile(`"password": "[^"]*"`), `"password": "pier-otter-linen-41"`},
	{regexp.MustCompile(`/\.orilla/look/[^"]*`), `/.orilla/look/k3v9tq2w.../`},
	{regexp.MustCompile(`"share": "[^"]*"`), `"share": "4f1c9a2b07"`},
	{regexp.MustCompile(`"key": "[0-9a-z]{26}"`), `"key": "k3v9tq2w"`},
	{regexp.MustCompile(`"key": "[0-9a-f]{64}"`), `"key": "5d1f...e0"`},
	{regexp.MustCompile(`[0-9a-f]{64}/\d`), `5d1f...e0/1`},
	{regexp.MustCompile(`"attempt": "[^"]*"`), `"attempt": "k3v9tq2w"`},
	{regexp.MustCompile(`"id": "[^"]*"`), `"id": "k3v9tq2w"`},
	{regexp.MustCompile(`git version [^"]*`), `git version 2.47.0`},
}

// steady makes a document look the same in each run: two elements of a list are
// enough, and long texts are cut.
func (p *place) steady(t *testing.T, out string) string {
	t.Helper()
	out = strings.NewReplacer(strings.TrimSuffix(p.folder, "/corvane"), "/projects",
		p.home, "/home/ines/.local/share/orilla").Replace(out)
	if host, err := os.Hostname(); err == nil {
		out = strings.ReplaceAll(out, `"`+host+`"`, `"harbour"`)
	}
	for _, one := range varying {
		out = one.pattern.ReplaceAllString(out, one.instead)
	}
	out = regexp.MustCompile(`"([^"\\]|\\.){160,}"`).ReplaceAllStringFunc(out, func(long string) string {
		return long[:120] + `..."`
	})
	return out
}

// firstOfEach keeps the first elements of a list that is a whole document.
func firstOfEach(t *testing.T, out string) string {
	t.Helper()
	if !strings.HasPrefix(out, "[") {
		return out
	}
	var list []json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	var short bytes.Buffer
	encoder := json.NewEncoder(&short)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	require.NoError(t, encoder.Encode(list[:min(2, len(list))]))
	return short.String()
}

// TestJSONIsWhatItsPageSays runs each command that prints JSON: what it prints
// is the example on docs/json.md, and holds by the schema.
func TestJSONIsWhatItsPageSays(t *testing.T) {
	t.Parallel()
	schema := outputSchema(t)
	golden.EqualFile(t, "../docs/output.schema.json", string(schema))
	parsed, err := validate.UnmarshalJSON(bytes.NewReader(schema))
	require.NoError(t, err)
	compiler := validate.NewCompiler()
	require.NoError(t, compiler.AddResource("output.json", parsed))

	text, err := os.ReadFile("../docs/json.md")
	require.NoError(t, err)
	page := &jsonPage{string(text), map[string]bool{}}
	p := newPlace(t)
	holds := func(name, out string) {
		t.Helper()
		definition, err := compiler.Compile("output.json#/$defs/" + name)
		require.NoError(t, err)
		document, err := validate.UnmarshalJSON(strings.NewReader(out))
		require.NoError(t, err, out)
		assert.NoError(t, definition.Validate(document), "%s: %s", name, out)
	}
	shows := func(name string, args ...string) {
		t.Helper()
		out := p.ok(append(args, "--json")...)
		holds(name, out)
		if !page.shown[name] {
			page.example(t, name, p.steady(t, firstOfEach(t, out)))
		}
	}
	line := func(name, out string) { // of many that a command prints as it goes on
		t.Helper()
		holds(name, out)
		page.example(t, name, p.steady(t, out+"\n"))
	}

	p.jsonDeploys(shows)
	p.jsonStores(shows)
	p.jsonLines(t, line)
	written := filepath.Join(t.TempDir(), "written")
	p.ok("promote", "production", "--to", "production", "--again", "--write", "json:"+written)
	results, err := os.ReadFile(written)
	require.NoError(t, err)
	line("write", strings.TrimSpace(string(results)))
	p.jsonCancel(t, shows)
	shows("remove-site", "remove-site", "corvane", "--yes")

	other := filepath.Join(p.home, "other") // at which no edge node is running
	q := &place{t: t, folder: t.TempDir(), home: p.home, env: p.env}
	q.write(map[string]string{"index.html": "velley"})
	q.ok("deploy", "--from", ".", "--site", "velley", "--yes", "--store", other)
	q.ok("remove-site", "velley", "--yes", "--store", other)
	shows("store-remove", "store", "remove", "--yes", "--store", other)
	out, _, status := p.run("status", "--site", "nowhere", "--json")
	require.Equal(t, 1, status)
	holds("errors", out)
	page.example(t, "errors", p.steady(t, out))

	for name := range documents {
		assert.True(t, page.shown[name], "no command shows %s", name)
	}
	golden.EqualFile(t, "../docs/json.md", page.text)
}

// jsonDeploys goes through what publishes, shows and takes back.
func (p *place) jsonDeploys(shows func(name string, args ...string)) {
	p.env = append(p.env, "GIT_AUTHOR_DATE=2026-11-02T06:30:00Z", "GIT_COMMITTER_DATE=2026-11-02T06:30:00Z")
	p.write(map[string]string{"package.json": `{"scripts": {"build": "vite build"}}`})
	shows("init", "init", "--yes", "--site", "corvane")
	require.NoError(p.t, os.RemoveAll(filepath.Join(p.folder, "package.json")))
	p.commit("First sailing", map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {output: .}\n",
		"site.rules": "redirect /prices -> /fares\n", "index.html": "<title>Corvane Ferries</title><a href=/fares>Fares</a>",
		"fares.html": "42.00", "app-0a1b2c3d4e.js": ""})
	p.git("config", "user.name", "Ines Marrow")
	p.git("config", "user.email", "ines@corvane.example")
	p.edgeOn("", "--traffic=false")
	shows("deploy", "deploy", "-m", "from November")
	p.commit("Fares of the winter", map[string]string{"fares.html": "43.00"})
	shows("build", "build")
	shows("deploy", "deploy")
	shows("status", "status")
	shows("history", "history")
	shows("history", "history", "--all")
	shows("history-path", "history", "--path", "/fares")
	shows("bisect", "bisect", "/fares", "--test", "test $ORILLA_ENTRY = production:1")
	shows("compare-live", "compare-live")
	shows("sites", "sites")
	shows("files", "files", "production")
	shows("files", "files")
	shows("diff", "diff", "production:1", "production:2")
	shows("diff-addresses", "diff", "production:1", "production:2", "--addresses")
	shows("diff-text", "diff", "production:1", "production:2", "--text", "/fares")
	shows("rollback", "rollback")
	shows("entry", "thaw", "--leave-live")
	shows("entry", "freeze", "-m", "a holiday")
	shows("status", "status")
	shows("deploy", "deploy", "--working-tree", "--to", "preview/winter", "--for", "2d", "--wait-for", "/")
	shows("status", "preview")
	shows("entry", "preview", "extend", "winter")
	shows("password", "password", "preview/winter", "--generate")
	shows("preview-share", "preview", "share", "winter")
	shows("preview-share", "preview", "share", "winter", "--revoke")
	shows("promote", "promote", "preview/winter", "--to", "production", "--yes", "--wait-for", "/")
	shows("preview-remove", "preview", "remove", "winter", "--yes")
	shows("entry", "thaw", "--leave-live")
	shows("check", "check")
	shows("explain", "explain", "/prices", "--live")
	shows("rules-format", "rules", "format")
	shows("doctor", "doctor")
	shows("open", "open", "--show")
	shows("version", "version")
	shows("builds", "builds")
	shows("usage", "usage")
	shows("edge-list", "edge", "list")
	p.counted("production", "/Fares", 12)
	shows("traffic", "traffic", "--since", "1h")
	shows("traffic-rules", "traffic", "--rules")
	shows("pictures", "pictures", "--browser", "stand-in", "--width", "390")
	shows("diff-pictures", "diff", "production:1", "production", "--pictures", "--browser", "stand-in", "--width", "390")
	shows("report", "report")
	shows("domains", "domains")
	named := filepath.Join(filepath.Dir(p.folder), "named")
	require.NoError(p.t, os.MkdirAll(named, 0o755))
	require.NoError(p.t, os.WriteFile(filepath.Join(named, "orilla.yaml"), []byte("site: corvane\nstore: none\n"+
		"edge_addresses: [192.0.2.10]\nenvironments: {production: {addresses: ['https://www.corvane.example/']}}\n"), 0o600))
	shows("domains-reserve", "domains", "reserve", "-C", named, "--yes")
	shows("domains-records", "domains", "records", "-C", named)
	shows("follow-pause", "follow", "--pause")
	shows("follow-pause", "follow", "--resume")
	p.commit("Tell the crew", map[string]string{"orilla.yaml": "site: corvane\nrules: site.rules\nbuild: {output: .}\n" +
		"notices: {board: {command: test -e ../board-is-there, about: live}}\n"})
	p.ok("deploy")
	shows("notices", "notices")
	require.NoError(p.t, os.WriteFile(filepath.Join(filepath.Dir(p.folder), "board-is-there"), nil, 0o600))
	shows("notices-send", "notices", "send")
	shows("notices-test", "notices", "test")
	shows("notices", "notices")
	shows("hook", "hook", "install")
	shows("hook", "hook", "remove")
}

// jsonStores goes through what looks after a store.
func (p *place) jsonStores(shows func(name string, args ...string)) {
	copied := filepath.Join(filepath.Dir(p.folder), "copy")
	shows("store", "store")
	shows("store-verify", "store", "verify")
	shows("store-prune", "store", "prune", "--dry-run")
	shows("store-init", "store", "init")
	shows("store-copy", "store", "copy", copied)
	shows("store-restored", "store", "restored", "--store", copied, "-m", "the disk failed", "--yes")
	shows("export", "files", "--export", filepath.Join(filepath.Dir(p.folder), "plain"))
}

// jsonLines takes one line of each command that goes on, and prints a line for
// each event.
func (p *place) jsonLines(t *testing.T, line func(name, out string)) {
	t.Helper()
	p.commit("Summer times", map[string]string{"fares.html": "41.00"})
	p.ok("deploy", "--yes")
	p.commit("Autumn times", map[string]string{"fares.html": "44.00"})
	lines := strings.Split(strings.TrimSpace(p.ok("follow", "--once", "--json")), "\n")
	line("follow", lines[len(lines)-1])

	for name, args := range map[string][]string{"serve": {"serve", "--listen", freeAddress(t), "--json"},
		"edge": {"edge", "--listen", "127.0.0.1:0", "--json"}} {
		command := p.command(t.Context(), args...)
		out, err := command.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, command.Start())
		reader := bufio.NewScanner(out)
		// A node looks at all environments at once, and tells of them in no order: one that serves
		// something and one that serves nothing are waited for, and the latter is the example.
		last, served := "", name != "edge"
		for last == "" || !served {
			require.True(t, reader.Scan(), name)
			switch text := reader.Text(); {
			case name == "edge" && strings.Contains(text, `"production"`):
				served = true
				line(name, text)
			case name != "edge" || strings.Contains(text, `"preview.winter"`):
				last = text
			}
		}
		line(name, last)
		require.NoError(t, command.Process.Signal(os.Interrupt))
		for reader.Scan() {
			continue
		}
		assert.NoError(t, command.Wait())
	}
}

// jsonCancel cancels a build that never ends.
func (p *place) jsonCancel(t *testing.T, shows func(name string, args ...string)) {
	t.Helper()
	p.commit("Endless", map[string]string{"orilla.yaml": "site: corvane\nbuild: {run: [sleep 600], output: .}\n"})
	command := p.command(t.Context(), "deploy", "--yes")
	require.NoError(t, command.Start())
	running := func() bool {
		for _, row := range document[[]struct{ State, Now string }](p, "builds") {
			if row.State == "running" && strings.Contains(row.Now, "sleep") {
				return true
			}
		}
		return false
	}
	require.Eventually(t, running, patience, tick)
	shows("cancel", "cancel")
	_, ended := command.Wait().(*exec.ExitError) //nolint:errorlint // it is not wrapped
	assert.True(t, ended, "a cancelled build does not succeed")
}
