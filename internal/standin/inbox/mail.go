package inbox

import (
	"bytes"
	"context"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mail says how the mail server answers.
type Mail struct {
	Certificate *tls.Certificate // with one it offers STARTTLS (RFC 3207)
	// User and Password are asked for, if there are any, over TLS only.
	User, Password string
}

// ServeMail is a mail server (RFC 5321) on a listener until the context ends. It takes mail for
// anybody, and passes nothing on.
func (b *Box) ServeMail(ctx context.Context, listener net.Listener, m Mail) error {
	server := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &session{box: b, mail: m, conn: c}, nil
	}))
	server.Domain, server.MaxMessageBytes, server.MaxRecipients = "localhost", mostBytes, 50
	server.ReadTimeout, server.WriteTimeout = time.Minute, time.Minute
	server.ErrorLog = silent{}
	if m.Certificate != nil {
		server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{*m.Certificate},
			MinVersion: tls.VersionTLS12}
	}
	stop := context.AfterFunc(ctx, func() { server.Close() }) //nolint:errcheck // it ends
	defer stop()
	err := server.Serve(listener)
	if errors.Is(err, smtp.ErrServerClosed) {
		return nil
	}
	return err
}

// silent logs nothing: clients that close half way are what it is for.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// It refuses what a mail server refuses, in the same order: who does not log in where that is asked
// for, then recipients, then content. What it takes it shows as it came, and as people would see it.

// session is one connection.
type session struct {
	box      *Box
	mail     Mail
	conn     *smtp.Conn
	user     string
	from, to string
}

// AuthMechanisms implements smtp.AuthSession.
func (s *session) AuthMechanisms() []string {
	if s.mail.User == "" {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth implements smtp.AuthSession.
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		want := s.mail.User + "\n" + s.mail.Password
		if subtle.ConstantTimeCompare([]byte(user+"\n"+password), []byte(want)) != 1 {
			return answer(535, smtp.EnhancedCode{5, 7, 8}, "wrong user or password")
		}
		s.user = user
		return nil
	}), nil
}

// answer is a refusal, with its enhanced status code (RFC 3463).
func answer(code int, enhanced smtp.EnhancedCode, text string) error {
	return &smtp.SMTPError{Code: code, EnhancedCode: enhanced, Message: text}
}

// Reset implements smtp.Session.
func (s *session) Reset() { s.from, s.to = "", "" }

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }

// Mail implements smtp.Session.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.mail.User != "" && s.user == "" {
		return answer(530, smtp.EnhancedCode{5, 7, 0}, "log in first")
	}
	s.from = from
	return nil
}

// Rcpt implements smtp.Session.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	time.Sleep(s.box.Trouble.Slow)
	switch {
	case s.box.Trouble.Reject:
		return answer(550, smtp.EnhancedCode{5, 1, 1}, "no such mailbox here")
	case s.box.Trouble.Refuse:
		return answer(451, smtp.EnhancedCode{4, 3, 2}, "try again later")
	}
	if s.to != "" {
		s.to += ", "
	}
	s.to += to
	return nil
}

// Data implements smtp.Session.
func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, mostBytes))
	if err != nil {
		return err
	}
	item := Item{From: s.from, To: s.to, Raw: string(raw), Note: "without TLS"}
	if _, secure := s.conn.TLSConnectionState(); secure {
		item.Note = "over TLS"
	}
	if s.user != "" {
		item.Note += ", as " + s.user
	}
	takeApart(raw, &item)
	s.box.add(item)
	return nil
}

// takeApart reads a mail, as far as it can be (RFC 5322, RFC 2045).
func takeApart(raw []byte, item *Item) {
	message, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		item.Title = "not a mail"
		return
	}
	decode := &mime.WordDecoder{}
	if item.Title, err = decode.DecodeHeader(message.Header.Get("Subject")); err != nil {
		item.Title = message.Header.Get("Subject")
	}
	item.ID = strings.Trim(message.Header.Get("Message-Id"), "<>")
	header := message.Header
	readPart(item, header.Get("Content-Type"), header.Get("Content-Transfer-Encoding"), message.Body, 0)
}

// mostNested is how many multiparts may be in each other.
const mostNested = 5

// readPart reads a part of a mail, and those in it (RFC 2046): the first text is its text, a page its
// page, and pictures stand in the page where their Content-ID is named (RFC 2392).
func readPart(item *Item, mediaType, encoding string, body io.Reader, nested int) {
	kind, parameters, err := mime.ParseMediaType(mediaType)
	if err != nil || !strings.HasPrefix(kind, "multipart/") {
		if text := decoded(body, encoding); kind == "text/html" {
			item.HTML = text
		} else if item.Text == "" {
			item.Text = text
		}
		return
	}
	parts := multipart.NewReader(body, parameters["boundary"])
	for nested < mostNested {
		part, err := parts.NextRawPart()
		if err != nil {
			return
		}
		id, kind := strings.Trim(part.Header.Get("Content-Id"), "<>"), part.Header.Get("Content-Type")
		if image, _, _ := strings.Cut(kind, ";"); id != "" && strings.HasPrefix(image, "image/") {
			data, _ := io.ReadAll(io.LimitReader(part, mostBytes)) // what could be read is shown
			item.HTML = strings.ReplaceAll(item.HTML, `"cid:`+id+`"`,
				`"data:`+image+`;base64,`+strings.Join(strings.Fields(string(data)), "")+`"`)
			continue
		}
		readPart(item, kind, part.Header.Get("Content-Transfer-Encoding"), part, nested+1)
	}
}

// decoded reads the body of a part.
func decoded(r io.Reader, encoding string) string {
	if strings.EqualFold(encoding, "quoted-printable") {
		r = quotedprintable.NewReader(r)
	}
	data, _ := io.ReadAll(io.LimitReader(r, mostBytes)) // what could be read is shown
	return string(data)
}
