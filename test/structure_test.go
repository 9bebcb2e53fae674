package test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/rules"
)

// layers are the packages from the top down: each imports
// only what comes below it.
var layers = []string{
	"cmd/", "internal/cli", "internal/view", "internal/console", "internal/demo", "internal/devserver",
	"internal/follow", "internal/courier", "internal/deploy", "internal/export", "internal/inspect", "internal/outside", "internal/past", "internal/gallery", "internal/browser", "internal/environments",
	"internal/issuance", "internal/domains", "internal/standin", "internal/nameservers",
	"internal/edge", "internal/metrics", "internal/counting", "internal/background", "internal/httpanswer", "internal/build", "internal/steps", "internal/site",
	"internal/source", "internal/sandbox", "internal/store", "internal/process", "internal/core",
}

func layer(path string) int {
	for i, prefix := range layers {
		if strings.HasPrefix(path, "orilla.example/orilla/"+prefix) {
			return i
		}
	}
	return -1
}

func TestImportsPointDown(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "../...").Output()
	require.NoError(t, err)
	packages := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		from := layer(fields[0])
		if from < 0 {
			continue // tests and scripts
		}
		packages++
		core := layers[from] == "internal/core"
		for _, to := range fields[1:] {
			if below := layer(to); below >= 0 {
				assert.GreaterOrEqual(t, below, from, "%s imports %s", fields[0], to)
			}
			assert.False(t, !core && to == "orilla.example/orilla/internal/core/canon",
				"records are read and written by the core: %s", fields[0])
			for _, forbidden := range []string{"os/exec", "net/http/httptest", "github.com/spf13/cobra",
				"charm.land/lipgloss/v2", "os"} {
				assert.False(t, core && to == forbidden, "the core imports %s: %s", forbidden, fields[0])
			}
		}
	}
	assert.Greater(t, packages, 15)
}

// TestTheSchemaSaysWhatTheParserTakes runs the same files through both.
func TestTheSchemaSaysWhatTheParserTakes(t *testing.T) {
	t.Parallel()
	schema, err := jsonschema.NewCompiler().Compile("../docs/orilla.schema.json")
	require.NoError(t, err)
	reference, err := os.ReadFile("../docs/configuration.md")
	require.NoError(t, err)
	_, full, _ := strings.Cut(string(reference), "```yaml\n")
	full, _, _ = strings.Cut(full, "```")
	for _, text := range []string{
		full, "site: corvane\n", "site: a\nenvironments: {staging: }\n", "site: a\nassets: {keep: 1d12h}\n", "site: a\nlimits: {files: 10, size: 5MB}\n",
		"site: Corvane\n", "build: {}\n", "site: a\nbiuld: {}\n", "site: a\nbuild: {outptu: x}\n",
		"site: a\nbuild: {output: ../x}\n", "site: a\nbuild: {output: /x}\n",
		"site: a\npages: {one_address: maybe}\n", "site: a\nassets: {keep: soon}\n",
		"site: a\nlimits: {size: big}\n", "site: a\nenvironments: {preview: {}}\n",
		"site: a\nenvironments: {production: {addresses: [www.corvane.example]}}\n",
		"site: a\nbuild: {secrets: ['1x']}\n", "site: [a]\n",
		"site: a\nrules: site.rules\nlanguages: [en, pt-BR]\ntime_zone: UTC\ncheck: {stop_on: [all], " +
			"ignore: [no-icon, {code: missing-page, path: 'a/**'}]}\n",
		"site: a\nrules: [a.rules, dist/b.rules]\npreviews: {upstreams: {harbour: https://x.example}}\n",
		"site: a\nrules: /a.rules\n", "site: a\nrules: ../a.rules\n",
		"site: a\nlanguages: [e]\n",
		"site: a\nenvironments: {production: {upstreams: {Harbour: https://x.example}}}\n",
		"site: a\nenvironments: {production: {upstreams: {harbour: x.example}}}\n",
		"site: a\ncheck: {ignore: [{cod: x}]}\n", "site: a\nbuild: dist\n",
		"site: a\nretention: {releases: 3, younger_than: 7d, keep: [r-3f9a2c1b7e]}\n",
		"site: a\nretention: {keep: r-3f9a2c1b7e}\n", "site: a\nretention: {days: 3}\n",
		"site: a\nretention: {keep: [v1]}\n",
		"site: a\nbuild: {also: [shared/x, package.json], tell: commit, needs: {node: 20, hugo: " +
			"'>=0.110'}, secrets_for: [main]}\n", "site: a\nbuild: {also: /x}\n",
		"site: a\nbuild: {also: [../x]}\n", "site: a\nbuild: {also: ['a*']}\n",
		"site: a\nbuild: {tell: [time]}\n", "site: a\nbuild: {needs: {node: latest}}\n",
		"site: a\nbuild: {needs: {'no de': 2}}\n",
		"site: a\nlimits: {file_size: 1MB, build_time: 5m, build_time_per_month: 500m}\n",
		"site: a\nlimits: {build_time: long}\n",
		"site: a\npreviews: {refs: ['refs/proposed/*/head']}\n",
		"site: a\npreviews: {refs: ['refs/heads/*']}\n", "site: a\npreviews: {labels: {'refs/proposed/*/head': change-*}}\n",
		"site: a\npreviews: {labels: {'refs/proposed/7/head': change-*}}\n", "site: a\npreviews: {labels: {'feature/*': '*'}}\n",
		"site: a\npreviews: {labels: {'feature/*': F-*}}\n", "site: a\npreviews: {refs: [proposed]}\n",
		"site: a\nfollow: {superseded: cancel, parallel: 3, every: 10s}\n",
		"site: a\nfollow: {superseded: maybe}\n", "site: a\nfollow: {often: 1s}\n",
		"site: a\npreviews: {retention: {releases: some}}\n", "site: a\nstore: s3://corvane/stores\n",
		"site: a\nsettings_path: /a/b.json\ncommit_address: " +
			"'https://code.example/{commit}'\nenvironments: {x: {follows: nothing, settings: " +
			"[1, {a: null}], wait_for: /}}\n", "site: a\nsettings_path: a.json\n",
		"site: a\nsettings_path: /\n",
		"site: a\nmail: {server: smtp://mail.corvane.example, from: a@b.example, tls: offered, user: A, password: B}\n", "site: a\ncheck: {budget: [{page: '**', total: 1kB, requests: 3}, {file: 'a/*', size: 2}]}\n", "site: a\ncheck: {budget: [{page: '**'}]}\n", "site: a\ncheck: {budget: [{page: '**', size: 1}]}\n", "site: a\ncheck: {budget: [{file: '**', total: 1}]}\n", "site: a\ncheck: {budget: [{file: '**', page: '**', size: 1}]}\n", "site: a\ncheck: {budget: [{page: /a, total: 1}]}\n",
		"site: a\nmail: {server: mail.corvane.example}\n", "site: a\nmail: {from: nobody}\n", "site: a\nmail: {tls: maybe}\n", "site: a\nmail: {password: it is secret}\n",
		"site: a\nnotices: {a: {command: x, secrets: [A], about: [live, all], environments: [preview/*]}}\n", "site: a\nnotices: {a: {}}\n", "site: a\nnotices: {a: {command: x, webhook: https://b.example, secret: A}}\n", "site: a\nnotices: {a: {webhook: https://b.example}}\n", "site: a\nnotices: {a: {webhook: b.example, secret: A}}\n", "site: a\nnotices: {a: {command: x, secret: A}}\n", "site: a\nnotices: {A: {command: x}}\n", "site: a\nnotices: {a: {command: x, about: lives}}\n", "site: a\nnotices: {a: {webhook: https://b.example, secret: A, secrets: [B]}}\n",
		"site: a\nsettings_path: /a/../b\n",
		"site: a\nsettings_path: '/a b'\n", "site: a\ncommit_address: 'https://code.example/'\n",
		"site: a\nenvironments: {previews: {}}\n",
		"site: a\npreviews: {addresses: 'https://{preview}.x.example', expire_after: 0s, most: 3, " +
			"unguessable: true, wait_for: [a, b]}\n", "site: a\npreviews: {addresses: 'https://x.example'}\n",
		"site: a\npreviews: {most: many}\n", "site: a\npreviews: {wait_for: ['']}\n",
		"site: a\npreviews: {unguessable: 1}\n",
	} {
		_, parsed := project.Parse([]byte(text), "orilla.yaml")
		var document any
		require.NoError(t, yaml.Unmarshal([]byte(text), &document))
		data, err := json.Marshal(document)
		require.NoError(t, err)
		document, err = jsonschema.UnmarshalJSON(strings.NewReader(string(data)))
		require.NoError(t, err)
		valid := schema.Validate(document)
		assert.Equal(t, parsed == nil, valid == nil, "%s\nparser: %v\nschema: %v", text, parsed, valid)
	}
}

// TestTheSchemaOfTheNodeSaysWhatTheParserTakes runs the same files through both.
func TestTheSchemaOfTheNodeSaysWhatTheParserTakes(t *testing.T) {
	t.Parallel()
	schema, err := jsonschema.NewCompiler().Compile("../docs/edge.schema.json")
	require.NoError(t, err)
	for _, text := range []string{
		"store: /srv/orilla\ncache: {folder: /var/cache/orilla, size: 20GB}\nmemory: 512MB\ntrust: [127.0.0.1]\n",
		"listen: 127.0.0.1:7420\nannounce: 'edge.corvane.example:7420'\nlog: node.log\nrequests: true\n",
		"local_names: false\nstale: {public: never, protected: 30m}\ndrain: 0s\n",
		"connections: {most: 1000, per_client: 50, rate: 2kB}\nupstream: {reach: all, most: 20}\n",
		"upstream: {reach: [10.1.0.0/16, 'fd00::/8']}\ntrust: 10.0.0.1\n", "listen: ':7420'\n",
		"listen: 7420\n", "listen: 127.0.0.1\n", "memory: big\n", "trust: [harbour]\n", "stale: {public: soon}\n",
		"stale: {protected: never}\n", "requests: 1\n", "cache: /var/cache\n", "cache: {fodler: x}\n", "memroy: 1GB\n",
		"upstream: {reach: [everything]}\n", "connections: {rate: fast}\n", "drain: later\n",
		"tls: {listen: ':443', certificates: [a.pem, {chain: b.pem, key: b.key}, {chain: c.pem}]}\n",
		"tls: {certificates: a.pem}\n", "tls: {certificates: {chain: a.pem}}\n", "tls: {certificates: []}\n",
		"tls: {certificates: ''}\n", "tls: {certificates: [{key: a.key}]}\n", "tls: {certificates: {chian: a}}\n",
		"tls: {listen: 443}\n", "tls: true\n",
		"tls: {acme: {directory: 'https://ca.example/directory', contact: a@corvane.example, secret: secret, authority: a.pem}}\n",
		"tls: {acme: {resolver: '127.0.0.1:53', http_port: 8080, dns: {key: k, server: '127.0.0.1:53'}}}\n",
		"tls: {acme: {directory: 'http://ca.example/directory'}}\n", "tls: {acme: {directory: ca}}\n",
		"tls: {acme: {http_port: x}}\n", "tls: {acme: {dns: key}}\n", "tls: {acme: {secrets: a}}\n",
	} {
		_, parsed := project.ParseEdge([]byte(text), "edge.yaml")
		var document any
		require.NoError(t, yaml.Unmarshal([]byte(text), &document))
		data, err := json.Marshal(document)
		require.NoError(t, err)
		document, err = jsonschema.UnmarshalJSON(strings.NewReader(string(data)))
		require.NoError(t, err)
		valid := schema.Validate(document)
		assert.Equal(t, parsed == nil, valid == nil, "%s\nparser: %v\nschema: %v", text, parsed, valid)
	}
}

// TestThePageOnRulesIsRight parses what docs/rules.md shows, and looks there
// for every finding that the program can make.
func TestThePageOnRulesIsRight(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../docs/rules.md")
	require.NoError(t, err)
	page := string(data)
	var text strings.Builder
	for line := range strings.Lines(page) {
		rest, indented := strings.CutPrefix(line, "    ")
		if verb, _, _ := strings.Cut(strings.TrimSpace(rest), " "); indented &&
			slices.Contains(rules.Verbs(), rules.Verb(verb)) && !strings.Contains(rest, "PATTERN") &&
			!strings.Contains(rest, "[") {
			text.WriteString(rest)
		}
	}
	program, found := rules.Parse([]rules.Source{{Name: "rules.md", Text: []byte(text.String())}},
		rules.Options{Languages: []string{"en", "gl"}, Zone: time.UTC, Upstreams: []string{"harbour"}})
	assert.Empty(t, found)
	assert.Greater(t, len(program.Rules), 10)
	assert.Greater(t, len(program.Expectations), 4)
	for _, verb := range rules.Verbs() {
		assert.Contains(t, page, "| `"+string(verb)+"` |")
	}
	codes := regexp.MustCompile(
		`"((?:rule|missing|wrong|link|no-icon|no-fallback|form-refused|home-broken|hidden-asset|address-lost|environment-address|foreign-address|expectation)[a-z-]*)"`)
	told := 0
	for _, folder := range []string{"../internal/core/rules", "../internal/core/check"} {
		files, err := filepath.Glob(folder + "/*.go")
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			source, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, match := range codes.FindAllStringSubmatch(string(source), -1) {
				if code := match[1]; strings.Contains(code, "-") && !strings.HasSuffix(code, "-") ||
					code == "expectation" {
					told++
					assert.Contains(t, page, "`"+code+"`", "%s makes %s", file, code)
				}
			}
		}
	}
	assert.Greater(t, told, 40)
}

// TestTheDemosRulesAreWellFormed formats them, which changes nothing.
func TestTheDemosRulesAreWellFormed(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../internal/demo/steps/6/site.rules")
	require.NoError(t, err)
	assert.Equal(t, string(rules.Format(data)), string(data))
}

// TestEveryChildsEnvironmentIsMade finds each place that starts a process, and
// makes sure that it says what the child is told: one that says nothing would
// hand on every secret of this process.
func TestEveryChildsEnvironmentIsMade(t *testing.T) {
	t.Parallel()
	found := 0
	err := filepath.WalkDir("../internal", func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") ||
			strings.HasSuffix(path, "_test.go") || strings.Contains(path, "storetest") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, declaration := range file.Decls {
			starts, told := false, false
			ast.Inspect(declaration, func(node ast.Node) bool {
				selector, ok := node.(*ast.SelectorExpr)
				if !ok {
					return true
				}
				if where, ok := selector.X.(*ast.Ident); ok && where.Name == "exec" &&
					strings.HasPrefix(selector.Sel.Name, "Command") {
					starts = true
				}
				told = told || selector.Sel.Name == "Env"
				return true
			})
			if starts {
				found++
				assert.True(t, told, "%s starts a process that inherits this one's environment", path)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, found, 5)
}
