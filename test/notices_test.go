package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/standin/inbox"
	"orilla.example/orilla/internal/store/storetest"
)

// told is a site whose notices go to stand-ins in this process.
type told struct {
	*place
	mail, board *inbox.Box
	config      string
}

func newTold(t *testing.T) *told {
	t.Helper()
	p := &told{newPlace(t), &inbox.Box{}, &inbox.Box{Secret: []byte("0123456789abcdef")}, ""}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go p.mail.ServeMail(t.Context(), listener, inbox.Mail{}) //nolint:errcheck // until the test ends
	server := httptest.NewServer(p.board.Webhook())
	t.Cleanup(server.Close)
	p.env = append(p.env, "BOARD_SECRET=0123456789abcdef")
	p.config = fmt.Sprintf("site: corvane\nbuild: {run: ['sh build.sh'], output: out}\n"+
		"mail: {server: 'smtp://%s', from: orilla@corvane.example}\n"+
		"notices:\n  crew: {mail: crew@corvane.example}\n"+
		"  board: {webhook: '%s/', secret: BOARD_SECRET, about: all, environments: ['*']}\n", listener.Addr(), server.URL)
	return p
}

// siteSteps build the site.
const siteSteps = "mkdir -p out && cp index.html out/"

// got lists what came, without what came again: kinds with their subjects.
func got(box *inbox.Box) (list []string) {
	for _, item := range box.Items() {
		if !item.Again {
			parts := strings.Split(item.ID, "/")
			list = append(list, strings.Join(parts[:len(parts)-1], "/"))
		}
	}
	return list
}

func TestNoticesOfADay(t *testing.T) {
	t.Parallel()
	p := newTold(t)
	p.commit("Fares for the winter", map[string]string{"orilla.yaml": p.config, "index.html": "one", "build.sh": siteSteps})
	_, notes, status := p.run("deploy")
	assert.Zero(t, status, notes)
	assert.Contains(t, notes, "notices   4 sent")
	p.commit("A boat more to Strike", map[string]string{"index.html": "two"})
	p.ok("deploy")
	p.ok("rollback", "-m", "the fares were wrong")
	p.ok("thaw", "--leave-live")
	p.git("checkout", "-qb", "boat")
	p.commit("It does not build", map[string]string{"build.sh": "echo no boat; exit 3"})
	_, _, status = p.run("deploy")
	assert.Equal(t, 5, status)
	p.commit("It builds", map[string]string{"build.sh": siteSteps, "index.html": "three"})
	p.ok("deploy")
	p.ok("promote", "preview/boat", "--to", "production", "--yes")
	p.ok("preview", "remove", "boat", "--yes")
	assert.Equal(t, []string{
		"build:1/build-started", "production:1/live", "build:1/build-succeeded",
		"build:2/build-started", "production:2/live", "build:2/build-succeeded",
		"production:3/rolled-back", "production:4/thawed",
		"build:3/build-started", "build:3/build-failed",
		"build:4/build-started", "preview/boat:1/preview-created", "build:4/build-succeeded",
		"production:5/promoted", "preview/boat:2/preview-ended",
	}, got(p.board))
	var subjects []string
	for _, item := range p.mail.Items() {
		subjects = append(subjects, item.Title)
		assert.NotContains(t, item.Raw, "0123456789abcdef", "no secret")
	}
	assert.Equal(t, []string{
		"corvane: production is live: Fares for the winter",
		"corvane: production is live: A boat more to Strike",
		"corvane: production was rolled back: the fares were wrong",
		"corvane: production is thawed",
		"corvane: build failed on boat: step 1 of the build ended with status 3: sh build.sh",
		"corvane: production was promoted: It builds",
	}, subjects)

	out := p.ok("notices")
	assert.Regexp(t, `(?m)^board +webhook http://\S+ +everything +all environments +15 +0$`, out)
	assert.Regexp(t, `(?m)^crew +mail crew@corvane.example +the usual +fixed environments +6 +0$`, out)
	assert.Equal(t, "nothing waits\n", p.ok("notices", "send"))
	assert.Regexp(t, `crew  mail crew@corvane.example  taken  in `, p.ok("notices", "test", "crew"))
	_, notes, status = p.run("notices", "test", "crwe")
	assert.Equal(t, 2, status)
	assert.Contains(t, notes, "orilla notices test crew")
	count := len(p.board.Items())
	p.ok("rollback", "--dry-run")
	p.ok("deploy", "--dry-run", "--working-tree", "--to", "preview/x")
	assert.Len(t, p.board.Items(), count, "a dry run tells nobody")
}

// TestNoticesOfABranchCountNowhere: whoever may push a branch could else run commands with what
// the deployer has.
func TestNoticesOfABranchCountNowhere(t *testing.T) {
	t.Parallel()
	p := newTold(t)
	p.commit("First", map[string]string{"orilla.yaml": p.config, "index.html": "one", "build.sh": siteSteps})
	p.ok("deploy")
	p.git("checkout", "-qb", "hostile")
	seen := filepath.Join(t.TempDir(), "seen")
	hostile := strings.Replace(p.config, "notices:\n", "notices:\n  evil: {command: 'env > "+seen+"', about: all, environments: ['*'], secrets: [BOARD_SECRET]}\n", 1)
	hostile = strings.ReplaceAll(hostile, "crew@corvane.example", "evil@corvane.example")
	p.commit("Second", map[string]string{"orilla.yaml": hostile, "index.html": "two"})
	p.ok("deploy")
	p.ok("notices", "send")
	p.ok("notices", "test")
	assert.NoFileExists(t, seen)
	for _, item := range p.mail.Items() {
		assert.Equal(t, "crew@corvane.example", item.To)
	}
	assert.Contains(t, got(p.board), "preview/hostile:1/preview-created")

	// Where the production branch is not there to be read, nobody is told, and one is told why.
	clone := p.clone("--single-branch", "--branch", "hostile")
	clone.git("remote", "set-url", "origin", "file:///nowhere/to/be/found")
	clone.commit("Third", map[string]string{"index.html": "three"})
	_, notes, status := clone.run("deploy", "--yes", "--to", "preview/other")
	assert.Zero(t, status, notes)
	assert.Contains(t, notes, "no notices are sent")
	assert.NoFileExists(t, seen)
}

// TestKilledDeploysTell kills deploys at any moment. Whatever was live then, and every build that
// began, is told by who runs next: once, or twice with one id.
func TestKilledDeploysTell(t *testing.T) {
	t.Parallel()
	p := newTold(t)
	p.commit("First", map[string]string{"orilla.yaml": p.config, "index.html": "0", "build.sh": siteSteps})
	p.ok("deploy")
	p.killSome([]string{"deploy"}, 300*time.Millisecond, 8, func(round int) {
		p.commit(fmt.Sprint("Deploy ", round), map[string]string{"index.html": fmt.Sprint(round)})
	}, func(int) {})
	// Nobody looks for builds that were killed but a deploy.
	p.commit("Last", map[string]string{"index.html": "last"})
	p.ok("deploy")
	p.ok("notices", "send")
	found := map[string]int{}
	for _, one := range got(p.board) {
		found[one]++
	}
	for _, entry := range p.verify() {
		assert.Equal(t, 1, found[entry.Label()+"/live"], entry.Label())
	}
	runs, err := os.ReadDir(filepath.Join(p.home, "store", "sites", "corvane", "runs"))
	require.NoError(t, err)
	for i := range runs {
		assert.Equal(t, 1, found[fmt.Sprintf("build:%d/build-started", i+1)], "build:%d", i+1)
	}
	var order []string
	for _, one := range got(p.board) {
		if strings.HasSuffix(one, "/live") {
			order = append(order, one)
		}
	}
	var want []string
	for i := range order {
		want = append(want, fmt.Sprintf("production:%d/live", i+1))
	}
	assert.Equal(t, want, order, "in the order of the journal")
}

// TestAMailServerThatHangs costs a deploy its patience, and not its result.
func TestAMailServerThatHangs(t *testing.T) {
	t.Parallel()
	p := newTold(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // it is over
	config := p.config[:strings.Index(p.config, "smtp://")] + "smtp://" + listener.Addr().String() +
		p.config[strings.Index(p.config, "', from"):]
	p.commit("First", map[string]string{"orilla.yaml": config, "index.html": "one", "build.sh": siteSteps})
	_, notes, status := p.run("deploy")
	assert.Zero(t, status)
	assert.Contains(t, notes, "not taken")
	assert.Regexp(t, `next command tries again, or now: orilla notices send`, notes)
	assert.Equal(t, []string{"build:1/build-started", "production:1/live", "build:1/build-succeeded"}, got(p.board))
	out := p.ok("notices")
	assert.Regexp(t, `(?m)^not taken  crew crew@corvane.example: not taken within `, out)
}

// mailServer starts Postfix, which takes mail for crew@corvane.example and nobody else, over
// STARTTLS and not without. It returns its address, the authority that vouches for it, and the
// folder of its mailbox.
func mailServer(t *testing.T) (address, root, box string) {
	t.Helper()
	_, err := exec.LookPath("postfix")
	if os.Geteuid() != 0 || err != nil && os.Getenv(storetest.Needed) == "" {
		t.Skip("it takes Postfix, and root")
	}
	require.NoError(t, err)
	folder, err := os.MkdirTemp("", "orilla-mail-") //nolint:usetesting // its parts run as other users, and have to get there
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) }) //nolint:errcheck // in the system's temporary folder
	authority, err := certificates.OpenAuthority(filepath.Join(folder, "authority"))
	require.NoError(t, err)
	chain, key, err := authority.Write(folder, "localhost")
	require.NoError(t, err)
	both, err := exec.Command("cat", key, chain).Output()
	require.NoError(t, err)
	own, err := user.Lookup("postfix")
	require.NoError(t, err)
	id, err := strconv.Atoi(own.Uid)
	require.NoError(t, err)
	for name, mode := range map[string]os.FileMode{"": 0o755, "conf": 0o755, "queue": 0o755, "data": 0o700, "box": 0o777} {
		require.NoError(t, os.MkdirAll(filepath.Join(folder, name), mode))
		require.NoError(t, os.Chmod(filepath.Join(folder, name), mode))
	}
	require.NoError(t, os.Chown(filepath.Join(folder, "data"), id, -1))
	port := freePort(t)
	for name, text := range map[string]string{"both.pem": string(both),
		"conf/main.cf": strings.ReplaceAll(`compatibility_level = 3.6
queue_directory = FOLDER/queue
data_directory = FOLDER/data
daemon_directory = /usr/lib/postfix/sbin
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = mail.corvane.example
mydestination =
virtual_mailbox_domains = corvane.example
virtual_mailbox_base = FOLDER/box
virtual_mailbox_maps = inline:{ crew@corvane.example=crew/ }
virtual_uid_maps = static:65534
virtual_gid_maps = static:65534
smtpd_tls_security_level = encrypt
smtpd_tls_received_header = yes
smtpd_tls_chain_files = FOLDER/both.pem
smtpd_relay_restrictions = reject_unauth_destination
maillog_file = FOLDER/log
maillog_file_prefixes = /
alias_maps =
alias_database =
`, "FOLDER", folder),
		"conf/master.cf": "127.0.0.1:" + port + ` inet n - n - - smtpd
pickup unix n - n 60 1 pickup
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
proxymap unix - - n - - proxymap
error unix - - n - - error
retry unix - - n - - error
virtual unix - n n - - virtual
anvil unix - - n - 1 anvil
tlsmgr unix - - n 1000? 1 tlsmgr
postlog unix-dgram n - n - 1 postlogd
`} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
		require.NoError(t, os.Chmod(filepath.Join(folder, name), 0o644))
	}
	out, err := exec.Command("postfix", "-c", filepath.Join(folder, "conf"), "start").CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() {
		exec.Command("postfix", "-c", filepath.Join(folder, "conf"), "stop").Run() //nolint:errcheck // it ends
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(folder, "log"))
			t.Log(string(log))
		}
	})
	return "smtp://localhost:" + port, filepath.Join(folder, "authority", "authority.pem"), filepath.Join(folder, "box")
}

// TestARealMailServer sends through a mail server of this system, over STARTTLS, into a mailbox.
func TestARealMailServer(t *testing.T) {
	t.Parallel()
	address, root, box := mailServer(t)
	p := newTold(t)
	at := strings.Index(p.config, "smtp://")
	config := p.config[:at] + address + p.config[strings.Index(p.config, "', from"):]
	config = strings.Replace(config, "mail: crew@corvane.example", "mail: [crew@corvane.example, nobody@corvane.example]", 1)
	p.commit("Fähren: die Fahrpläne für den Winter", map[string]string{"orilla.yaml": config, "index.html": "one",
		"build.sh": siteSteps})
	_, notes, status := p.run("deploy")
	assert.Zero(t, status, notes)
	assert.Contains(t, notes, "certificate", "one that nobody vouches for is sent nothing")
	p.env = append(p.env, "SSL_CERT_FILE="+root)
	out, _, status := p.run("notices", "send")
	assert.Equal(t, 1, status, "one was given up")
	assert.Regexp(t, `(?m)^crew crew@corvane.example  production:1 live  sent$`, out)
	assert.Regexp(t, `(?m)^crew nobody@corvane.example  production:1 live  given up  .*550`, out)
	var mails []string
	require.Eventually(t, func() bool {
		mails, _ = filepath.Glob(filepath.Join(box, "crew", "new", "*"))
		return len(mails) == 1
	}, patience, tick)
	raw, err := os.ReadFile(mails[0])
	require.NoError(t, err)
	message, err := mail.ReadMessage(bytes.NewReader(raw))
	require.NoError(t, err)
	subject, err := (&mime.WordDecoder{}).DecodeHeader(message.Header.Get("Subject"))
	require.NoError(t, err)
	assert.Equal(t, "corvane: production is live: Fähren: die Fahrpläne für den Winter", subject)
	assert.Contains(t, string(raw), "using TLSv1.3")
	assert.Contains(t, message.Header.Get("Content-Type"), "multipart/alternative")
}

// freePort returns a port of this machine that nobody uses at the moment.
func freePort(t *testing.T) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // it was only to find one
	_, port, _ := net.SplitHostPort(listener.Addr().String())
	return port
}

// TestTheRecipeForCommitStates runs the script of docs/notices.md, as it stands there, against a code
// host of this process.
func TestTheRecipeForCommitStates(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("curl"); err != nil {
		t.Skip("it takes curl")
	}
	page, err := os.ReadFile("../docs/notices.md")
	require.NoError(t, err)
	_, script, _ := strings.Cut(string(page), "```sh\n")
	script, _, found := strings.Cut(script, "```")
	require.True(t, found)
	var mutex sync.Mutex
	var said []string
	host := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var state struct{ State, Context string }
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&state))
		mutex.Lock()
		defer mutex.Unlock()
		said = append(said, strings.Join([]string{r.URL.Path, r.Header.Get("Authorization"), state.State, state.Context}, " "))
	}))
	defer host.Close()
	p := newPlace(t)
	p.env = append(p.env, "CODE_HOST_TOKEN=token-of-the-host", "CODE_HOST="+host.URL)
	config := "site: corvane\nbuild: {run: [sh build.sh], output: out}\nnotices:\n  states:\n    command: sh ci/commit-state.sh\n" +
		"    secrets: [CODE_HOST_TOKEN, CODE_HOST]\n    about: [build-started, build-succeeded, build-failed, live, preview-created]\n" +
		"    environments: ['*']\n"
	first := p.commit("First", map[string]string{"orilla.yaml": config, "ci/commit-state.sh": script, "build.sh": siteSteps, "index.html": "one"})
	p.ok("deploy")
	second := p.commit("Second", map[string]string{"build.sh": "exit 3"})
	p.fails(5, "", "deploy")
	at := func(commit, state string) string {
		return "/api/commits/" + commit + "/states Bearer token-of-the-host " + state + " orilla production"
	}
	assert.Equal(t, []string{at(first, "pending"), at(first, "success"), at(first, "success"), at(second, "pending"),
		at(second, "failure")}, said)
}

// TestABudgetStopsADeploy where orilla.yaml says that it does.
func TestABudgetStopsADeploy(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	page := "<link rel=icon href=data:,><script src=app.js></script>"
	config := "site: corvane\ncheck: {budget: [{page: '**', scripts: 2kB}]}\n"
	p.commit("First", map[string]string{"orilla.yaml": config, "index.html": page, "app.js": "small()"})
	p.ok("deploy")
	large := strings.Builder{}
	for i := range 3000 {
		fmt.Fprintf(&large, "%x", i*7919%65536)
	}
	p.commit("Second", map[string]string{"app.js": large.String()})
	_, notes, status := p.run("deploy")
	assert.Zero(t, status, "a warning: %s", notes)
	assert.Contains(t, notes, "over-budget")
	p.commit("Third", map[string]string{"orilla.yaml": strings.Replace(config, "budget:", "stop_on: [over-budget], budget:", 1),
		"app.js": large.String() + "/* more */"})
	_, notes, status = p.run("deploy")
	assert.Equal(t, 4, status)
	assert.Regexp(t, `kB of scripts that this page loads; the budget is 2\.0 kB`, notes)
	assert.Regexp(t, `app\.js, \d+ B more since production:2`, notes)
	assert.Len(t, p.history("production"), 2, "nothing went live")
}
