package courier

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed" // for the page below
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"net"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"github.com/wneessen/go-mail"

	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
)

// What strangers wrote comes into a mail in three places: the subject, the text and the page. All
// of it went through notices.OneLine, so that no line ends where it wants one to; the library
// encodes the subject (RFC 2047), and html/template the page. Addresses come from orilla.yaml of
// the production branch, and were read as such when it was.
//
//	subject     corvane: production is live: Fares for the winter
//	text        the same rows as the page, in two columns
//	page        no picture, no sheet, no script, nothing that is loaded

// mailer sends events to one address by SMTP (RFC 5321), over TLS (RFC 8314, RFC 3207).
type mailer struct {
	options Options
	address string
}

// credentials returns the user and the password; "" for a server that asks for none. One of them
// alone is a mistake.
func (m *mailer) credentials() (user, password string, err error) {
	names := [2]string{}
	names[0], names[1] = m.options.Config.Mail.Variables()
	user, _ = m.options.lookup(names[0])
	password, _ = m.options.lookup(names[1])
	named := m.options.Config.Mail.User != "" || m.options.Config.Mail.Password != ""
	switch {
	case user == "" && (password != "" || named):
		return "", "", missing{names[0]}
	case password == "" && (user != "" || named):
		return "", "", missing{names[1]}
	}
	return user, password, nil
}

// client prepares a connection, which ends when the context does.
func (m *mailer) client(ctx context.Context) (*mail.Client, error) {
	server, err := url.Parse(m.options.Config.Mail.Server)
	if err != nil {
		return nil, err
	}
	user, password, err := m.credentials()
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithTimeout(attemptTime), mail.WithHELO(greeting()),
		// Whatever the other side does, or leaves: this long, and no longer. The library looks at no
		// context once it is connected.
		mail.WithDialContextFunc(func(dial context.Context, network, address string) (net.Conn, error) {
			conn, err := (&net.Dialer{Timeout: attemptTime / 2}).DialContext(dial, network, address)
			if err == nil {
				context.AfterFunc(ctx, func() { conn.Close() }) //nolint:errcheck // it is given up
			}
			return conn, err
		})}
	port := 587
	switch {
	case server.Scheme == "smtps":
		options, port = append(options, mail.WithSSL()), 465
	case project.IsHere(server.Hostname()), m.options.Config.Mail.TLS == project.MailTLSOffered:
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if text := server.Port(); text != "" {
		port, _ = strconv.Atoi(text) // url.Parse has looked at it
	}
	options = append(options, mail.WithPort(port))
	if user != "" {
		// Of the ways that the server offers the best; none that shows the password without TLS.
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(user),
			mail.WithPassword(password))
	}
	return mail.NewClient(server.Hostname(), options...)
}

// greeting is how the program names its machine (RFC 5321, 4.1.1.1): servers need none that
// leads anywhere, and nobody outside has to know what it is called here.
func greeting() string { return "localhost" }

// send implements sender.
func (m *mailer) send(ctx context.Context, event notices.Event) error {
	client, err := m.client(ctx)
	if err != nil {
		return err
	}
	message, err := m.message(event)
	if err != nil {
		return refusal{err}
	}
	err = client.DialAndSendWithContext(ctx, message)
	if err == nil {
		return nil
	}
	failed, is := errors.AsType[*mail.SendError](err)
	if !is {
		return errors.New(strings.TrimPrefix(err.Error(), "dial failed: "))
	}
	said := error(failed)
	if answer := answered.FindStringSubmatch(failed.Error()); answer != nil {
		said = fmt.Errorf("it answered %s %s", answer[1], answer[2])
	}
	// 5xx to this very message: the mailbox is not there, or the text is not wanted.
	final := failed.ErrorCode()/100 == 5 && (failed.Reason == mail.ErrSMTPRcptTo ||
		failed.Reason == mail.ErrSMTPData || failed.Reason == mail.ErrSMTPDataClose)
	if final {
		return refusal{said}
	}
	return said
}

// answered finds the answer of a server in the words of the library.
var answered = regexp.MustCompile(`(\d{3}) "([^"]*)"`)

// A mail says when it happened, and not when it was sent: what waited for a day over a server that
// was down is sorted where it belongs. When it came, the servers on its way say.

// message writes the mail of an event.
func (m *mailer) message(event notices.Event) (*mail.Msg, error) {
	message := mail.NewMsg()
	if err := message.From(m.options.Config.Mail.From); err != nil {
		return nil, fmt.Errorf("mail.from: %w", err)
	}
	if err := message.To(m.address); err != nil {
		return nil, err
	}
	message.Subject(event.Data.Title)
	message.SetDateWithValue(event.Time)
	// The same for the same notice: what is sent twice is one mail to whoever looks at ids.
	message.SetMessageIDWithValue(messageID(event, m.address))
	message.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody is away from this
	message.SetGenHeader("X-Orilla-Event", event.ID)
	message.SetBodyString(mail.TypeTextPlain, plainText(event))
	page, err := htmlText(event)
	if err != nil {
		return nil, err
	}
	message.AddAlternativeString(mail.TypeTextHTML, page)
	if event.Data.Picture != nil {
		err = message.EmbedReader(
			"home.jpg",
			bytes.NewReader(event.Data.Picture),
			mail.WithFileContentID("<home@orilla.invalid>"),
		)
	}
	return message, err
}

// The part behind the sign is a name that can never be anybody's (RFC 2606): ids must be unique in the
// world, and nobody should be asked for what one looks like.

// messageID is the id of a mail (RFC 5322, 3.6.4), made of what is told and to whom.
func messageID(event notices.Event, address string) string {
	sum := sha256.Sum256([]byte(event.Source + "\n" + event.ID + "\n" + address))
	return hex.EncodeToString(sum[:16]) + "@" + event.Data.Site + ".orilla.invalid"
}

// plainText is an event as text: labels in a column, and what belongs to them.
func plainText(event notices.Event) string {
	var out strings.Builder
	out.WriteString(event.Data.Title + "\n")
	out.WriteString(event.Time.UTC().Format("2006-01-02 15:04:05 UTC") + "\n\n")
	for _, row := range event.Data.Rows() {
		for i, text := range row.Texts {
			label := row.Label
			if i > 0 {
				label = ""
			}
			fmt.Fprintf(&out, "%-9s%s\n", label, text)
		}
	}
	out.WriteString("\nsent by orilla, as notices in orilla.yaml say; " + event.ID + "\n")
	return out.String()
}

// htmlText is an event as a page: the same words, and links.
func htmlText(event notices.Event) (string, error) {
	var out strings.Builder
	err := mailPage.Execute(&out, struct {
		notices.Event
		When string
		Rows []notices.Row
		Bad  bool
	}{event, event.Time.UTC().Format("2006-01-02 15:04:05 UTC"), event.Data.Rows(),
		event.Data.Kind == notices.BuildFailed || event.Data.Kind == notices.CheckFailed ||
			event.Data.Kind == notices.Certificate})
	return out.String(), err
}

// mailPage has its styles with each element, since programs that read mail drop sheets. Nothing
// is loaded, and a picture is a part of the mail: whoever reads it tells nobody.
var mailPage = template.Must(template.New("mail").Funcs(template.FuncMap{
	"link": func(row notices.Row, i int) string {
		if i < len(row.Links) {
			return row.Links[i]
		}
		return ""
	},
}).Parse(mailHTML))

// mailHTML is the page of a mail.
//
//go:embed mail.html
var mailHTML string
