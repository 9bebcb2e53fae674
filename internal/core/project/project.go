// Package project is a site's configuration: orilla.yaml, its defaults and its
// mistakes.
//
//	site: corvane
//	build:
//	  run: [npm run build]
//	  output: dist
//	environments:
//	  production:
//	    follows: main
//	    addresses: [https://www.corvane.example/]
//
// Parse returns a Config with its defaults filled in, so that nobody further
// down asks whether a field was set. Mistakes are told all at once, each with
// its line and column, and with the word that was probably meant. Nothing is
// read from the environment or from other files: the same bytes give the same
// Config everywhere.
package project

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // for machines without a database of time zones

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// FileName is the name of the configuration file, at the root of a project.
const FileName = "orilla.yaml"

// Config is the content of orilla.yaml.
// docs/configuration.md describes each key.
type Config struct {
	Site      string   `yaml:"site"`
	Build     Build    `yaml:"build"`
	LeaveOut  []string `yaml:"leave_out"`
	Rules     []string `yaml:"rules"`     // files, relative to Build.Folder, joined in order
	Languages []string `yaml:"languages"` // BCP 47 tags; the first is the default
	// of times in rules, a name of the IANA time zone database
	TimeZone string `yaml:"time_zone"`
	Check    Check  `yaml:"check"`
	Pages    Pages  `yaml:"pages"`
	Assets   Assets `yaml:"assets"`
	Limits   Limits `yaml:"limits"`
	Store    string `yaml:"store"`
	// EdgeAddresses is where the edge nodes are: addresses, or one name.
	EdgeAddresses []string `yaml:"edge_addresses"`
	// EdgeKeys are the public keys of the edge nodes whose word counts; without any, those that
	// nodes have in the store.
	EdgeKeys     []string               `yaml:"edge_keys"`
	Retention    *Retention             `yaml:"retention"` // of environments that do not say it themselves
	Environments map[string]Environment `yaml:"environments"`
	Previews     Previews               `yaml:"previews"`
	Follow       Follow                 `yaml:"follow"`
	// SettingsPath is the address at which each environment answers with its
	// settings; DefaultSettingsPath unless said.
	SettingsPath string `yaml:"settings_path"`
	// Pictures says which pages are shown in pictures, and how.
	Pictures Pictures `yaml:"pictures"`
	// CommitAddress is where a code host shows a commit:
	// an address with {commit} in it.
	CommitAddress string `yaml:"commit_address"`
	// Notices says whom to tell what, by names that the project chooses; Mail how mail is sent.
	Notices map[string]Notice `yaml:"notices"`
	Mail    Mail              `yaml:"mail"`
}

// Build says how the site is made from a commit.
type Build struct {
	Prepare []string `yaml:"prepare"` // steps that fetch dependencies
	Run     []string `yaml:"run"`     // steps that make the output, in order
	Output  string   `yaml:"output"`  // the folder they leave, relative to Folder
	Folder  string   `yaml:"folder"`  // where in the repository the site lives
	// folders and files elsewhere in the repository that
	// the steps need, from its top
	Also      []string          `yaml:"also"`
	Keep      []string          `yaml:"keep"`      // folders carried from build to build
	Variables map[string]string `yaml:"variables"` // told to the steps
	Secrets   []string          `yaml:"secrets"`   // told to the steps from the environment of whoever builds
	// SecretsFor says which branches' builds are given the secrets, in patterns
	// as of Previews.Follows; nil: those that are trusted.
	SecretsFor []string `yaml:"secrets_for"`
	// which branches are as trusted as the production branch; see Config.Trusts
	Trust []string `yaml:"trust"`
	// of untrusted builds: IsolateAuto, IsolateRequired, IsolateOff
	Isolation string `yaml:"isolation"`
	Network   string `yaml:"network"` // of isolated builds: NetworkNone, NetworkOutside
	// what the steps are told of where the release goes; see Tellable
	Tell      []string          `yaml:"tell"`
	Needs     map[string]string `yaml:"needs"`      // versions of tools
	TimeLimit Duration          `yaml:"time_limit"` // for all steps together
}

// The values of Build.Isolation.
const (
	// isolated where the machine can do it; changes from
	// outside the repository only then
	IsolateAuto     = "auto"
	IsolateRequired = "required" // isolated, or not built
	IsolateOff      = "off"      // never isolated; changes from outside the repository are not built
)

// The values of Build.Network.
const (
	NetworkNone    = "none"    // an isolated build reaches nothing
	NetworkOutside = "outside" // it reaches public addresses, and none of this machine or its networks
)

// Tellable is what a build can be told, besides variables:
// each becomes a part of its key.
var Tellable = []string{"commit", "branch", "environment", "address", "history"}

// Steps returns all steps in order.
//
// They share one time limit; only prepare is passed over while what it leaves
// still fits.
func (b Build) Steps() []string { return append(append([]string{}, b.Prepare...), b.Run...) }

// Pages says how pages are answered.
type Pages struct {
	OneAddress bool `yaml:"one_address"`
}

// Assets says how fingerprinted files are answered.
type Assets struct {
	Keep          *Duration `yaml:"keep"`
	Fingerprinted []string  `yaml:"fingerprinted"`
	Plain         []string  `yaml:"plain"`
}

// Check says how findings in the output are taken.
type Check struct {
	StopOn []string `yaml:"stop_on"` // codes of warnings that stop a deploy; "all" for every one
	Ignore []Ignore `yaml:"ignore"`
	// Budget is how much pages may load, and how large files may be.
	Budget []Budget `yaml:"budget"`
}

// Budget is one of them: of pages, or of files. 0 is no limit. Sizes are bytes on the wire, text as
// gzip sends it.
type Budget struct {
	Page string `yaml:"page"` // a glob of pages, each with all that it loads
	File string `yaml:"file"` // a glob of files, each alone

	Total    Size  `yaml:"total"` // of a page
	Pages    Size  `yaml:"pages"` // the page itself
	Scripts  Size  `yaml:"scripts"`
	Styles   Size  `yaml:"styles"`
	Images   Size  `yaml:"images"`
	Fonts    Size  `yaml:"fonts"`
	Requests int64 `yaml:"requests"`
	Size     Size  `yaml:"size"` // of a file
}

// Pictures is which pages pictures are taken of, besides the home page and those that changed.
type Pictures struct {
	Pages   []string `yaml:"pages"`   // their paths below the base path: /fares
	Widths  []int    `yaml:"widths"`  // of the window, in CSS pixels; default 390 and 1280
	Schemes []string `yaml:"schemes"` // light, dark; default light
	Ignore  []string `yaml:"ignore"`  // CSS selectors of what is left out
}

// Ignore is a finding that is known and accepted.
type Ignore struct {
	Code string `yaml:"code"` // "" for any
	Path string `yaml:"path"` // a glob of paths; "" for any
}

// Limits is how much a release may hold, and how long builds may take.
type Limits struct {
	Files    int64 `yaml:"files"`
	Size     Size  `yaml:"size"`      // of all files together
	FileSize Size  `yaml:"file_size"` // of one file; 0 for no limit
	// of one build, whatever build.time_limit says; 0 for no limit
	BuildTime Duration `yaml:"build_time"`
	// of all builds of a calendar month (UTC); 0 for no limit
	BuildTimePerMonth Duration `yaml:"build_time_per_month"`

	// Of one untrusted build. all its processes together;
	// 0: three quarters of the machine's
	BuildMemory    Size  `yaml:"build_memory"`
	BuildProcesses int64 `yaml:"build_processes"` // processes and threads at once
	BuildDisk      Size  `yaml:"build_disk"`      // its checkout, what it makes and its temporary files
}

// Follow says how new commits are built by themselves.
type Follow struct {
	// what becomes of a running build when a newer commit
	// of its branch comes: finish, cancel
	Superseded string   `yaml:"superseded"`
	Parallel   int64    `yaml:"parallel"` // how many branches at once
	Every      Duration `yaml:"every"`    // how often the repository is asked
}

// The values of Follow.Superseded.
const (
	Finish = "finish"
	Cancel = "cancel"
)

// Environment is a fixed environment: one that the configuration names, unlike
// a preview.
type Environment struct {
	Follows string `yaml:"follows"` // the branch whose commits go there; Nothing for none
	// absolute URLs; the first is canonical, its path is the base path
	Addresses []string          `yaml:"addresses"`
	Upstreams map[string]string `yaml:"upstreams"` // where proxy rules lead, by name
	Retention *Retention        `yaml:"retention"`
	Settings  json.RawMessage   `yaml:"settings"` // any JSON value; nil for none
	// probes that follow an activation: addresses and commands
	WaitFor []string `yaml:"wait_for"`
}

// Nothing is what an environment follows that is only promoted to.
const Nothing = "nothing"

// DefaultSettingsPath is where settings are answered.
const DefaultSettingsPath = "/settings.json"

// Retention says which releases of an environment a prune keeps.
type Retention struct {
	Releases    int64     `yaml:"releases"`     // the last so many
	YoungerThan *Duration `yaml:"younger_than"` // and those that were live within this time
	Keep        []string  `yaml:"keep"`         // and these
}

// Previews says which branches and refs get previews, where these are, and how
// long they last.
type Previews struct {
	Follows   []string          `yaml:"follows"`
	Labels    Labels            `yaml:"labels"`
	Refs      []string          `yaml:"refs"`      // patterns of refs besides branches: proposed changes
	Upstreams map[string]string `yaml:"upstreams"` // as of an environment, for the previews of all branches
	// RefUpstreams are those of the previews of Refs:
	// whoever may propose a change could reach them.
	RefUpstreams map[string]string `yaml:"ref_upstreams"`
	Retention    *Retention        `yaml:"retention"`
	// as of an environment, with {preview} in the host or path
	Addresses []string        `yaml:"addresses"`
	Settings  json.RawMessage `yaml:"settings"` // as of an environment, for all previews
	WaitFor   []string        `yaml:"wait_for"` // as of an environment
	// how long after its last activation a preview ends; 0 for never
	Expire *Duration `yaml:"expire_after"`
	Most   int64     `yaml:"most"` // how many there may be; 0 for any number
	// Unguessable gives each label a part that nobody can
	// guess who cannot read the store.
	Unguessable bool `yaml:"unguessable"`
}

// LabelPlace stands, in an address of previews, for the label of one.
const LabelPlace = names.LabelPlace

// Production is the environment that every site has.
const Production = "production"

// Defaults of keys that are left out.
const (
	DefaultTimeLimit = 10 * time.Minute
	DefaultMaxFiles  = 250_000
	DefaultMaxBytes  = 10_000_000_000
	DefaultParallel  = 2
	DefaultEvery     = time.Minute
	DefaultExpire    = 30 * 24 * time.Hour

	DefaultBuildProcesses = 2048
	DefaultBuildDisk      = 10_000_000_000
)

// WithDefaults fills in what was left out.
//
// Parse leaves absent what was left out, so that a project can be asked what
// was really said; everybody else gets this.
func (c Config) WithDefaults(mainBranch string) Config {
	if c.Build.Folder == "" {
		c.Build.Folder = "."
	}
	if c.Build.Output == "" {
		c.Build.Output = "."
	}

	if c.Build.TimeLimit == 0 {
		c.Build.TimeLimit = Duration(DefaultTimeLimit)
	}
	if c.Limits.Files == 0 {
		c.Limits.Files = DefaultMaxFiles
	}

	if c.Limits.Size == 0 {
		c.Limits.Size = DefaultMaxBytes
	}
	c.Build.Isolation = cmp.Or(c.Build.Isolation, IsolateAuto)
	c.Build.Network = cmp.Or(c.Build.Network, NetworkOutside)
	c.Limits.BuildProcesses = cmp.Or(c.Limits.BuildProcesses, DefaultBuildProcesses)
	c.Limits.BuildDisk = cmp.Or(c.Limits.BuildDisk, DefaultBuildDisk)
	c.Follow.Superseded = cmp.Or(c.Follow.Superseded, Finish)
	c.Follow.Parallel = cmp.Or(c.Follow.Parallel, DefaultParallel)
	c.Follow.Every = cmp.Or(c.Follow.Every, Duration(DefaultEvery))
	// A copy: configurations are shared between goroutines, and maps are not
	// copied with them.
	environments := map[string]Environment{Production: {}}
	for name, environment := range c.Environments {
		environments[name] = environment
	}

	if production := environments[Production]; production.Follows == "" {
		production.Follows = mainBranch
		environments[Production] = production
	}
	c.Environments = environments
	if c.Previews.Expire == nil {
		after := Duration(DefaultExpire)
		c.Previews.Expire = &after
	}

	if c.Previews.Follows == nil {
		c.Previews.Follows = []string{"*"}
	}
	return c
}

// Settings returns what of the configuration becomes part of a release.
//
// Only what differs from the defaults is kept, so that a default that is
// written out makes the same release.
func (c Config) Settings() release.Settings {
	settings := release.Settings{OneAddress: c.Pages.OneAddress, Fingerprinted: c.Assets.Fingerprinted,
		Plain: c.Assets.Plain, Languages: c.Languages}
	if keep := c.Assets.Keep; keep != nil {
		if seconds := int64(time.Duration(*keep) / time.Second); seconds != release.DefaultKeepAssets {
			settings.KeepAssets = &seconds
		}
	}
	return settings
}

// Zone returns the time zone of rules; nil if none is set.
func (c Config) Zone() *time.Location {
	if c.TimeZone == "" {
		return nil
	}
	zone, err := time.LoadLocation(c.TimeZone)
	if err != nil {
		return nil // the parser has refused it
	}
	return zone
}

// RuleOptions are what rules may refer to. standing says
// what environments there are.
func (c Config) RuleOptions(standing Config) rules.Options {
	options := rules.Options{Languages: c.Languages, Zone: c.Zone(), Upstreams: standing.Upstreams(),
		Environments: sortedKeys(standing.Environments)}
	for _, name := range c.Upstreams() {
		if !slices.Contains(options.Upstreams, name) {
			options.Upstreams = append(options.Upstreams, name)
		}
	}
	return options
}

// InOutput reports whether a rules file lies in the output, and is there only
// after the build, and its path there.
func (c Config) InOutput(file string) (string, bool) {
	if c.Build.Output == "." {
		return "", false
	}
	return strings.CutPrefix(file, c.Build.Output+"/")
}

// RulesInOutput returns the paths, in the output, of rules
// files, which are not published.
func (c Config) RulesInOutput() []string {
	var paths []string
	for _, file := range c.Rules {
		if path, ok := c.InOutput(file); ok {
			paths = append(paths, path)
		} else if c.Build.Output == "." {
			paths = append(paths, file)
		}
	}
	return paths
}

// Doubtful returns the configuration without what only the production branch may say, for where
// it is not known whether that says it: no environment follows a branch, nobody is trusted, given
// secrets or told, and no command is run.
func (c Config) Doubtful() Config {
	environments := map[string]Environment{}
	for name, e := range c.Environments {
		e.Follows, e.WaitFor = Nothing, nil
		environments[name] = e
	}
	c.Environments = environments
	c.Previews.WaitFor, c.Previews.RefUpstreams = nil, nil
	c.Build.Trust, c.Build.SecretsFor, c.Build.Isolation = nil, []string{}, IsolateAuto
	c.Notices = nil
	return c
}

// Document returns what the configuration says of an
// environment, by its stored name.
//
// Of a preview its label is filled into the addresses; what all previews have
// in common is said once. That of journal.Previews holds where previews may be.
func (c Config) Document(environment string) journal.DocumentContent {
	if environment == journal.Previews {
		return journal.DocumentContent{Addresses: c.Previews.patterns()}
	}
	e := c.Environments[environment]
	if label, ok := strings.CutPrefix(environment, journal.PreviewPrefix); ok {
		e = Environment{Upstreams: c.Previews.Upstreams, Retention: c.Previews.Retention,
			Settings: c.Previews.Settings}
		for _, address := range c.Previews.Addresses {
			e.Addresses = append(e.Addresses, strings.ReplaceAll(address, LabelPlace, label))
		}
	}

	content := journal.DocumentContent{Addresses: e.Addresses, Upstreams: e.Upstreams,
		Retention: cmp.Or(e.Retention, c.Retention).record(), Settings: e.Settings}
	if content.Settings != nil {
		content.SettingsPath = cmp.Or(c.SettingsPath, DefaultSettingsPath)
	}
	return content
}

// PreviewPattern turns an address of previews into that below which they are, with "*" for
// the label:
//
//	https://{preview}.preview.corvane.example/   https://*.preview.corvane.example/
//	https://corvane.example/on/{preview}/        https://corvane.example/on/
func PreviewPattern(address string) string {
	scheme, rest, _ := strings.Cut(address, "://")
	host, path, _ := strings.Cut(rest, "/")
	if at := strings.Index(path, LabelPlace); at >= 0 {
		path = path[:strings.LastIndex(path[:at], "/")+1]
	}
	return scheme + "://" + strings.ReplaceAll(host, LabelPlace, "*") + "/" + path
}

// patterns lists where previews may be.
func (p Previews) patterns() (list []string) {
	for _, address := range p.Addresses {
		if pattern := PreviewPattern(address); !slices.Contains(list, pattern) {
			list = append(list, pattern)
		}
	}
	return list
}

// Hosts lists the hosts at which a site is to be found, of all environments and of previews.
func (c Config) Hosts() ([]names.Host, error) {
	var uses []names.Use
	add := func(environment string, addresses []string) {
		for i, address := range addresses {
			use := names.Use{Environment: environment, Address: address}
			if i > 0 {
				use.To = addresses[0]
			}
			uses = append(uses, use)
		}
	}
	add(Production, c.Environments[Production].Addresses)
	for _, name := range sortedKeys(c.Environments) {
		if name != Production {
			add(name, c.Environments[name].Addresses)
		}
	}
	add(names.AllPreviews, c.Previews.Addresses)
	return names.Group(uses)
}

// WaitFor returns the probes that follow an activation of an environment, by
// its stored name.
func (c Config) WaitFor(environment string) []string {
	if strings.HasPrefix(environment, journal.PreviewPrefix) {
		return c.Previews.WaitFor
	}
	return c.Environments[environment].WaitFor
}

// CommitLink returns where a code host shows a commit, ""
// if the configuration does not say.
func (c Config) CommitLink(commit string) string {
	if commit == "" {
		return ""
	}
	return strings.ReplaceAll(c.CommitAddress, CommitPlace, commit)
}

// CommitPlace stands for a commit's hash in Config.CommitAddress.
const CommitPlace = "{commit}"

// record returns what goes into an environment's document;
// nil where nothing was said.
func (r *Retention) record() *journal.Retention {
	if r == nil {
		return nil
	}
	record := journal.DefaultRetention
	if r.Releases > 0 {
		record.Releases = int(r.Releases)
	}

	if r.YoungerThan != nil {
		record.Seconds = int64(time.Duration(*r.YoungerThan) / time.Second)
	}
	record.Keep = r.Keep
	return &record
}

// Upstreams returns the names of all upstreams, in order.
func (c Config) Upstreams() []string {
	names := map[string]bool{}
	for _, e := range c.Environments {
		for name := range e.Upstreams {
			names[name] = true
		}
	}

	for _, previews := range []map[string]string{c.Previews.Upstreams, c.Previews.RefUpstreams} {
		for name := range previews {
			names[name] = true
		}
	}
	return sortedKeys(names)
}

// MainBranch returns the branch whose configuration says what environments
// there are: that which production follows, or main where it follows nothing.
func (c Config) MainBranch(main string) string {
	if follows := c.Environments[Production].Follows; follows != "" && follows != Nothing {
		return follows
	}
	return main
}

// Following returns the fixed environment that follows a branch, or "".
//
// Production comes first, should two environments follow one branch.
func (c Config) Following(branch string) string {
	if branch == "" || branch == Nothing {
		return ""
	}
	if c.Environments[Production].Follows == branch {
		return Production
	}

	for _, name := range sortedKeys(c.Environments) {
		if c.Environments[name].Follows == branch {
			return name
		}
	}
	return ""
}
