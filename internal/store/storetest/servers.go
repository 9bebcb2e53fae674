package storetest

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
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

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"orilla.example/orilla/internal/core/storage"
)

// Needed is the variable that makes a missing server fail a test instead of
// leaving it out. scripts/test sets it.
const Needed = "ORILLA_TEST_SERVERS"

// program finds a server's program.
func program(names ...string) (string, error) {
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("%w: %s; scripts/test installs it", errMissing, names[0])
}

var errMissing = errors.New("not installed")

// started leaves a test out whose server is not installed,
// and ends the server with the test.
func started(t testing.TB, stop func(), err error) {
	t.Helper()
	if errors.Is(err, errMissing) && os.Getenv(Needed) == "" {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(stop)
}

// Process is a server that was started.
type Process struct {
	Listen string // host:port

	command func() *exec.Cmd
	mutex   sync.Mutex
	running *exec.Cmd
	said    bytes.Buffer
}

// Start starts the server, again after Stop, and waits until it listens.
func (p *Process) Start() error {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.running = p.command()
	p.running.Stdout, p.running.Stderr = &p.said, &p.said
	ownGroup(p.running)
	if err := p.running.Start(); err != nil {
		return err
	}

	for deadline := time.Now().Add(20 * time.Second); time.Now().
		Before(deadline); time.Sleep(20 * time.Millisecond) {
		if conn, err := net.Dial("tcp", p.Listen); err == nil {
			return conn.Close()
		}
	}
	return fmt.Errorf("%s did not start: %s", p.running.Path, p.said.String())
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

// launch starts a server on a free port.
func launch(command func(address string) *exec.Cmd) (*Process, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Process{Listen: listener.Addr().String()}
	listener.Close() //nolint:errcheck // only for its number
	p.command = func() *exec.Cmd { return command(p.Listen) }
	return p, p.Start()
}

// SSHServer is OpenSSH's sshd with its sftp-server, for
// the user who runs the test.
type SSHServer struct {
	*Process
	Folder string // for stores
	Key    string // file of the private key that is let in
	Known  string // file of known hosts that names the server
	User   string
}

// SSH starts one for a test. limits is put before the
// sftp-server, in the way of "ulimit -f 100;".
func SSH(t testing.TB, limits string) *SSHServer {
	t.Helper()
	s, err := StartSSH(t.TempDir(), limits)
	started(t, func() { s.Stop() }, err)
	return s
}

// StartSSH starts one whose files and stores lie in a
// folder. The caller stops it.
func StartSSH(folder, limits string) (*SSHServer, error) {
	sshd, err := program("sshd", "/usr/sbin/sshd")
	if err != nil {
		return nil, err
	}
	serve, err := program("/usr/lib/openssh/sftp-server", "/usr/libexec/sftp-server",
		"/usr/lib/ssh/sftp-server")
	if err != nil {
		return nil, err
	}

	current, err := user.Current()
	if err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 {
		os.MkdirAll("/run/sshd", 0o755) //nolint:errcheck // sshd says so if it misses it
	}

	in := func(name string) string { return filepath.Join(folder, name) }
	s := &SSHServer{Folder: in("stores"), Key: in("key"), Known: in("known_hosts"), User: current.Username}
	hostKey, err := writeKey(in("host"))
	if err != nil {
		return nil, err
	}

	userKey, err := writeKey(s.Key)
	if err != nil {
		return nil, err
	}
	err = errors.Join(os.WriteFile(in("authorized"), ssh.MarshalAuthorizedKey(userKey), 0o600),
		os.WriteFile(in("serve"), []byte("#!/bin/sh\n"+limits+"\nexec "+serve+"\n"), 0o755))
	if err != nil {
		return nil, err
	}

	s.Process, err = launch(func(address string) *exec.Cmd {
		settings := []string{
			"ListenAddress=" + address, "HostKey=" + in("host"), "AuthorizedKeysFile=" + in("authorized"),
			"PidFile=none", "StrictModes=no", "UsePAM=no", "PasswordAuthentication=no",
			"KbdInteractiveAuthentication=no", "PermitRootLogin=yes",
			"MaxStartups=200", "Subsystem=sftp " + in("serve"), "LogLevel=ERROR",
			// bash reads the user's ~/.bashrc for sshd, unless it is not the
			// first shell: what lies there can take seconds, and hang.
			"SetEnv=SHLVL=9",
		}

		args := []string{"-D", "-e", "-f", "/dev/null"}
		for _, setting := range settings {
			args = append(args, "-o", setting)
		}
		return exec.Command(sshd, args...)
	})
	if err != nil {
		return nil, err
	}
	line := knownhosts.Line([]string{knownhosts.Normalize(s.Listen)}, hostKey)
	return s, os.WriteFile(s.Known, []byte(line+"\n"), 0o600)
}

// Store returns the address of a store in a folder of the server, reached
// through another address if one is given.
func (s *SSHServer) Store(name string) string {
	return fmt.Sprintf("sftp://%s@%s%s?key=%s&known_hosts=%s&timeout=5s", s.User, s.Listen,
		filepath.Join(s.Folder, name), s.Key, s.Known)
}

// writeKey makes a key, writes its private part to a file,
// and returns the public one.
func writeKey(file string) (ssh.PublicKey, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, err
	}

	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
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

// S3 starts one for a test.
func S3(t testing.TB) *S3Server {
	t.Helper()
	s, err := StartS3(t.TempDir())
	started(t, func() { s.Stop() }, err)
	return s
}

// StartS3 starts one whose buckets lie in a folder. The caller stops it.
func StartS3(folder string) (*S3Server, error) {
	gateway, err := program("versitygw")
	if err != nil {
		return nil, err
	}
	s, users := &S3Server{Folder: filepath.Join(folder, "buckets")}, filepath.Join(folder, "users")
	if err := errors.Join(os.MkdirAll(s.Folder, 0o755), os.MkdirAll(users, 0o755)); err != nil {
		return nil, err
	}

	s.Process, err = launch(func(address string) *exec.Cmd {
		return exec.Command(gateway, "--port", address, "--access", AccessKey, "--secret", SecretKey,
			"--region", "us-east-1", "--iam-dir", users, "--quiet", "posix", s.Folder)
	})
	return s, err
}

// Store returns the address of a store in a bucket, which is made, reached
// through another address if one is given.
func (s *S3Server) Store(bucket, through string) string {
	if through == "" {
		through = s.Listen
	}
	//nolint:errcheck // whoever uses it sees that it is missing
	os.MkdirAll(filepath.Join(s.Folder, bucket), 0o755)
	return "s3://" + bucket + "/stores?endpoint=http://" + through + "&region=us-east-1&timeout=5s"
}

// Users makes accounts at the gateway, one for each role, named after it, which
// may do in the bucket of a store just what a policy for the bucket says.
// policy is told who has which role.
func (s *S3Server) Users(bucket string, policy func(who map[storage.Role][]string) string) error {
	gateway, err := program("versitygw")
	if err != nil {
		return err
	}
	who := map[storage.Role][]string{}
	for _, role := range storage.Roles {
		who[role] = []string{string(role)}
		out, err := exec.Command(gateway, "admin", "--access", AccessKey, "--secret", SecretKey,
			"--endpoint-url", "http://"+s.Listen, "create-user",
			"--access", string(role), "--secret", SecretKey, "--role", "user").CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s: %w", out, err)
		}
	}

	client, err := minio.New(s.Listen,
		&minio.Options{Creds: credentials.NewStaticV4(AccessKey, SecretKey, ""), Region: "us-east-1",
			BucketLookup: minio.BucketLookupPath})
	if err != nil {
		return err
	}

	var compact bytes.Buffer // the gateway keeps policies where there is room for 4 kB
	if err := json.Compact(&compact, []byte(policy(who))); err != nil {
		return err
	}
	return client.SetBucketPolicy(context.Background(), bucket, compact.String())
}

// EnvOf returns an environment with the keys of the account of a role.
func EnvOf(role storage.Role) []string {
	return []string{"AWS_ACCESS_KEY_ID=" + string(role), "AWS_SECRET_ACCESS_KEY=" + SecretKey}
}

// Env returns an environment with the keys of an S3Server and without others,
// for processes that are started.
func Env(environment []string) []string {
	kept := environment[:0:0]
	for _, variable := range environment {
		if !strings.HasPrefix(variable, "AWS_") && !strings.HasPrefix(variable, "SSH_AUTH_SOCK=") {
			kept = append(kept, variable)
		}
	}
	return append(kept, "AWS_ACCESS_KEY_ID="+AccessKey, "AWS_SECRET_ACCESS_KEY="+SecretKey)
}

// WriteLockedKey writes a key that needs a passphrase.
func WriteLockedKey(file string) error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("corvane"))
	if err != nil {
		return err
	}
	return os.WriteFile(file, pem.EncodeToMemory(block), 0o600)
}
