package ssh

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"orilla.example/orilla/internal/core/storage"
)

// sessions is how many servers of files are started over one connection at
// most. Each does one thing after the other, so that several flush at once;
// sshd allows ten unless it is told otherwise. Starting one takes as long as a
// dozen operations, so each gets enough of them before the next is started.
const (
	sessions = 4
	enough   = 3
)

// line is a connection to the server, with its sessions. It is made when it is
// needed, and again when it broke.
type line struct {
	config Config

	mutex    sync.Mutex
	open     *ssh.Client
	sessions []*session
	full     bool // the server starts no more sessions
	ended    bool
}

// session is one SFTP server on the connection; requests of several callers
// share it.
type session struct {
	*sftp.Client
	busy int // operations under way
}

// take returns the session that has least to do, which release must be called
// with. It connects first if there is no connection, and starts another session
// while all have enough to do.
func (l *line) take(ctx context.Context) (*session, error) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.ended {
		return nil, net.ErrClosed
	}

	if l.open == nil {
		open, err := l.dial(ctx)
		if err != nil {
			return nil, err
		}
		l.open, l.sessions, l.full = open, nil, false
	}

	// Requests of one session are answered in turn, so the one with the least
	// to do is the fastest.
	var least *session
	for _, s := range l.sessions {
		if least == nil || s.busy < least.busy {
			least = s
		}
	}

	if (least == nil || least.busy >= enough) && len(l.sessions) < sessions && !l.full {
		client, err := sftp.NewClient(l.open, sftp.UseConcurrentWrites(true))
		switch {
		case err == nil:
			least = &session{Client: client}
			l.sessions = append(l.sessions, least)
		case least == nil:
			l.drop()
			return nil, fmt.Errorf("%w: it starts no sftp session: %w", storage.ErrUnable, err)
		// The server allows fewer sessions than are wanted (MaxSessions); those
		// that are there do.
		default:
			l.full = true
		}
	}
	least.busy++
	return least, nil
}

// release says that an operation has ended, and gives the
// connection up if it is broken.
func (l *line) release(s *session, broken bool) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	s.busy--
	// Several calls meet the same broken connection; only the first of them
	// takes it down, and none takes down the next one.
	if broken && slices.Contains(l.sessions, s) {
		l.drop()
	}
}

// cut gives a connection up while operations are under
// way, which end with an error.
func (l *line) cut(s *session) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if slices.Contains(l.sessions, s) {
		l.drop()
	}
}

// drop gives the connection up; the next operation makes another one. The mutex
// is held.
func (l *line) drop() {
	l.open.Close() //nolint:errcheck // it is given up
	l.open, l.sessions = nil, nil
}

// end gives the connection up for good.
func (l *line) end() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.ended = true; l.open != nil {
		l.drop()
	}
}

// able makes sure that the server can do what records need.
func able(client *sftp.Client) error {
	for _, extension := range []string{"fsync@openssh.com", "hardlink@openssh.com",
		"posix-rename@openssh.com"} {
		if _, ok := client.HasExtension(extension); !ok {
			return fmt.Errorf("%w: its sftp lacks %s", storage.ErrUnable, extension)
		}
	}
	return nil
}

// dial connects: the server proves who it is by a known host key, the user by a
// key of the agent or a file.
func (l *line) dial(ctx context.Context) (*ssh.Client, error) {
	hosts, err := l.config.hosts()
	if err != nil {
		return nil, err
	}
	// Asked for the kind of key that is known: a server with several would
	// otherwise show one that is not.
	algorithms, err := hosts.algorithms(l.config)
	if err != nil {
		return nil, err
	}

	signers, locked, closeAgent := l.config.signers()
	defer closeAgent()
	dialer := net.Dialer{Timeout: min(l.config.Timeout, 10*time.Second)}
	raw, err := dialer.DialContext(ctx, "tcp", l.config.Host)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", storage.ErrUnreachable, err)
	}

	// The handshake takes no context.
	stop := context.AfterFunc(ctx, func() { raw.Close() }) //nolint:errcheck // it ends the handshake
	defer stop()
	// A server that was switched off answers nothing at all, not even that it
	// is gone.
	patient := &patientConn{Conn: raw, timeout: l.config.Timeout}
	conn, channels, requests, err := ssh.NewClientConn(patient, l.config.Host, &ssh.ClientConfig{
		User: l.config.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(signers...)}, HostKeyCallback: hosts.check,
		HostKeyAlgorithms: algorithms,
	})
	if err != nil {
		raw.Close() //nolint:errcheck // the first error counts
		return nil, l.explainDial(err, len(signers), locked)
	}

	client := ssh.NewClient(conn, channels, requests)
	go keepAlive(client, l.config.Timeout/3) // ends with the connection
	return client, nil
}

// explainDial tells keys that are not accepted from hosts
// that are not known and lines that break.
func (l *line) explainDial(err error, keys int, locked []string) error {
	var host *HostError
	if errors.As(err, &host) {
		return host
	}
	// The library has no type for it. Anything else counts as a network that
	// may recover.
	if !strings.Contains(err.Error(), "unable to authenticate") {
		return fmt.Errorf("%w: %w", storage.ErrUnreachable, err)
	}

	tried := fmt.Sprintf("%d keys of the agent and of ~/.ssh were tried", keys)
	if l.config.Key != "" {
		tried = "the key " + l.config.Key + " was tried"
	}
	if len(locked) > 0 {
		tried += "; " + strings.Join(locked, " and ") +
			" cannot be used without its passphrase: give it to the agent with ssh-add"
	}

	return fmt.Errorf("%w by %s for %s: %s", storage.ErrCredentials, l.config.Host, l.config.User, tried)
}

// keepAlive asks for a sign of life, so that a silent server is noticed and a
// quiet connection is not taken for one.
func keepAlive(client *ssh.Client, every time.Duration) {
	for {
		time.Sleep(every)
		if _, _, err := client.SendRequest("keepalive@openssh.com", true, nil); err != nil {
			return
		}
	}
}

// patientConn ends a connection on which nothing came for too long.
type patientConn struct {
	net.Conn
	timeout time.Duration
}

// Read implements net.Conn: a server that says nothing for too long is gone.
func (c *patientConn) Read(data []byte) (int, error) {
	if err := c.SetReadDeadline(time.Now().Add(c.timeout)); err != nil {
		return 0, err
	}
	return c.Conn.Read(data)
}

// Write implements net.Conn: a server that takes nothing for too long is gone.
func (c *patientConn) Write(data []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(c.timeout)); err != nil {
		return 0, err
	}
	return c.Conn.Write(data)
}

// signers returns the keys of the agent and of the usual files, or the one that
// the address names; locked are the files that need a passphrase.
func (c Config) signers() (signers []ssh.Signer, locked []string, closeAgent func()) {
	closeAgent = func() {}
	home, _ := os.UserHomeDir()
	files := []string{expand(c.Key, home)}
	if c.Key == "" {
		files = nil
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			files = append(files, filepath.Join(home, ".ssh", name))
		}
		if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" {
			//nolint:noctx // a socket of this machine answers at once
			if conn, err := net.Dial("unix", socket); err == nil {
				held, _ := agent.NewClient(conn).Signers()
				//nolint:errcheck // only asked
				signers, closeAgent = append(signers, held...), func() { conn.Close() }
			}
		}
	}

	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		signer, err := ssh.ParsePrivateKey(data)
		var missing *ssh.PassphraseMissingError
		switch {
		case errors.As(err, &missing):
			locked = append(locked, file)
		case err == nil:
			signers = append(signers, signer)
		}
	}

	return signers, locked, closeAgent
}

// expand writes a path that begins with ~/ in full.
func expand(file, home string) string {
	if rest, ok := strings.CutPrefix(file, "~/"); ok {
		return filepath.Join(home, rest)
	}
	return file
}

// HostError says that a host could not prove to be the one
// that is known. It is storage.ErrUntrusted.
type HostError struct {
	Host    string
	File    string // of known hosts
	Line    string // to add to the file, if the host is not known at all
	Changed bool   // the host is known by another key
}

// Error says what is wrong.
func (e *HostError) Error() string {
	if e.Changed {
		return e.Host + " shows another key than the one in " + e.File
	}
	return e.Host + " is not among the known hosts of " + e.File
}

// Unwrap returns storage.ErrUntrusted.
func (e *HostError) Unwrap() error { return storage.ErrUntrusted }

// knownHosts is the file that says which key a host has.
type knownHosts struct {
	file  string
	known ssh.HostKeyCallback
}

// hosts reads the file of known hosts (sshd(8)).
func (c Config) hosts() (knownHosts, error) {
	home, _ := os.UserHomeDir()
	file := expand(c.Known, home)
	if file == "" {
		file = filepath.Join(home, ".ssh", "known_hosts")
	}

	// Without the file no host is known, and each is told with the line to add.
	// Nothing is ever trusted at first sight.
	known, err := knownhosts.New(file)
	if errors.Is(err, os.ErrNotExist) {
		known = func(string, net.Addr, ssh.PublicKey) error { return &knownhosts.KeyError{} }
	} else if err != nil {
		return knownHosts{}, fmt.Errorf("%w: the file of known hosts cannot be read: %w",
			storage.ErrUntrusted, err)
	}
	return knownHosts{file, known}, nil
}

// check implements ssh.HostKeyCallback.
func (k knownHosts) check(host string, remote net.Addr, key ssh.PublicKey) error {
	err := k.known(host, remote, key)
	var unknown *knownhosts.KeyError
	if !errors.As(err, &unknown) {
		return err
	}
	return &HostError{Host: host, File: k.file, Line: knownhosts.Line([]string{knownhosts.Normalize(host)},
		key), Changed: len(unknown.Want) > 0}
}

// algorithms returns which kinds of key the host is known by, so that it is not
// asked for one that is not known; nil for any.
func (k knownHosts) algorithms(config Config) ([]string, error) {
	var unknown *knownhosts.KeyError
	if err := k.known(config.Host, &net.TCPAddr{IP: net.IPv4zero}, noKey{}); !errors.As(err, &unknown) {
		return nil, err
	}
	var names []string
	for _, want := range unknown.Want {
		kind := want.Key.Type()
		if kind == ssh.KeyAlgoRSA {
			names = append(names, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		}
		names = append(names, kind)
	}
	return names, nil
}

// noKey is a key that no host has.
type noKey struct{}

// Type implements ssh.PublicKey.
func (noKey) Type() string { return "none" }

// Marshal implements ssh.PublicKey.
func (noKey) Marshal() []byte { return []byte("none") }

// Verify implements ssh.PublicKey.
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }
