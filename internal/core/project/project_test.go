package project_test

import (
	"errors"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
)

const full = `
site: corvane
build:
  prepare: [npm ci]
  run: [npm run build, sh after.sh]
  output: dist
  folder: web
  keep: [node_modules]
  variables: {SITE_LANG: en, YEAR: 2027}
  secrets: [MAP_KEY]
  time_limit: 10m
leave_out: ["**/*.map"]
pages: {one_address: true}
assets: {keep: 2d, plain: ["img/**"]}
limits: {files: 1000, size: 25MB}
store: ../store
environments:
  production:
    follows: trunk
    addresses: [https://www.corvane.example/, "https://corvane.example/ferries"]
  staging: {follows: staging}
previews:
  follows: ["*", "!bot/*"]
`

func TestParse(t *testing.T) {
	t.Parallel()
	config, err := project.Parse([]byte(full), "orilla.yaml")
	require.NoError(t, err)
	assert.Equal(t, []string{"npm ci", "npm run build", "sh after.sh"}, config.Build.Steps())
	assert.Equal(t, map[string]string{"SITE_LANG": "en", "YEAR": "2027"}, config.Build.Variables)
	assert.Equal(t, project.Duration(10*time.Minute), config.Build.TimeLimit)
	assert.EqualValues(t, 25_000_000, config.Limits.Size)
	assert.EqualValues(t, 2*24*60*60, config.Settings().AssetSeconds())
	config = config.WithDefaults("main")
	assert.Equal(t, "trunk", config.Environments["production"].Follows)
	assert.Equal(t, []string{"https://www.corvane.example/", "https://corvane.example/ferries/"},
		config.Environments["production"].Addresses)
	assert.Equal(t, "production", config.Following("trunk"))
	assert.Equal(t, "staging", config.Following("staging"))
	assert.Empty(t, config.Following("winter-times"))
	assert.True(t, config.Previews.FollowsBranch("feature/a/b"))
	assert.False(t, config.Previews.FollowsBranch("bot/update"))

	smallest, err := project.Parse([]byte("site: velley\n"), "orilla.yaml")
	require.NoError(t, err)
	smallest = smallest.WithDefaults("main")
	assert.Equal(t, "main", smallest.Environments["production"].Follows)
	assert.Equal(t, ".", smallest.Build.Output)
}

func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct{ text, where, says string }{
		"an unknown key": {"site: corvane\nbiuld:\n  output: x\n", "orilla.yaml:2:1",
			`unknown key "biuld"; did you mean "build"?`},
		"an unknown inner key": {"site: corvane\nbuild:\n  outptu: x\n", "orilla.yaml:3:3",
			`did you mean "output"?`},
		"a name that is none": {"site: Corvane Ferries\n", "orilla.yaml:1:7",
			`such as "corvane-ferries"`},
		"a folder that leads out": {"site: a\nbuild: {output: ../x}\n", "orilla.yaml:2:17",
			"inside the project"},
		"a time that is none": {"site: a\nbuild: {time_limit: soon}\n", "orilla.yaml:2:21",
			"not a duration"},
		"a list for a word":    {"site: [a]\n", "orilla.yaml:1:7", "one value"},
		"a word for a mapping": {"site: a\nbuild: dist\n", "orilla.yaml:2:8", "mapping"},
		"a flag that is none": {"site: a\npages: {one_address: maybe}\n", "orilla.yaml:2:22",
			"true or false"},
		"an address without host": {"site: a\nenvironments: {production: " +
			"{addresses: [www.corvane.example]}}\n", "orilla.yaml:2:41", "absolute"},
		"a reserved environment": {"site: a\nenvironments: {preview: {}}\n", "orilla.yaml:2:16",
			"not an environment name"},
		"no name": {"build: {output: x}\n", "orilla.yaml:1:", "no name"},
		"two of an address": {"site: a\nenvironments:\n  production: {addresses: " +
			"[\"https://a.example/\"]}\n  staging: {addresses: [\"https://a.example\"]}\n", "orilla.yaml:",
			"address of"},
		"no YAML":     {"site: [a\n", "orilla.yaml:1:", ""},
		"a key twice": {"site: a\nsite: b\n", "orilla.yaml:2:1", "already defined"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := project.Parse([]byte(test.text), "orilla.yaml")
			problem, ok := errors.AsType[*fault.Error](err)
			require.True(t, ok, "%s: %v", name, err)
			assert.Equal(t, fault.Usage, problem.Kind)
			assert.True(t, strings.HasPrefix(problem.Where, test.where), "%s: %s", name, problem.Where)
			assert.Contains(t, problem.What+strings.Join(problem.Detail, "\n"), test.says, name)
		})
	}
	_, err := project.Parse([]byte("site: A B\nbuild:\n  outptu: x\n  time_limit: soon\n"), "orilla.yaml")
	problem, _ := errors.AsType[*fault.Error](err)
	assert.Len(t, problem.Detail, 8, "three mistakes at once, each with its line and a caret")
	assert.Equal(t, "        ^", problem.Detail[1])
	_, err = project.Parse(nil, "orilla.yaml")
	require.Error(t, err)
}

func FuzzParse(f *testing.F) {
	f.Add(full)
	f.Add("a: &a [*a]")
	f.Fuzz(func(t *testing.T, text string) {
		config, err := project.Parse([]byte(text), "orilla.yaml")
		if err == nil && !project.IsLabel(config.Site) {
			t.Fatalf("%q gave the site %q", text, config.Site)
		}
	})
}

func TestLabels(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		"Corvane Ferries": "corvane-ferries", "Überfahrt": "uberfahrt", "  --x--  ": "x", "日本": "site",
		"a_b.c": "a-b-c", strings.Repeat("long", 30): strings.Repeat("long", 15) + "lon",
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, want, project.Label(name))
			assert.True(t, project.IsLabel(project.Label(name)))
		})
	}
	assert.Equal(t, "winter-times", project.BranchLabel("winter-times"))
	seen := map[string]string{}
	for _, branch := range []string{"a/b", "a-b", "a_b", "A-B", "a--b", "é", "e", strings.Repeat("x", 60),
		strings.Repeat("x", 61), project.BranchLabel("a/b")} {
		label := project.BranchLabel(branch)
		assert.True(t, project.IsLabel(label), label)
		assert.Empty(t, seen[label], "%q and %q", branch, seen[label])
		seen[label] = branch
	}
}

func TestDetect(t *testing.T) {
	t.Parallel()
	of := func(files ...string) fstest.MapFS {
		tree := fstest.MapFS{}
		for i := 0; i < len(files); i += 2 {
			tree[files[i]] = &fstest.MapFile{Data: []byte(files[i+1])}
		}
		return tree
	}
	for name, test := range map[string]struct {
		files  fstest.MapFS
		run    string
		output string
		note   string
	}{
		"plain":             {of("index.html", ""), "", ".", ""},
		"plain in a folder": {of("public/index.html", "", "README.md", ""), "", "public", ""},
		"a package": {of("package.json",
			`{"scripts":{"build":"x"},"devDependencies":{"vite":"1"}}`, "package-lock.json", ""),
			"npm ci|npm run build", "dist", ""},
		"another manager": {of("package.json", `{"scripts":{"build":"x"},"dependencies":{"astro":"1"}}`,
			"pnpm-lock.yaml", ""), "pnpm install --frozen-lockfile|pnpm run build", "dist", ""},
		"no lock file": {of("package.json",
			`{"scripts":{"build":"x"},"dependencies":{"gatsby":"1"}}`), "npm install|npm run build", "public",
			"lock file"},
		"an output for servers": {of("package.json", `{"scripts":{"build":"x"},"dependencies":{"next":"1"}}`,
			"package-lock.json", "", "next.config.mjs", "export default {}"), "npm ci|npm run build", "out",
			"needs a server"},
		"a static export": {of("package.json", `{"scripts":{"build":"x"},"dependencies":{"next":"1"}}`,
			"package-lock.json", "", "next.config.mjs", `export default { output: 'export' }`),
			"npm ci|npm run build", "out", ""},
		"one page, by a router": {of("package.json",
			`{"scripts":{"build":"x"},"devDependencies":{"@react-router/dev":"7","vite":"8"}}`, "package-lock.json", "",
			"react-router.config.ts", "export default { ssr: false }"), "npm ci|npm run build", "build/client", ""},
		"an application": {of("package.json", `{"scripts":{"build":"ng build"},"dependencies":{"@angular/core":"21"}}`,
			"package-lock.json", "", "angular.json", `{"projects":{"planner":{"projectType":"application",
			"architect":{"build":{"builder":"@angular/build:application","options":{}}}}}}`),
			"npm ci|npm run build", "dist/planner/browser", ""},
		"an application elsewhere": {of("package.json",
			`{"scripts":{"build":"ng build"},"dependencies":{"@angular/core":"21"}}`, "package-lock.json", "",
			"angular.json", `{"projects":{"lib":{"projectType":"library"},"planner":{"architect":{"build":{
			"builder":"@angular/build:application","options":{"outputPath":{"base":"out","browser":""}}}}}}}`),
			"npm ci|npm run build", "out", ""},
		"an application of older times": {of("package.json",
			`{"scripts":{"build":"ng build"},"dependencies":{"@angular/core":"15"}}`, "package-lock.json", "",
			"angular.json", `{"projects":{"planner":{"architect":{"build":{
			"builder":"@angular-devkit/build-angular:browser","options":{"outputPath":"dist/planner"}}}}}}`),
			"npm ci|npm run build", "dist/planner", ""},
		"another output": {of("package.json", `{"scripts":{"build":"x"},"devDependencies":{"vite":"1"}}`,
			"package-lock.json", "", "vite.config.ts", `export default { build: { outDir: "./public" } }`),
			"npm ci|npm run build", "public", ""},
		"an output outside": {of("package.json", `{"scripts":{"build":"x"},"devDependencies":{"vite":"1"}}`,
			"package-lock.json", "", "vite.config.ts", `export default { build: { outDir: '../public' } }`),
			"npm ci|npm run build", "dist", ""},
		"documentation in a folder": {of("package.json",
			`{"scripts":{"docs:build":"vitepress build docs"},"devDependencies":{"vitepress":"1"}}`,
			"package-lock.json", ""), "npm ci|npm run docs:build", "docs/.vitepress/dist", ""},
		"which of the scripts": {of("package.json",
			`{"scripts":{"build":"x","generate":"y"},"dependencies":{"nuxt":"1"}}`, "package-lock.json", ""),
			"npm ci|npm run generate", ".output/public", ""},
		"a generator": {of("hugo.toml", ""), "hugo", "public", ""},
		"a Makefile": {of("Makefile", "CC = x\nsite: a\n\tdo\n", "out/index.html", ""),
			"make site", "out", ""},
		"a script": {of("build.sh", "", "public/index.html", ""), "sh build.sh", "public", ""},
		"a package for tools": {of("package.json", `{"scripts":{"lint":"x"}}`, "index.html", ""), "", ".",
			""},
		"nothing": {of("README.md", ""), "", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			guess := project.Detect(test.files)
			assert.Equal(t, test.run, strings.Join(append(guess.Prepare, guess.Run...), "|"), name)
			assert.Equal(t, test.output, guess.Output, name)
			assert.Contains(t, strings.Join(guess.Notes, " "), test.note, name)
			assert.Equal(t, test.note == "", len(guess.Notes) == 0, name)
			if guess.Output != "" {
				config, err := project.Parse([]byte(project.Draft("corvane", guess, "main")), "orilla.yaml")
				require.NoError(t, err, name)
				assert.Equal(t, guess.Output, config.Build.Output)
				assert.Equal(t, guess.Run, config.Build.Run, name)
			}
		})
	}
}

func TestRulesAndWhatTheyReferTo(t *testing.T) {
	t.Parallel()
	config, err := project.Parse([]byte(`
site: corvane
build: {output: dist}
rules: [site.rules, dist/made.rules]
languages: [en, gl]
time_zone: Atlantic/Azores
check: {stop_on: missing-file, ignore: [no-icon, {code: missing-page, path: "a/**"}, {path: "b/*"}]}
environments:
  production: {upstreams: {harbour: "https://api.corvane.example/"}}
  staging: {upstreams: {tides: http://localhost:9000/base}}
previews: {upstreams: {harbour: https://api.staging.corvane.example}}
`), "orilla.yaml")
	require.NoError(t, err)
	config = config.WithDefaults("main")
	assert.Equal(t, []string{"site.rules", "dist/made.rules"}, config.Rules)
	assert.Equal(t, []string{"made.rules"}, config.RulesInOutput(), "they are not published")
	assert.Equal(t, []string{"en", "gl"}, config.Settings().Languages)
	assert.Equal(t, "Atlantic/Azores", config.Zone().String())
	assert.Equal(t, []project.Ignore{{Code: "no-icon"}, {Code: "missing-page", Path: "a/**"}, {Path: "b/*"}},
		config.Check.Ignore)
	assert.Equal(t, []string{"missing-file"}, config.Check.StopOn)
	assert.Equal(t, []string{"harbour", "tides"}, config.Upstreams())
	assert.Equal(t, map[string]string{"harbour": "https://api.corvane.example"},
		config.Document("production").Upstreams)
	assert.Equal(t, map[string]string{"harbour": "https://api.staging.corvane.example"},
		config.Document("preview.winter").Upstreams)
	assert.Empty(t, config.Document("nowhere").Upstreams)
	options := config.RuleOptions(config)
	assert.Equal(t, []string{"production", "staging"}, options.Environments)

	whole, err := project.Parse([]byte("site: a\nrules: site.rules\n"), "orilla.yaml")
	require.NoError(t, err)
	assert.Equal(t, []string{"site.rules"}, whole.WithDefaults("main").
		RulesInOutput(), "the output is the folder itself")
	assert.Nil(t, whole.Zone())
}

func TestMistakesInWhatRulesReferTo(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"rules: ../x.rules":                                          "a file inside the project",
		"rules: [a.rules, /b.rules]":                                 "a file inside the project",
		"rules: a/../b.rules":                                        "a file inside the project",
		"languages: [english!]":                                      "not a language tag",
		"time_zone: Mars/Olympus":                                    "not a time zone",
		"time_zone: Local":                                           "not a time zone",
		"check: {stopon: x}":                                         `unknown key "stopon"; did you mean "stop_on"?`,
		"check: {ignore: [{file: x}]}":                               `unknown key "file"`,
		"check: {ignore: [{path: '[x'}]}":                            "not a glob",
		"environments: {production: {upstreams: {API: http://x}}}":   `not an upstream name: "API"`,
		"environments: {production: {upstreams: {https: http://x}}}": "no scheme",
		"environments: {production: {upstreams: {a: x.example}}}": "is not an absolute " +
			"http or https address",
		"previews: {upstreams: {a: 'http://u:p@x.example'}}": "has more than a host and a path",
	} {
		t.Run(text, func(t *testing.T) {
			_, err := project.Parse([]byte("site: corvane\n"+text+"\n"), "orilla.yaml")
			problem, ok := errors.AsType[*fault.Error](err)
			if assert.True(t, ok, text) {
				assert.Contains(t, problem.What, want, text)
				assert.True(t, strings.HasPrefix(problem.Where, "orilla.yaml:2:"), problem.Where)
			}
		})
	}
}

func TestRetentionGoesIntoTheDocumentsOfEnvironments(t *testing.T) {
	t.Parallel()
	config, err := project.Parse([]byte("site: corvane\nretention: {releases: 20, keep: [r-3f9a2c1b7e]}\n"+
		"environments:\n  production: {retention: {younger_than: 90d}}\n  staging: {}\npreviews: "+
		"{retention: {releases: 2, younger_than: 7d}}\n"), "orilla.yaml")
	require.NoError(t, err)
	const day = 86400
	assert.Equal(t, &journal.Retention{Releases: 10, Seconds: 90 * day},
		config.Document("production").Retention, "its own, whole")
	assert.Equal(t, &journal.Retention{Releases: 20, Seconds: 30 * day, Keep: []string{"r-3f9a2c1b7e"}},
		config.Document("staging").Retention)
	assert.Equal(t, &journal.Retention{Releases: 2, Seconds: 7 * day},
		config.Document("preview.winter").Retention)
	config, err = project.Parse([]byte("site: corvane\n"), "orilla.yaml")
	require.NoError(t, err)
	assert.Nil(t, config.Document("production").Retention, "what is not said is not recorded")
	for _, wrong := range []string{"retention: 7d", "retention: {days: 7}", "retention: {keep: [v1.4]}",
		"retention: {younger_than: soon}", "retention: {releases: many}"} {
		_, err := project.Parse([]byte("site: corvane\n"+wrong+"\n"), "orilla.yaml")
		require.Error(t, err, wrong)
	}
}

func TestEnvironmentsAndPreviews(t *testing.T) {
	t.Parallel()
	config, err := project.Parse([]byte(`site: corvane
settings_path: /where.json
commit_address: https://code.corvane.example/site/commit/{commit}
environments:
  production: {follows: nothing, settings: {b: 1.0, a: [true, null, "ü"]}, wait_for: [/, ./audit.sh]}
  staging: {follows: nothing, addresses: ["https://ferries.example/staging"]}
previews: {addresses: ["https://{preview}.try.example/", "https://try.example/{preview}"], settings: "plain", most: 3, expire_after: 0s, wait_for: /}
`), "orilla.yaml")
	require.NoError(t, err)
	config = config.WithDefaults("main")
	assert.Equal(t, "main", config.MainBranch("main"),
		"a production that follows nothing is configured by the main branch")
	assert.Empty(t, config.Following("nothing"), "no branch of that name is followed by it")
	assert.Empty(t, config.Following("main"))
	production := config.Document("production")
	assert.Equal(t, `{"a":[true,null,"ü"],"b":1}`, string(production.Settings), "in canonical form")
	assert.Equal(t, "/where.json", production.SettingsPath)
	preview := config.Document("preview.winter-times")
	assert.Equal(t, []string{"https://winter-times.try.example/", "https://try.example/winter-times/"},
		preview.Addresses)
	assert.Equal(t, []string{"https://*.try.example/", "https://try.example/"},
		config.Document(journal.Previews).Addresses)
	assert.Equal(t, `"plain"`, string(preview.Settings))
	staging := config.Document("staging")
	assert.Nil(t, staging.Settings)
	assert.Empty(t, staging.SettingsPath, "without settings there is no path")
	assert.Equal(t, [][]string{{"/", "./audit.sh"}, nil, {"/"}}, [][]string{config.WaitFor("production"),
		config.WaitFor("staging"), config.WaitFor("preview.x")})
	assert.Equal(t, "https://code.corvane.example/site/commit/4be21c7", config.CommitLink("4be21c7"))
	assert.Empty(t, config.CommitLink(""))
	assert.Zero(t, *config.Previews.Expire, "0s is for never")
	plain, err := project.Parse([]byte("site: corvane\n"), "orilla.yaml")
	require.NoError(t, err)
	plain = plain.WithDefaults("trunk")
	assert.Equal(t, project.Duration(30*24*time.Hour), *plain.Previews.Expire,
		"what nobody cleans up ends by itself")
	assert.Equal(t, "production", plain.Following("trunk"))
	assert.Equal(t, "trunk", plain.MainBranch("main"))
}

// TestDetectFingerprinted reads from a generator's configuration which files are
// named by their content.
func TestDetectFingerprinted(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct{ dependency, file, text, want string }{
		"a folder of its own":      {"next", "next.config.js", "output: 'export'", "_next/static/{chunks,css,media}/**"},
		"the usual folder":         {"astro", "astro.config.mjs", "export default {}", "_astro/**"},
		"another folder":           {"astro", "astro.config.ts", "build: { assets: 'piers' }", "piers/**"},
		"another folder of an app": {"@sveltejs/kit", "svelte.config.js", `appDir: "app"`, "app/immutable/**"},
		"with a slash":             {"nuxt", "nuxt.config.ts", "buildAssetsDir: '/piers/'", "piers/*.{js,css,woff,woff2}"},
		"none":                     {"vite", "vite.config.js", "export default {}", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			guess := project.Detect(fstest.MapFS{test.file: &fstest.MapFile{Data: []byte(test.text)},
				"package.json": &fstest.MapFile{Data: []byte(
					`{"scripts":{"build":"x"},"dependencies":{"` + test.dependency + `":"1"}}`)}})
			assert.Equal(t, test.want, strings.Join(guess.Fingerprinted, " "))
			config, err := project.Parse([]byte(project.Draft("corvane", guess, "main")), "orilla.yaml")
			require.NoError(t, err)
			assert.Equal(t, guess.Fingerprinted, config.Assets.Fingerprinted)
		})
	}
}
