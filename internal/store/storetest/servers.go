package storetest

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// Needed is the variable that makes a missing server fail a test instead of leaving it out. scripts/test sets it.
const Needed = "ORILLA_TEST_SERVERS"

// program finds a server's program, or leaves the test out.
func program(t testing.TB, names ...string) string {
	t.Helper()
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv(Needed) != "" {
		t.Fatalf("%s is not installed; scripts/test installs it", names[0])
	}
	t.Skipf("%s is not installed; scripts/test installs it", names[0])
	return ""
}

// Process is a server that a test started.
type Process struct {
	Address string // host:port

	t       testing.TB
	command func() *exec.Cmd
	mutex   sync.Mutex
	running *exec.Cmd
	said    *bytes.Buffer
}

// Start starts the server, again after Stop, and waits until it listens.
func (p *Process) Start() {
	p.t.Helper()
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.running, p.said = p.command(), &bytes.Buffer{}
	p.running.Stdout, p.running.Stderr = p.said, p.said
	ownGroup(p.running)
	require.NoError(p.t, p.running.Start())
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if conn, err := net.Dial("tcp", p.Address); err == nil {
			conn.Close() //nolint:errcheck // only tried
			return
		}
		require.True(p.t, time.Now().Before(deadline), "the server did not start")
	}
}

// Stop ends the server at once, and everything it started.
func (p *Process) Stop() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.running != nil {
		killGroup(p.running)
		p.running.Wait() //nolint:errcheck // it was killed
		p.running = nil
	}
}

func freePort(t testing.TB) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // only for its number
	return listener.Addr().String()
}

func start(t testing.TB, command func(address string) *exec.Cmd) *Process {
	t.Helper()
	p := &Process{t: t, Address: freePort(t)}
	p.command = func() *exec.Cmd { return command(p.Address) }
	p.Start()
	t.Cleanup(p.Stop)
	return p
}

// SSHServer is OpenSSH's sshd with its sftp-server, for the user who runs the test.
type SSHServer struct {
	*Process
	Folder string // for stores
	Key    string // file of the private key that is let in
	Known  string // file of known hosts that names the server
	User   string
}

// SSH starts one. limits is put before the sftp-server, in the way of "ulimit -f 100;".
func SSH(t testing.TB, limits string) *SSHServer {
	t.Helper()
	sshd := program(t, "sshd", "/usr/sbin/sshd")
	serve := program(t, "/usr/lib/openssh/sftp-server", "/usr/libexec/sftp-server", "/usr/lib/ssh/sftp-server")
	folder := t.TempDir()
	current, err := user.Current()
	require.NoError(t, err)
	if os.Geteuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // where sshd, started by root, leaves privileges behind
	}
	s := &SSHServer{Folder: filepath.Join(folder, "store"), Key: filepath.Join(folder, "key"), Known: filepath.Join(folder, "known_hosts"), User: current.Username}
	hostKey := writeKey(t, filepath.Join(folder, "host"))
	userKey := writeKey(t, s.Key)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "authorized"), ssh.MarshalAuthorizedKey(userKey), 0o600))
	subsystem := filepath.Join(folder, "serve")
	require.NoError(t, os.WriteFile(subsystem, []byte("#!/bin/sh\n"+limits+"\nexec "+serve+"\n"), 0o755))
	s.Process = start(t, func(address string) *exec.Cmd {
		settings := []string{
			"ListenAddress=" + address, "HostKey=" + filepath.Join(folder, "host"), "AuthorizedKeysFile=" + filepath.Join(folder, "authorized"),
			"PidFile=none", "StrictModes=no", "UsePAM=no", "PasswordAuthentication=no", "KbdInteractiveAuthentication=no", "PermitRootLogin=yes",
			"MaxStartups=200", "Subsystem=sftp " + subsystem, "LogLevel=ERROR",
		}
		args := []string{"-D", "-e", "-f", "/dev/null"}
		for _, setting := range settings {
			args = append(args, "-o", setting)
		}
		return exec.Command(sshd, args...)
	})
	line := knownhosts.Line([]string{knownhosts.Normalize(s.Process.Address)}, hostKey)
	require.NoError(t, os.WriteFile(s.Known, []byte(line+"\n"), 0o600))
	return s
}

// Store returns the address of a store in a folder of the server.
func (s *SSHServer) Store(name string) string {
	return fmt.Sprintf("sftp://%s@%s%s?key=%s&known_hosts=%s&timeout=5s", s.User, s.Process.Address, filepath.Join(s.Folder, name), s.Key, s.Known)
}

// writeKey makes a key, writes its private part to a file, and returns the public one.
func writeKey(t testing.TB, file string) ssh.PublicKey {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return key
}

// S3Server is an S3 gateway before a folder, one bucket a folder.
type S3Server struct {
	*Process
	Folder string // what lies in it
}

// The keys of an S3Server's owner.
const (
	AccessKey = "corvanetester"
	SecretKey = "corvane-ferries-test-secret"
)

// S3 starts one, and makes keys known to the test's process.
func S3(t testing.TB) *S3Server {
	t.Helper()
	gateway := program(t, "versitygw")
	s := &S3Server{Folder: filepath.Join(t.TempDir(), "buckets")}
	iam := filepath.Join(t.TempDir(), "iam")
	require.NoError(t, os.MkdirAll(s.Folder, 0o755))
	require.NoError(t, os.MkdirAll(iam, 0o755))
	s.Process = start(t, func(address string) *exec.Cmd {
		return exec.Command(gateway, "--port", address, "--access", AccessKey, "--secret", SecretKey, "--region", "us-east-1", "--iam-dir", iam, "--quiet",
			"--health", "/health", "posix", s.Folder)
	})
	return s
}

// Bucket makes a bucket and returns the address of a store in it, reached through another address if one is given.
func (s *S3Server) Bucket(name, through string) string {
	s.t.Helper()
	if through == "" {
		through = s.Process.Address
	}
	require.NoError(s.t, os.MkdirAll(filepath.Join(s.Folder, name), 0o755))
	return "s3://" + name + "/stores?endpoint=http://" + through + "&region=us-east-1&timeout=5s"
}

// Env sets an environment with the keys, for processes that are started.
func Env(environment []string) []string {
	kept := environment[:0:0]
	for _, variable := range environment {
		if !strings.HasPrefix(variable, "AWS_") && !strings.HasPrefix(variable, "SSH_AUTH_SOCK=") {
			kept = append(kept, variable)
		}
	}
	return append(kept, "AWS_ACCESS_KEY_ID="+AccessKey, "AWS_SECRET_ACCESS_KEY="+SecretKey)
}
