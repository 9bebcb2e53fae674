package project

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/wake"
)

// Parse reads a configuration. name is what messages call the file. All
// mistakes are told at once, each with line, column and the line itself: the
// error is a fault.Error of kind Usage.
func Parse(data []byte, name string) (Config, error) {
	var config Config
	p := &parse{name: name, topic: "configuration"}
	body, err := treeOf(p, data)
	if err != nil {
		return Config{}, err
	}
	p.mapping(body, topKeys(p, &config))
	if len(p.mistakes) == 0 {
		checkWhole(p, config, body)
	}
	return config, p.problem()
}

// treeOf reads the values of a file. They are walked by hand: decoding into structures
// would lose where each stood, and people need line and column.
func treeOf(p *parse, data []byte) (ast.Node, error) {
	if err := checkText(data, p.name); err != nil {
		return nil, err
	}
	p.lines = strings.Split(string(data), "\n")
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		if syntax, ok := errors.AsType[yaml.Error](err); ok {
			if token := syntax.GetToken(); token != nil {
				p.add(token.Position.Line, token.Position.Column, "%s", plain(syntax.GetMessage()))
				return nil, p.problem()
			}
		}
		return nil, fault.New(fault.Usage, "config", "the configuration is not YAML").At("%s", p.name).
			Because(err)
	}

	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		problem := fault.New(fault.Usage, "config", "the configuration is empty").At("%s", p.name)
		if p.topic != "configuration" {
			return nil, problem.Then("write what differs from the defaults, or do without the file")
		}
		return nil, problem.Then("write at least \"site: NAME\", or remove the file and run: orilla init")
	}
	// Aliases can make a file of a few lines stand for more values than any
	// memory holds.
	if (sizes{map[string]int{}}).of(file.Docs[0].Body, 0) > mostNodes {
		return nil, tooLarge(p.name, fmt.Sprintf("over %d values, or over %d levels", mostNodes,
			deepestConfig))
	}
	return file.Docs[0].Body, nil
}

// yamlMessages are what the library says of the usual mistakes, and what is meant.
var yamlMessages = []struct{ says, means string }{
	{"cannot start any token", "a tab: YAML is indented with spaces"},
	{"sequence end token ']' not found", "an unclosed bracket ["},
	{"mapping end token '}' not found", "an unclosed brace {"},
	{"could not find end character of double-quoted text", `an unclosed quotation mark "`},
	{"could not find end character of single-quoted text", "an unclosed quotation mark '"},
	{"mapping value is not allowed in this context",
		"a colon where no key can stand; quote the value, or indent the line"},
}

// plain gives the library's message in our words where it is a usual mistake, and
// else with its first letter taken down, as our messages begin.
func plain(message string) string {
	for _, known := range yamlMessages {
		if strings.Contains(message, known.says) {
			return known.means
		}
	}
	if message == "" {
		return "not YAML"
	}
	return strings.ToLower(message[:1]) + message[1:]
}

// parse is one file being read. Mistakes are gathered, so that one run of the
// program tells all of them.
type parse struct {
	name     string
	topic    string // of the help that lists every key
	lines    []string
	mistakes []mistake
}

// mistake is what is wrong at a place of the file. Lines and columns count from
// 1.
type mistake struct {
	line, column int
	text         string
}

// add notes a mistake.
func (p *parse) add(line, column int, format string, args ...any) {
	p.mistakes = append(p.mistakes, mistake{line, column, fmt.Sprintf(format, args...)})
}

// at notes a mistake where a node begins.
func (p *parse) at(node ast.Node, format string, args ...any) {
	position := node.GetToken().Position
	p.add(position.Line, position.Column, format, args...)
}

// problem turns the mistakes into one error, or nil.
func (p *parse) problem() error {
	if len(p.mistakes) == 0 {
		return nil
	}
	// In the order of the file, whatever order keys were read in.
	slices.SortStableFunc(p.mistakes, func(a, b mistake) int { return a.line - b.line })
	first := p.mistakes[0]
	problem := fault.New(fault.Usage, "config", "%s", first.text).
		At("%s:%d:%d", p.name, first.line, first.column).With(excerptOf(p, first)...)

	for _, other := range p.mistakes[1:] {
		problem = problem.With(fmt.Sprintf("%s:%d:%d: %s", p.name, other.line, other.column, other.text)).
			With(excerptOf(p, other)...)
	}
	return problem.Then("fix %s; for every key: orilla help %s", p.name, p.topic)
}

// excerptOf shows the line of a mistake with a caret below the place.
func excerptOf(p *parse, m mistake) []string {
	if m.line < 1 || m.line > len(p.lines) {
		return nil
	}
	// A tab would move the mark away from what it marks.
	text := strings.ReplaceAll(strings.TrimRight(p.lines[m.line-1], "\r"), "\t", " ")
	return []string{"  " + text, "  " + strings.Repeat(" ", max(m.column-1, 0)) + "^"}
}

// keys says what a mapping may hold and what reads each value.
type keys map[string]func(ast.Node)

// topKeys are the keys of the file itself, with what reads each.
func topKeys(p *parse, c *Config) keys {
	return keys{
		"site":      labelTo(p, &c.Site, "a site's name"),
		"build":     p.inner(func() keys { return buildKeys(p, &c.Build) }),
		"leave_out": globsTo(p, &c.LeaveOut),
		"rules":     p.list(&c.Rules, p.isFile),
		"languages": p.list(&c.Languages, p.isLanguage),
		"time_zone": timeZoneTo(p, &c.TimeZone),
		"check": p.inner(func() keys {
			return keys{"stop_on": p.texts(&c.Check.StopOn),
				"ignore": ignoresTo(p, &c.Check.Ignore), "budget": budgetsTo(p, &c.Check.Budget)}
		}),
		"pages":  p.inner(func() keys { return keys{"one_address": flagTo(p, &c.Pages.OneAddress)} }),
		"assets": p.inner(func() keys { return assetKeys(p, &c.Assets) }),
		"limits": p.inner(func() keys { return limitKeys(p, &c.Limits) }),
		"store":  p.text(&c.Store),
		"edge_addresses": p.list(&c.EdgeAddresses, func(node ast.Node, value string) {
			if _, err := names.ParseEdge([]string{value}); err != nil {
				p.at(node, "%s; write addresses such as 192.0.2.10, or one name", err)
			}
		}),
		"edge_keys": p.list(&c.EdgeKeys, func(node ast.Node, value string) {
			if _, err := wake.ParseKey(value); err != nil {
				p.at(node, "not the public key of an edge node: %q; orilla edge list shows them", value)
			}
		}),
		"retention":    retentionTo(p, &c.Retention),
		"environments": environmentsTo(p, c),
		"notices":      noticesTo(p, &c.Notices),
		"mail":         p.inner(func() keys { return mailKeys(p, &c.Mail) }),
		"pictures":     p.inner(func() keys { return pictureKeys(p, &c.Pictures) }),
		"settings_path": func(node ast.Node) {
			p.text(&c.SettingsPath)(node)
			if path.Clean(c.SettingsPath) != c.SettingsPath || !strings.HasPrefix(c.SettingsPath, "/") ||
				c.SettingsPath == "/" ||
				url.PathEscape(strings.ReplaceAll(c.SettingsPath, "/",
					"")) != strings.ReplaceAll(c.SettingsPath, "/", "") {
				p.at(node, "not a file's path: %q; write /settings.json", c.SettingsPath)
			}
		},
		"commit_address": func(node ast.Node) {
			p.text(&c.CommitAddress)(node)
			if at, err := url.Parse(c.CommitAddress); err != nil || at.Host == "" ||
				!strings.Contains(c.CommitAddress, CommitPlace) {
				p.at(node, "not an address with %s in it: %q; write "+
					"https://code.corvane.example/site/commit/%s", CommitPlace, c.CommitAddress, CommitPlace)
			}
		},
		"previews": p.inner(func() keys { return previewKeys(p, &c.Previews) }),
		"follow": p.inner(func() keys {
			return keys{"superseded": oneOfTo(p, &c.Follow.Superseded, Finish, Cancel),
				"parallel": countTo(p, &c.Follow.Parallel), "every": durationTo(p, &c.Follow.Every)}
		}),
	}
}

// previewKeys are the keys below previews.
func previewKeys(p *parse, v *Previews) keys {
	return keys{
		"follows": p.texts(&v.Follows), "refs": p.list(&v.Refs,
			p.isRefs), "upstreams": upstreamsTo(p, &v.Upstreams),
		"labels":        labelsTo(p, &v.Labels),
		"ref_upstreams": upstreamsTo(p, &v.RefUpstreams),
		"retention":     retentionTo(p, &v.Retention),
		"addresses":     previewAddressesTo(p, &v.Addresses), "settings": p.json(&v.Settings),
		"wait_for":     p.list(&v.WaitFor, p.isWaitFor),
		"expire_after": func(node ast.Node) { v.Expire = new(Duration); expiry(p, node, v.Expire) },
		"most":         countTo(p, &v.Most), "unguessable": flagTo(p, &v.Unguessable),
	}
}

// previewAddressesTo reads addresses of which each stands
// for one of every preview.
func previewAddressesTo(p *parse, to *[]string) func(ast.Node) {
	return func(node ast.Node) {
		addressesWith(p, to, func(value string) string {
			if !strings.Contains(value, LabelPlace) {
				return "has no " + LabelPlace + ", so all previews would share it"
			}
			return checkAddress(strings.ReplaceAll(value, LabelPlace, "label"))
		}, "https://"+LabelPlace+".preview.corvane.example/")(node)
	}
}

// json reads any value, as JSON in canonical form.
func (p *parse) json(to *json.RawMessage) func(ast.Node) {
	return func(node ast.Node) {
		var value any
		err := yaml.NodeToValue(node, &value)
		if err == nil {
			*to, err = canon.Marshal(value)
		}
		if err != nil {
			p.at(node, "this cannot be written as JSON: %s", plain(err.Error()))
		}
	}
}

// isWaitFor refuses what is plainly neither an address nor a command.
func (p *parse) isWaitFor(node ast.Node, value string) {
	if strings.TrimSpace(value) == "" {
		p.at(node, "write an address, such as /fares/, or a command")
	}
}

// limitKeys are the keys below limits. What a limit counts is in its name:
// files, bytes, time.
func limitKeys(p *parse, l *Limits) keys {
	return keys{"files": countTo(p, &l.Files), "size": sizeTo(p, &l.Size),
		"file_size":            sizeTo(p, &l.FileSize),
		"build_time":           durationTo(p, &l.BuildTime),
		"build_time_per_month": durationTo(p, &l.BuildTimePerMonth),
		"build_memory":         sizeTo(p, &l.BuildMemory),
		"build_processes":      countTo(p, &l.BuildProcesses),
		"build_disk":           sizeTo(p, &l.BuildDisk)}
}

// oneOfTo reads one of some words.
func oneOfTo(p *parse, to *string, words ...string) func(ast.Node) {
	return func(node ast.Node) {
		p.text(to)(node)
		if !slices.Contains(words, *to) {
			p.at(node, "%q is not one of: %s%s", *to, strings.Join(words, ", "),
				spelling.DidYouMean(*to, words))
		}
	}
}

// isRefs checks a pattern of refs that are followed. Branches have a key of
// their own, since they are trusted otherwise.
func (p *parse) isRefs(node ast.Node, value string) {
	if !strings.HasPrefix(strings.TrimPrefix(value, "!"), "refs/") ||
		strings.HasPrefix(strings.TrimPrefix(value, "!"), "refs/heads/") {
		p.at(node, "not a pattern of refs: %q; write refs/proposed/*/head (branches go under "+
			"previews.follows)", value)
	}
}

// isBranches refuses patterns of refs that are no branches: changes from
// outside the repository are never trusted.
func (p *parse) isBranches(node ast.Node, value string) {
	if strings.HasPrefix(strings.TrimPrefix(value, "!"), "refs/") {
		p.at(node, "not a pattern of branches: %q; write main or release/* (changes from outside "+
			"the repository are never trusted)", value)
	}
}

// isTellable checks the name of something that a build can be told.
func (p *parse) isTellable(node ast.Node, value string) {
	if !slices.Contains(Tellable, value) {
		p.at(node, "build.tell takes: %s%s", strings.Join(Tellable, ", "),
			spelling.DidYouMean(value, Tellable))
	}
}

// isPath checks a path from the repository's top.
func (p *parse) isPath(node ast.Node, value string) {
	if value == "" || path.Clean(value) != strings.TrimSuffix(value, "/") || path.IsAbs(value) ||
		strings.ContainsAny(value, `\*?[!#`) || value == "." || strings.HasPrefix(value, "../") ||
		value == ".." {
		p.at(node, "not a folder or file of the repository: %q; write it from the top with "+
			"slashes: shared/drawings", value)
	}
}

var versionForm = regexp.MustCompile(`^(>=)?\d+(\.\d+)*$`)

// needsTo reads names of tools with versions.
func needsTo(p *parse, to *map[string]string) func(ast.Node) {
	return func(node ast.Node) {
		*to = map[string]string{}
		for _, pair := range p.pairs(node) {
			name := pair.Key.String()
			if !toolForm.MatchString(name) {
				p.at(pair.Key, "not a program's name: %q", name)
			}
			value, ok := p.scalar(pair.Value)
			if ok && !versionForm.MatchString(value) {
				p.at(pair.Value, "%q is not a version; write \"20\" for any 20.x, \"20.11\" for any "+
					"20.11.x, \">=20\" for 20 or later", value)
			}
			(*to)[name] = value
		}
	}
}

var toolForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]*$`)

// buildKeys are the keys below build.
func buildKeys(p *parse, b *Build) keys {
	return keys{
		"prepare": p.texts(&b.Prepare), "run": p.texts(&b.Run), "output": folderTo(p,
			&b.Output), "folder": folderTo(p, &b.Folder),
		"keep": foldersTo(p, &b.Keep), "variables": variablesTo(p, &b.Variables),
		"secrets":    namesTo(p, &b.Secrets),
		"time_limit": durationTo(p, &b.TimeLimit), "also": p.list(&b.Also, p.isPath),
		"secrets_for": p.list(&b.SecretsFor, p.isBranches),
		"trust":       p.list(&b.Trust, p.isBranches), "isolation": oneOfTo(p, &b.Isolation, IsolateAuto,
			IsolateRequired, IsolateOff),
		"network": oneOfTo(p, &b.Network, NetworkNone, NetworkOutside),
		"tell":    p.list(&b.Tell, p.isTellable), "needs": needsTo(p, &b.Needs),
	}
}

// assetKeys are the keys below assets.
func assetKeys(p *parse, a *Assets) keys {
	return keys{
		"keep":          func(node ast.Node) { a.Keep = new(Duration); durationTo(p, a.Keep)(node) },
		"fingerprinted": globsTo(p, &a.Fingerprinted), "plain": globsTo(p, &a.Plain),
	}
}

// retentionTo reads what a prune keeps.
func retentionTo(p *parse, to **Retention) func(ast.Node) {
	return func(node ast.Node) {
		r := &Retention{}
		p.mapping(node, keys{
			"releases": countTo(p, &r.Releases),
			"younger_than": func(node ast.Node) {
				r.YoungerThan = new(Duration)
				durationTo(p,
					r.YoungerThan)(node)
			},
			"keep": p.list(&r.Keep, func(item ast.Node, value string) {
				if digits, ok := strings.CutPrefix(value, "r-"); !ok || len(digits) < 10 ||
					strings.Trim(digits, "0123456789abcdef") != "" {
					p.at(item, "not a release: %q; write r- and ten digits or more, as orilla "+
						"history shows",
						value)
				}
			}),
		})
		*to = r
	}
}

// inner reads a mapping below a key. known is called when the key is there, so
// that what it fills in stays empty otherwise.
func (p *parse) inner(known func() keys) func(ast.Node) {
	return func(node ast.Node) { p.mapping(node, known()) }
}

// mapping reads a mapping; a key that it may not have is a
// mistake with the nearest proposal.
func (p *parse) mapping(node ast.Node, known keys) {
	for _, pair := range p.pairs(node) {
		key := pair.Key.String()
		read, ok := known[key]
		if !ok {
			p.at(pair.Key, "unknown key %q%s", key, spelling.DidYouMean(key, sortedKeys(known)))
			continue
		}

		// A key without a value means the default, as if it were not there.
		if pair.Value.Type() != ast.NullType {
			read(pair.Value)
		}
	}
}

// pairs returns the pairs of a mapping, which a single pair and nothing at all
// are too.
func (p *parse) pairs(node ast.Node) []*ast.MappingValueNode {
	switch node := node.(type) {
	case *ast.MappingNode:
		return node.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{node}
	case *ast.NullNode:
		return nil
	}
	p.at(node, "expected a mapping, key: value")
	return nil
}

// environmentsTo reads the environments by their names. A name becomes part of
// an address, and of keys in the store.
func environmentsTo(p *parse, c *Config) func(ast.Node) {
	return func(node ast.Node) {
		c.Environments = map[string]Environment{}
		for _, pair := range p.pairs(node) {
			name := pair.Key.String()
			if !IsLabel(name) || slices.Contains(reserved, name) {
				p.at(pair.Key, "not an environment name: %q; use lowercase letters, digits and "+
					"dashes, and not preview, previews or release", name)
				continue
			}

			var e Environment
			if pair.Value.Type() != ast.NullType {
				p.mapping(pair.Value, keys{"follows": p.text(&e.Follows),
					"addresses": addressesTo(p, &e.Addresses), "upstreams": upstreamsTo(p, &e.Upstreams),
					"retention": retentionTo(p, &e.Retention), "settings": p.json(&e.Settings),
					"wait_for": p.list(&e.WaitFor, p.isWaitFor)})
			}
			c.Environments[name] = e
		}
	}
}

// reserved are names that no environment can have.
var reserved = []string{"preview", journal.Previews, "release"}

// scalar reads a value that is one word or one line.
func (p *parse) scalar(node ast.Node) (string, bool) {
	switch node := node.(type) {
	case *ast.StringNode:
		return node.Value, true
	case *ast.LiteralNode:
		return node.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return node.GetToken().Value, true
	}
	p.at(node, "expected one value")
	return "", false
}

// text reads a scalar as it is written: yes is a text, not true.
func (p *parse) text(to *string) func(ast.Node) {
	return func(node ast.Node) {
		if value, ok := p.scalar(node); ok {
			*to = value
		}
	}
}

// texts reads a list of texts, or one that stands alone.
func (p *parse) texts(to *[]string) func(ast.Node) {
	return p.list(to, func(ast.Node, string) {})
}

// list reads a list, or one value in the place of a list of one.
func (p *parse) list(to *[]string, check func(ast.Node, string)) func(ast.Node) {
	return func(node ast.Node) {
		// An empty list says "none" and is not the same as no key, which says
		// "the default".
		*to = []string{}
		for _, item := range itemsOf(node) {
			if value, ok := p.scalar(item); ok {
				check(item, value)
				*to = append(*to, value)
			}
		}
	}
}

// itemsOf returns the values of a list. One value is as good as a list of one.
func itemsOf(node ast.Node) []ast.Node {
	if sequence, ok := node.(*ast.SequenceNode); ok {
		return sequence.Values
	}
	return []ast.Node{node}
}

// labelTo reads a label of a host name (RFC 1123, section 2.1); what says what
// it names.
func labelTo(p *parse, to *string, what string) func(ast.Node) {
	return func(node ast.Node) {
		p.text(to)(node)
		if !IsLabel(*to) {
			p.at(node, "%q is not %s: it becomes part of an address, so use lowercase letters, "+
				"digits and dashes, at most 63, such as %q", *to, what, Label(*to))
		}
	}
}

// globsTo reads a list of globs.
func globsTo(p *parse, to *[]string) func(ast.Node) {
	return p.list(to, func(node ast.Node, value string) {
		if !doublestar.ValidatePattern(value) || strings.HasPrefix(value, "/") {
			p.at(node, "not a glob: %q; write paths without a leading slash, * within a folder, ** "+
				"across folders, {a,b}, [a-z]", value)
		}
	})
}

// isFolder checks a folder inside the project.
func (p *parse) isFolder(node ast.Node, value string) {
	if value == "" || path.IsAbs(value) || strings.Contains(value, `\`) || path.Clean(value) == ".." ||
		strings.HasPrefix(path.Clean(value), "../") {
		p.at(node, "not a folder inside the project: %q; write it with slashes", value)
	}
}

// isFile checks a file inside the project, in its one spelling: rules files are
// compared by their paths.
func (p *parse) isFile(node ast.Node, value string) {
	if value == "" || path.Clean(value) != value || path.IsAbs(value) || strings.Contains(value, `\`) ||
		value == "." || strings.HasPrefix(value, "../") {
		p.at(node, "not a file inside the project: %q; write it with slashes: site.rules", value)
	}
}

// languageForm is that of BCP 47 tags, as far as a lookup (RFC 4647) needs it.
var languageForm = regexp.MustCompile(`^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$`)

// isLanguage checks the form of a language tag (RFC 5646). Whether there is
// such a language is not known here.
func (p *parse) isLanguage(node ast.Node, value string) {
	if !languageForm.MatchString(value) {
		p.at(node, "%q is not a language tag; write en, gl or pt-BR", value)
	}
}

// timeZoneTo reads the name of a time zone of the IANA database. Local is
// refused: it would mean another time on another machine.
func timeZoneTo(p *parse, to *string) func(ast.Node) {
	return func(node ast.Node) {
		p.text(to)(node)
		if _, err := time.LoadLocation(*to); err != nil || *to == "Local" {
			p.at(node, "%q is not a time zone; write Europe/Lisbon, Atlantic/Azores or UTC", *to)
			*to = ""
		}
	}
}

// ignoresTo reads a list of codes, or of mappings of code and path.
func ignoresTo(p *parse, to *[]Ignore) func(ast.Node) {
	return func(node ast.Node) {
		for _, item := range itemsOf(node) {
			var one Ignore
			switch item.(type) {
			case *ast.MappingNode, *ast.MappingValueNode:
				p.mapping(item, keys{"code": p.text(&one.Code), "path": p.text(&one.Path)})
				if one.Path != "" && !doublestar.ValidatePattern(one.Path) {
					p.at(item, "%q is not a glob", one.Path)
				}
			default:
				one.Code, _ = p.scalar(item)
			}
			*to = append(*to, one)
		}
	}
}

// A budget without a limit would never find anything, and one of pages that limits the size of a file
// would mislead: both are mistakes, and told as such.

// budgetsTo reads a list of budgets, each of pages or of files.
func budgetsTo(p *parse, to *[]Budget) func(ast.Node) {
	return func(node ast.Node) {
		for _, item := range itemsOf(node) {
			var b Budget
			glob := func(to *string) func(ast.Node) {
				return func(node ast.Node) {
					p.text(to)(node)
					if !doublestar.ValidatePattern(*to) || strings.HasPrefix(*to, "/") || *to == "" {
						p.at(node, "not a glob: %q; write paths without a leading slash: \"**\", img/**", *to)
					}
				}
			}
			p.mapping(item, keys{"page": glob(&b.Page), "file": glob(&b.File), "total": sizeTo(p, &b.Total),
				"pages": sizeTo(p, &b.Pages), "scripts": sizeTo(p, &b.Scripts),
				"styles": sizeTo(p, &b.Styles), "images": sizeTo(p, &b.Images),
				"fonts": sizeTo(p, &b.Fonts), "size": sizeTo(p, &b.Size),
				"requests": countTo(p, &b.Requests)})
			ofPage := b.Total + b.Pages + b.Scripts + b.Styles + b.Images + b.Fonts + Size(b.Requests)
			switch {
			case (b.Page == "") == (b.File == ""):
				p.at(item, "a budget is of a page or of a file: {page: \"**\", total: 500kB} or "+
					"{file: img/**, size: 250kB}")
			case b.Page != "" && (ofPage == 0 || b.Size > 0):
				p.at(item, "a budget of pages takes total, pages, scripts, styles, images, fonts or requests")
			case b.File != "" && (b.Size == 0 || ofPage > 0):
				p.at(item, "a budget of files takes size")
			}
			*to = append(*to, b)
		}
	}
}

var upstreamForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// upstreamsTo reads names with the addresses that proxy rules lead to.
func upstreamsTo(p *parse, to *map[string]string) func(ast.Node) {
	return func(node ast.Node) {
		*to = map[string]string{}
		for _, pair := range p.pairs(node) {
			name := pair.Key.String()
			if !upstreamForm.MatchString(name) || name == "http" || name == "https" {
				p.at(pair.Key, "not an upstream name: %q; use lowercase letters, digits and "+
					"dashes, and no scheme",
					name)
			}

			value, ok := p.scalar(pair.Value)
			if why := checkAddress(value); ok && why != "" {
				p.at(pair.Value, "%q %s; write https://api.corvane.example/", value, why)
			}
			(*to)[name] = strings.TrimSuffix(value, "/")
		}
	}
}

// labelsTo reads how previews of some refs are called.
func labelsTo(p *parse, to *Labels) func(ast.Node) {
	return func(node ast.Node) {
		*to = Labels{}
		for _, pair := range p.pairs(node) {
			pattern := pair.Key.String()
			if text, ok := pair.Key.(*ast.StringNode); ok { // without its quotation marks
				pattern = text.Value
			}
			if made, ok := p.scalar(pair.Value); ok {
				(*to)[pattern] = made
			}
		}
		if why := to.check(); why != "" {
			p.at(node, "%s; write \"refs/proposed/*/head\": change-*", why)
		}
	}
}

// folderTo reads a folder inside the project.
func folderTo(p *parse, to *string) func(ast.Node) {
	return func(node ast.Node) {
		p.text(to)(node)
		p.isFolder(node, *to)
		*to = path.Clean(*to)
	}
}

// foldersTo reads a list of folders inside the project.
func foldersTo(p *parse, to *[]string) func(ast.Node) { return p.list(to, p.isFolder) }

var variableForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// isVariable checks the name of an environment variable (POSIX, section 8.1).
func (p *parse) isVariable(node ast.Node, value string) {
	if !variableForm.MatchString(value) {
		p.at(node, "not a variable name: %q; use letters, digits and underscores", value)
	}
}

// namesTo reads a list of names of environment variables.
func namesTo(p *parse, to *[]string) func(ast.Node) { return p.list(to, p.isVariable) }

// variablesTo reads environment variables with their values.
func variablesTo(p *parse, to *map[string]string) func(ast.Node) {
	return func(node ast.Node) {
		*to = map[string]string{}
		for _, pair := range p.pairs(node) {
			p.isVariable(pair.Key, pair.Key.String())
			if value, ok := p.scalar(pair.Value); ok {
				(*to)[pair.Key.String()] = value
			}
		}
	}
}

// flagTo reads true or false.
func flagTo(p *parse, to *bool) func(ast.Node) {
	return func(node ast.Node) {
		value, ok := node.(*ast.BoolNode)
		if !ok {
			p.at(node, "expected true or false")
			return
		}
		*to = value.Value
	}
}

// durationTo reads a time such as 1h30m or 7d.
func durationTo(p *parse, to *Duration) func(ast.Node) { return parsed(p, to, ParseDuration) }

// expiry reads a length of time, or never, which is kept as 0.
func expiry(p *parse, node ast.Node, to *Duration) {
	if text, ok := node.(*ast.StringNode); ok && text.Value == Never {
		return
	}
	durationTo(p, to)(node)
}

// sizeTo reads a number of bytes such as 25MB; units are decimal.
func sizeTo(p *parse, to *Size) func(ast.Node) { return parsed(p, to, ParseSize) }

// parsed reads a scalar by a function whose error says what is wrong with it.
func parsed[T any](p *parse, to *T, read func(string) (T, error)) func(ast.Node) {
	return func(node ast.Node) {
		text, ok := p.scalar(node)
		if !ok {
			return
		}
		value, err := read(text)
		if err != nil {
			p.at(node, "%s", err)
			return
		}
		*to = value
	}
}

// countTo reads a number, which may be written as 25k.
func countTo(p *parse, to *int64) func(ast.Node) {
	return func(node ast.Node) {
		var size Size
		parsed(p, &size, ParseSize)(node)
		*to = int64(size)
	}
}

// addressesTo reads the addresses of an environment, the canonical one first.
func addressesTo(p *parse, to *[]string) func(ast.Node) {
	return addressesWith(p, to, checkAddress, "https://www.corvane.example/")
}

// addressesWith reads addresses; check says what is wrong with one. Each ends
// in a slash afterwards, as what lies below is added to it.
func addressesWith(p *parse, to *[]string, check func(string) string, example string) func(ast.Node) {
	return func(node ast.Node) {
		p.list(to, func(item ast.Node, value string) {
			if why := check(value); why != "" {
				p.at(item, "%q %s; write %s", value, why, example)
			}
		})(node)
		for i, address := range *to {
			if !strings.HasSuffix(address, "/") {
				address += "/"
			}
			(*to)[i] = names.Address(address)
		}
	}
}

// checkAddress says what keeps a text from being the
// address of an environment, or nothing.
func checkAddress(text string) string {
	address, err := url.Parse(text)
	switch {
	case err != nil || address.Scheme != "http" && address.Scheme != "https" || address.Hostname() == "":
		return "is not an absolute http or https address"
	case address.User != nil || address.RawQuery != "" || address.Fragment != "":
		return "has more than a host and a path"
	case address.Hostname() != strings.ToLower(address.Hostname()):
		return "must have its host in lowercase"
	case strings.Contains(address.Path, "//") || path.Clean("/"+address.Path) != "/"+
		strings.Trim(address.Path, "/"):
		return "has a path with empty or dot segments"
	}
	if host := address.Hostname(); names.IsPublic(host) {
		if _, err := names.ASCII(host); err != nil {
			return "has a host that is " + err.Error()
		}
	}
	return ""
}

// checkWhole looks for mistakes that lie between keys.
func checkWhole(p *parse, c Config, node ast.Node) {
	if c.Site == "" {
		p.at(node, "the site has no name: site: NAME")
	}
	seen := map[string]string{}
	for _, name := range sortedKeys(c.Environments) {
		for _, address := range c.Environments[name].Addresses {
			if other, taken := seen[address]; taken {
				p.at(node, "%s is an address of %s and of %s", address, other, name)
			}
			seen[address] = name
		}
	}

	if _, err := names.ParseEdge(c.EdgeAddresses); err != nil {
		p.at(node, "edge_addresses: %s", err)
	}
	for _, name := range sortedKeys(c.Notices) {
		if len(c.Notices[name].Mail) > 0 && (c.Mail.Server == "" || c.Mail.From == "") {
			p.at(node, "notices.%s sends mail, so mail.server and mail.from are needed: "+
				"mail: {server: smtp://mail.corvane.example:587, from: orilla@corvane.example}", name)
			break
		}
	}
	for _, secret := range c.Build.Secrets {
		if _, both := c.Build.Variables[secret]; both {
			p.at(node, "%s is listed under build.variables and build.secrets", secret)
		}
	}
}
