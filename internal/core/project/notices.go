package project

import (
	"net"
	"net/mail"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/spelling"
)

// Notice says who is told of what, and how: by mail, by a webhook or by a command.
//
//	notices:
//	  crew:
//	    mail: [crew@corvane.example]
//	    about: [build-failed, live, rolled-back]
type Notice struct {
	Mail    []string `yaml:"mail"`    // addresses (RFC 5322, 3.4)
	Webhook string   `yaml:"webhook"` // an absolute URL
	Command string   `yaml:"command"` // a shell command, run in the project's folder
	// Secret is the environment variable that holds what webhooks are signed with.
	Secret string `yaml:"secret"`
	// Secrets are the environment variables that the command is given.
	Secrets []string `yaml:"secrets"`
	// About are the kinds of notices; none: the usual ones.
	About []string `yaml:"about"`
	// Environments are patterns of names; none: the fixed environments, and builds that fail.
	Environments []string `yaml:"environments"`
}

// Mail says how mail is sent.
type Mail struct {
	Server string `yaml:"server"` // smtp://HOST:PORT, or smtps:// for TLS from the start
	From   string `yaml:"from"`   // an address
	TLS    string `yaml:"tls"`    // of smtp://: MailTLSRequired, MailTLSOffered
	// User and Password are the environment variables that hold them.
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// The values of Mail.TLS.
const (
	MailTLSRequired = "required" // but for a server on this machine
	MailTLSOffered  = "offered"  // if the server offers it; a password is never sent without
)

// Names of variables that nobody has to say.
const (
	MailUserVariable     = "ORILLA_MAIL_USER"
	MailPasswordVariable = "ORILLA_MAIL_PASSWORD"
)

// Secrets stay out of the file: what stands there is in the history of the repository for ever. So
// it names variables, and what looks like a secret itself is refused without being repeated.

// mostAddresses is how many mail addresses one notice may have: each gets a mail of its own.
const mostAddresses = 20

// mailKeys are the keys below mail.
func mailKeys(p *parse, m *Mail) keys {
	return keys{
		"server": func(node ast.Node) {
			p.text(&m.Server)(node)
			at, err := url.Parse(m.Server)
			if err != nil || at.Scheme != "smtp" && at.Scheme != "smtps" || at.Hostname() == "" ||
				at.Path != "" || at.RawQuery != "" {
				p.at(node, "not a mail server: %q; write smtp://mail.corvane.example:587", m.Server)
			} else if at.User != nil {
				p.at(node, "a password does not belong here: put it into the environment, as %s and %s",
					MailUserVariable, MailPasswordVariable)
			}
		},
		"from": func(node ast.Node) {
			p.text(&m.From)(node)
			isMail(p, node, m.From)
		},
		"tls":      oneOfTo(p, &m.TLS, MailTLSRequired, MailTLSOffered),
		"user":     variableTo(p, &m.User),
		"password": variableTo(p, &m.Password),
	}
}

// noticesTo reads notices by their names.
func noticesTo(p *parse, to *map[string]Notice) func(ast.Node) {
	return func(node ast.Node) {
		*to = map[string]Notice{}
		for _, pair := range p.pairs(node) {
			name := pair.Key.String()
			if !IsLabel(name) {
				p.at(pair.Key, "not a name of a notice: %q; use lowercase letters, digits and dashes", name)
				continue
			}
			var n Notice
			p.mapping(pair.Value, noticeKeys(p, &n))
			ways := 0
			for _, there := range []bool{len(n.Mail) > 0, n.Webhook != "", n.Command != ""} {
				if there {
					ways++
				}
			}
			switch {
			case ways != 1:
				p.at(pair.Key, "%s needs one of: mail, webhook, command", name)
			case n.Webhook != "" && n.Secret == "":
				p.at(pair.Key, "%s needs a secret to sign with: the name of an environment variable", name)
			case n.Webhook == "" && n.Secret != "":
				p.at(pair.Key, "secret is for webhooks; a command takes secrets")
			case n.Command == "" && n.Secrets != nil:
				p.at(pair.Key, "secrets are for commands; a webhook takes secret")
			}
			(*to)[name] = n
		}
	}
}

// noticeKeys are the keys of one notice.
func noticeKeys(p *parse, n *Notice) keys {
	return keys{
		"mail": func(node ast.Node) {
			p.list(&n.Mail, func(node ast.Node, value string) { isMail(p, node, value) })(node)
			if len(n.Mail) > mostAddresses {
				p.at(node, "more than %d addresses; write to a mailing list", mostAddresses)
			}
		},
		"webhook": func(node ast.Node) {
			p.text(&n.Webhook)(node)
			at, err := url.Parse(n.Webhook)
			if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" || at.User != nil {
				p.at(node, "not an address of a webhook: %q; write https://board.corvane.example/orilla",
					n.Webhook)
			}
		},
		"command": func(node ast.Node) {
			p.text(&n.Command)(node)
			if strings.TrimSpace(n.Command) == "" {
				p.at(node, "write a command, such as ./ci/commit-state.sh")
			}
		},
		"secret":  variableTo(p, &n.Secret),
		"secrets": namesTo(p, &n.Secrets),
		"about": p.list(&n.About, func(node ast.Node, value string) {
			known := []string{notices.Everything}
			for _, kind := range notices.All {
				known = append(known, string(kind))
			}
			if !slices.Contains(known, value) {
				p.at(node, "%q is not one of: %s%s", value, strings.Join(known, ", "),
					spelling.DidYouMean(value, known))
			}
		}),
		"environments": p.list(&n.Environments, func(node ast.Node, value string) {
			if !notices.IsPattern(value) {
				p.at(node, "not a pattern of environments: %q; write production, preview/* or \"*\"", value)
			}
		}),
	}
}

// variableTo reads the name of an environment variable, whose value is a secret: a value that was
// written in its place is refused, and not repeated.
func variableTo(p *parse, to *string) func(ast.Node) {
	return func(node ast.Node) {
		p.text(to)(node)
		if !variableForm.MatchString(*to) {
			// What stands there may be the secret: the line is shown without it, for it may be shown in
			// the log of a CI job.
			line := node.GetToken().Position.Line - 1
			if key, _, ok := strings.Cut(p.lines[line], *to); ok && *to != "" {
				p.lines[line] = key + "…"
			}
			p.at(node, "not the name of an environment variable; the secret itself does not belong here")
			*to = ""
		}
	}
}

// isMail checks a mail address. The library takes comments and folded lines, which nobody needs.
func isMail(p *parse, node ast.Node, value string) {
	at, err := mail.ParseAddress(value)
	if err != nil || strings.ContainsAny(value, "\r\n\x00") || !strings.Contains(at.Address, "@") {
		p.at(node, "not a mail address: %q; write crew@corvane.example", value)
	}
}

// Wants says which notices somebody is sent.
func (n Notice) Wants() notices.Wants {
	wants := notices.Wants{Kinds: notices.Usual, Environments: n.Environments}
	if len(n.About) > 0 {
		wants.Kinds = nil
	}
	for _, about := range n.About {
		if about == notices.Everything {
			wants.Kinds = notices.All
			break
		}
		wants.Kinds = append(wants.Kinds, notices.Kind(about))
	}
	return wants
}

// Variables returns the names of the variables that hold the user and the password.
func (m Mail) Variables() (user, password string) {
	user, password = m.User, m.Password
	if user == "" {
		user = MailUserVariable
	}
	if password == "" {
		password = MailPasswordVariable
	}
	return user, password
}

// IsHere reports whether a host is this machine, to which nothing travels over a network.
func IsHere(host string) bool {
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	if h, _, err := net.SplitHostPort(host); err == nil {
		return IsHere(h)
	}
	at, err := netip.ParseAddr(host)
	return err == nil && at.IsLoopback()
}
