package courier_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
	"orilla.example/orilla/internal/standin/inbox"
	"orilla.example/orilla/internal/steps"
	"orilla.example/orilla/internal/store/memory"
)

// TestMain: commands are run by a process of their own, which is this program again.
func TestMain(m *testing.M) {
	steps.KeeperIfAsked()
	os.Exit(m.Run())
}

const secret = "a secret of 32 characters, or so"

// harbour is a site in a store, with those who are told of it.
type harbour struct {
	*testing.T
	store  storage.Store
	config project.Config
	mail   *inbox.Box
	board  *inbox.Box
	folder string
	count  atomic.Int64
}

// newHarbour has a mail server and a receiver of webhooks.
func newHarbour(t *testing.T) *harbour {
	t.Helper()
	h := &harbour{T: t, store: &memory.Store{}, mail: &inbox.Box{}, board: &inbox.Box{Secret: []byte(secret)},
		folder: t.TempDir()}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go h.mail.ServeMail(t.Context(), listener, inbox.Mail{}) //nolint:errcheck // until the test ends
	server := httptest.NewServer(h.board.Webhook())
	t.Cleanup(server.Close)
	h.config = project.Config{Site: "corvane",
		Mail: project.Mail{Server: "smtp://" + listener.Addr().String(), From: "Ferries <orilla@corvane.example>"},
		Notices: map[string]project.Notice{
			"crew":  {Mail: []string{"crew@corvane.example"}},
			"board": {Webhook: server.URL + "/hook", Secret: "BOARD_SECRET", About: []string{"all"}, Environments: []string{"*"}},
		}}
	return h
}

func (h *harbour) options() courier.Options {
	return courier.Options{Store: h.store, Site: "corvane", Config: h.config, Folder: h.folder, Who: "Ines Roe", Now: time.Now,
		Lookup: func(name string) (string, bool) {
			value, ok := map[string]string{"BOARD_SECRET": secret, "HOST_TOKEN": "token-of-the-host"}[name]
			return value, ok
		}}
}

// deploy writes the next entry of production.
func (h *harbour) deploy() {
	h.Helper()
	j := journal.Journal{Store: h.store, Site: "corvane", Environment: "production"}
	last, err := j.HeadNumber(h.Context(), 0)
	require.NoError(h, err)
	n := h.count.Add(1)
	entry := journal.Entry{Format: journal.Format, Site: "corvane", Environment: "production", Number: last + 1,
		Attempt: fmt.Sprint("a", n), Kind: journal.Deploy, Release: release.ID{1, byte(n)},
		Origin: journal.Origin{Source: journal.FromCommit, Commit: strings.Repeat("a", 40), Subject: "Fares\nBcc: x@corvane.example"},
		Cause:  "command", Who: "Ines Roe <ines@corvane.example>", When: time.Now()}
	data, err := entry.Encode()
	require.NoError(h, err)
	require.NoError(h, h.store.Create(h.Context(), storage.JournalKey("corvane", "production", entry.Number), data))
}

// run is what a command does: it begins, something happens, and it ends.
func (h *harbour) run(deploys int) courier.Summary {
	h.Helper()
	c := courier.Begin(h.Context(), h.options())
	for range deploys {
		h.deploy()
		c.Look("production")
	}
	return c.Finish(h.Context(), 5*time.Second)
}

// titles returns the subjects of what came in, each id once.
func titles(box *inbox.Box) (list []string, again int) {
	for _, item := range box.Items() {
		if item.Again {
			again++
			continue
		}
		list = append(list, strings.Split(item.ID, "/")[0])
	}
	return list, again
}

func TestWhatHappensIsTold(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	summary := h.run(3)
	require.NoError(t, summary.Err)
	assert.Len(t, summary.Sent, 6)
	assert.Zero(t, summary.Left)
	got, again := titles(h.board)
	assert.Equal(t, []string{"production:1", "production:2", "production:3"}, got)
	assert.Zero(t, again)
	for _, item := range h.board.Items() {
		assert.Equal(t, "signature is good", item.Note)
	}
	mails := h.mail.Items()
	require.Len(t, mails, 3)
	assert.Equal(t, "corvane: production is live: Fares Bcc: x@corvane.example", mails[0].Title)
	assert.Equal(t, "crew@corvane.example", mails[0].To)
	assert.Contains(t, mails[1].Text, "undo     orilla rollback production:1\r\n")
	assert.Contains(t, mails[1].HTML, "orilla rollback production:1")
	assert.Contains(t, mails[0].Raw, "Auto-Submitted: auto-generated")
	head, _, _ := strings.Cut(mails[0].Raw, "\r\n\r\n")
	assert.NotRegexp(t, `(?m)^Bcc:`, head)

	again2 := h.run(0)
	assert.Empty(t, again2.Sent, "nothing is told twice")
	// Once a record is of a later version, nobody guesses what was sent.
	r, err := courier.Read(t.Context(), h.store, "corvane")
	require.NoError(t, err)
	assert.Equal(t, int64(3), r.Counts["board"])
}

func TestNobodyAsksForNoticesNothingIsAsked(t *testing.T) {
	t.Parallel()
	var none *courier.Courier
	none.Look("production")
	none.Configure(project.Config{})
	assert.Empty(t, none.Finish(t.Context(), time.Hour))
	assert.Nil(t, courier.Begin(t.Context(), courier.Options{}))
}

// failing are ways in which the other side fails; each gets a way to mend it.
func TestWhatIsNotTakenWaits(t *testing.T) {
	t.Parallel()
	for name, trouble := range map[string]inbox.Trouble{"refuses": {Refuse: true}, "slow": {Slow: 30 * time.Millisecond}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHarbour(t)
			h.mail.Trouble, h.board.Trouble = trouble, trouble
			first := h.run(2)
			if name == "slow" {
				assert.Len(t, first.Sent, 4)
				return
			}
			assert.Empty(t, first.Sent)
			assert.Equal(t, 4, first.Left)
			assert.Contains(t, first.Problems["board"], "503")
			assert.Contains(t, first.Problems["crew crew@corvane.example"], "451")
			h.mail.Trouble, h.board.Trouble = inbox.Trouble{}, inbox.Trouble{}
			assert.Empty(t, h.run(0).Sent, "a minute was not over")
			options := h.options()
			options.Force = true
			summary := courier.Begin(t.Context(), options).Finish(t.Context(), 5*time.Second)
			assert.Len(t, summary.Sent, 4)
			got, again := titles(h.board)
			assert.Equal(t, []string{"production:1", "production:2"}, got)
			assert.Zero(t, again)
		})
	}
}

func TestWhatIsRefusedForGoodIsGivenUp(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.mail.Trouble.Reject, h.board.Trouble.Reject = true, true
	summary := h.run(2)
	assert.Empty(t, summary.Sent)
	require.Len(t, summary.GivenUp, 4)
	assert.Zero(t, summary.Left)
	for _, done := range summary.GivenUp {
		assert.Regexp(t, "422|550", done.Problem)
	}
}

func TestOneThatIsDownHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // it is over
	go func() {            // it accepts, and says nothing
		var silent []net.Conn
		for {
			conn, err := listener.Accept()
			if err != nil {
				runtime.KeepAlive(silent)
				return
			}
			silent = append(silent, conn)
		}
	}()
	h.config.Mail.Server = "smtp://" + listener.Addr().String()
	began := time.Now()
	c := courier.Begin(t.Context(), h.options())
	h.deploy()
	c.Look("production")
	summary := c.Finish(t.Context(), 200*time.Millisecond)
	assert.Less(t, time.Since(began), 15*time.Second, "patience, and what one attempt may take beyond that")
	assert.Len(t, summary.Sent, 1)
	assert.Equal(t, 1, summary.Left)
	assert.Contains(t, summary.Problems["crew crew@corvane.example"], "not taken within")
	// The turn was given back, so the next one goes on at once.
	r, err := courier.Read(t.Context(), h.store, "corvane")
	require.NoError(t, err)
	assert.True(t, r.Ended)
}

// TestAConnectionThatBreaksAnywhere has a mail server whose connection ends after so many bytes,
// one more each time: wherever it ends, the mail comes in the end, and twice only with the same id.
func TestAConnectionThatBreaksAnywhere(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	server := strings.TrimPrefix(h.config.Mail.Server, "smtp://")
	var most atomic.Int64
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // it is over
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			go cut(near, server, most.Load())
		}
	}()
	h.config.Mail.Server = "smtp://" + listener.Addr().String()
	delete(h.config.Notices, "board")
	options := h.options()
	options.Force = true
	want := 0
	for bytes := int64(0); bytes < 9000; bytes += 1 + rand.Int64N(700) {
		most.Store(bytes)
		want++
		c := courier.Begin(t.Context(), options)
		h.deploy()
		c.Look("production")
		c.Finish(t.Context(), 5*time.Second)
	}
	most.Store(1 << 30)
	summary := courier.Begin(t.Context(), options).Finish(t.Context(), time.Minute)
	require.NoError(t, summary.Err)
	assert.Zero(t, summary.Left)
	ids := map[string]bool{}
	for _, item := range h.mail.Items() {
		ids[item.ID] = true
	}
	assert.Len(t, ids, want)
}

// cut passes a connection on until so many bytes went either way.
func cut(near net.Conn, to string, most int64) {
	defer near.Close() //nolint:errcheck // it ends
	far, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer far.Close() //nolint:errcheck // it ends
	var passed atomic.Int64
	done := make(chan bool, 2)
	pass := func(a, b net.Conn) {
		defer func() { done <- true }()
		buffer := make([]byte, 512)
		for {
			count, err := a.Read(buffer)
			if count = int(min(int64(count), most-passed.Load())); count > 0 {
				passed.Add(int64(count))
				b.Write(buffer[:count]) //nolint:errcheck // the next read says so
			}
			if err != nil || passed.Load() >= most {
				return
			}
		}
	}
	go pass(near, far)
	go pass(far, near)
	<-done
}

// TestGarbage has servers that answer what nobody expects.
func TestGarbage(t *testing.T) {
	t.Parallel()
	for name, says := range map[string]string{"http": "HTTP/1.1 200 OK\r\n\r\n", "zeros": string(make([]byte, 4096)),
		"endless": "220-" + strings.Repeat("x", 1<<20), "nothing": ""} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHarbour(t)
			listener, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer listener.Close() //nolint:errcheck // it is over
			go func() {
				for {
					conn, err := listener.Accept()
					if err != nil {
						return
					}
					// A client that speaks first is heard first: else its answer comes before the question.
					conn.SetReadDeadline(time.Now().Add(100 * time.Millisecond)) //nolint:errcheck // it is open
					conn.Read(make([]byte, 4096))                                //nolint:errcheck // see above
					io.WriteString(conn, says)                                   //nolint:errcheck // as long as somebody reads
					conn.Close()                                                 //nolint:errcheck // it ends
				}
			}()
			h.config.Mail.Server = "smtp://" + listener.Addr().String()
			board := h.config.Notices["board"]
			board.Webhook = "http://" + listener.Addr().String() + "/"
			h.config.Notices["board"] = board
			summary := h.run(1)
			require.NoError(t, summary.Err)
			want := 2
			if name == "http" {
				want = 1 // that is an answer to a webhook
			}
			assert.Equal(t, want, summary.Left)
			assert.Len(t, summary.Problems, want)
		})
	}
}

// TestManyAtOnce has many commands at once, as in CI: one at a time has the turn, and in the end
// everything was told once, in order.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.run(0) // from here on
	var group sync.WaitGroup
	var mutex sync.Mutex
	for range 8 {
		group.Go(func() {
			c := courier.Begin(t.Context(), h.options())
			mutex.Lock()
			h.deploy()
			mutex.Unlock()
			c.Look("production")
			c.Finish(t.Context(), 20*time.Second)
		})
	}
	group.Wait()
	h.run(0)
	got, again := titles(h.board)
	assert.Zero(t, again)
	var want []string
	for n := range 8 {
		want = append(want, fmt.Sprint("production:", n+1))
	}
	assert.Equal(t, want, got)
}

// dying is a store that is gone after so many calls, as it is for a command that is killed.
type dying struct {
	storage.Store
	left atomic.Int64
}

func (d *dying) use() error {
	if d.left.Add(-1) < 0 {
		return storage.ErrUnreachable
	}
	return nil
}

func (d *dying) Get(ctx context.Context, key string) ([]byte, error) {
	if err := d.use(); err != nil {
		return nil, err
	}
	return d.Store.Get(ctx, key)
}

func (d *dying) Create(ctx context.Context, key string, data []byte) error {
	if err := d.use(); err != nil {
		return err
	}
	return d.Store.Create(ctx, key, data)
}

func (d *dying) Replace(ctx context.Context, key string, data []byte) error {
	if err := d.use(); err != nil {
		return err
	}
	return d.Store.Replace(ctx, key, data)
}

// TestKilledAtEachStep ends the courier's store after each number of calls, which is what the store
// sees of a command that is killed there.
func TestKilledAtEachStep(t *testing.T) {
	t.Parallel()
	for calls := range int64(40) {
		h := newHarbour(t)
		h.run(0)
		options := h.options()
		store := &dying{Store: h.store}
		store.left.Store(calls)
		options.Store = store
		c := courier.Begin(t.Context(), options)
		h.deploy()
		h.deploy()
		c.Look("production")
		c.Finish(t.Context(), 100*time.Millisecond)
		// The holder did not say that it ended. Its process is this one, which lives: as if it were
		// of another machine that was silent for long.
		last, err := courier.Read(t.Context(), h.store, "corvane")
		require.NoError(t, err)
		if !last.Ended {
			last.Where = "elsewhere"
			data, err := last.Encode()
			require.NoError(t, err)
			require.NoError(t, h.store.Replace(t.Context(), storage.NoticeKey("corvane", last.Turn), data))
		}
		options = h.options()
		options.Force = true
		options.Now = func() time.Time { return time.Now().Add(time.Minute) }
		summary := courier.Begin(t.Context(), options).Finish(t.Context(), 10*time.Second)
		require.NoError(t, summary.Err, calls)
		assert.Zero(t, summary.Left, calls)
		got, _ := titles(h.board)
		assert.ElementsMatch(t, []string{"production:1", "production:2"}, got, "killed after %d calls", calls)
		mails, _ := titles(h.mail)
		assert.Len(t, mails, 2, "killed after %d calls", calls)
	}
}

func TestCommandsGetTheEventAndNothingElse(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	out := filepath.Join(h.folder, "seen")
	h.config.Notices = map[string]project.Notice{"states": {Secrets: []string{"HOST_TOKEN"},
		Command: "cat > " + out + ".json\nenv > " + out + ".env\ntest \"$ORILLA_ENVIRONMENT\" = production"},
		"fails": {Command: "echo the host says no >&2; exit 3"}}
	summary := h.run(1)
	assert.Len(t, summary.Sent, 1)
	assert.Equal(t, "it ended with status 3: the host says no", summary.Problems["fails"])
	data, err := os.ReadFile(out + ".json")
	require.NoError(t, err)
	var event notices.Event
	require.NoError(t, json.Unmarshal(data, &event))
	assert.Equal(t, "production:1", event.Data.Entry)
	assert.NotContains(t, string(data), "token-of-the-host")
	environment, err := os.ReadFile(out + ".env")
	require.NoError(t, err)
	assert.Contains(t, string(environment), "HOST_TOKEN=token-of-the-host")
	assert.NotContains(t, string(environment), secret)
}

func TestWhatIsMissingIsSaid(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.config.Mail.User = "FERRY_USER"
	board := h.config.Notices["board"]
	board.Secret = "NOT_SET"
	h.config.Notices["board"] = board
	var lacks []string
	for _, to := range courier.Recipients(h.options()) {
		lacks = append(lacks, to.Lacks)
	}
	assert.Equal(t, []string{"NOT_SET is not set here", "FERRY_USER is not set here"}, lacks)
	summary := h.run(1)
	assert.Equal(t, "NOT_SET is not set here", summary.Problems["board"])
	assert.Equal(t, 2, summary.Left, "another machine may have it")
}

// TestMailIsNotSentInTheClear has a server that offers no TLS at an address that is not of this
// machine: a password, and what happened, stay here.
func TestMailIsNotSentInTheClear(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	folder := t.TempDir()
	authority, err := certificates.OpenAuthority(folder)
	require.NoError(t, err)
	pair, err := authority.For("localhost")
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	box := &inbox.Box{}
	go box.ServeMail(t.Context(), listener, inbox.Mail{Certificate: pair, User: "ferry", Password: "p"}) //nolint:errcheck // until the end
	h.config.Mail.Server = "smtp://" + listener.Addr().String()
	h.config.Mail.User, h.config.Mail.Password = "FERRY_USER", "FERRY_PASSWORD"
	options := h.options()
	options.Lookup = func(name string) (string, bool) {
		return map[string]string{"FERRY_USER": "ferry", "FERRY_PASSWORD": "p"}[name], true
	}
	err = courier.Try(t.Context(), options, "crew crew@corvane.example", "a test")
	require.Error(t, err)
	assert.Contains(t, err.Error(), "certificate", "one that nobody vouches for is not believed")
	assert.Empty(t, box.Items())
}

// TestRedirectsAreNotFollowed: what is signed for one address goes to no other.
func TestRedirectsAreNotFollowed(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("it was followed") }))
	defer other.Close()
	first := httptest.NewServer(http.RedirectHandler(other.URL, http.StatusTemporaryRedirect))
	defer first.Close()
	board := h.config.Notices["board"]
	board.Webhook = first.URL
	h.config.Notices["board"] = board
	err := courier.Try(t.Context(), h.options(), "board", "a test")
	assert.EqualError(t, err, "it answered 307 Temporary Redirect")
}

// TestTheTurnOfOneThatIsGone is taken by the next one; that of one that is there is not.
func TestTheTurnOfOneThatIsGone(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	first := courier.Begin(t.Context(), h.options())
	require.Eventually(t, func() bool {
		r, err := courier.Read(t.Context(), h.store, "corvane")
		return err == nil && r != nil
	}, 30*time.Second, time.Millisecond)
	second := courier.Begin(t.Context(), h.options()).Finish(t.Context(), 600*time.Millisecond)
	assert.True(t, second.Busy)
	assert.Empty(t, second.Sent)
	h.deploy()
	first.Look("production")
	assert.Len(t, first.Finish(t.Context(), 5*time.Second).Sent, 2)

	r, err := courier.Read(t.Context(), h.store, "corvane")
	require.NoError(t, err)
	r.Ended, r.Process = false, 1<<30 // a process that is not there
	data, err := r.Encode()
	require.NoError(t, err)
	require.NoError(t, h.store.Replace(t.Context(), storage.NoticeKey("corvane", r.Turn), data))
	assert.Len(t, h.run(1).Sent, 2)
	count := 0
	for _, err := range h.store.List(t.Context(), storage.NoticesKey("corvane")) {
		require.NoError(t, err)
		count++
	}
	assert.LessOrEqual(t, count, 2, "turns that are over are removed")
}

// TestOneThatLastsLearnsWhoIsTold is a follower whose production branch says something else now.
func TestOneThatLastsLearnsWhoIsTold(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	full := h.config
	h.config.Notices = nil
	options := h.options()
	options.Lasting = true
	c := courier.Begin(t.Context(), options)
	h.deploy()
	c.Look("production")
	c.Configure(full)
	require.Eventually(t, func() bool {
		r, err := courier.Read(t.Context(), h.store, "corvane")
		return err == nil && r != nil && len(r.Queues) == 2
	}, 30*time.Second, time.Millisecond)
	h.deploy()
	c.Look("production")
	require.Eventually(t, func() bool { return len(h.mail.Items()) >= 1 && len(h.board.Items()) >= 1 }, 30*time.Second,
		time.Millisecond)
	summary := c.Finish(t.Context(), time.Second)
	assert.Zero(t, summary.Left)
}

// reader is a store in which somebody has no right to write what was sent: one whose rights were
// given before there were notices.
type reader struct{ storage.Store }

func (r reader) Create(_ context.Context, key string, _ []byte) error {
	return &storage.Error{Store: "store", Op: "create", Key: key, Err: storage.ErrDenied}
}

func TestWhoMayNotWriteIsToldSo(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	options := h.options()
	options.Store = reader{h.store}
	c := courier.Begin(t.Context(), options)
	h.deploy()
	c.Look("production")
	summary := c.Finish(t.Context(), 300*time.Millisecond)
	require.ErrorIs(t, summary.Err, storage.ErrDenied)
	assert.Empty(t, summary.Sent)
	assert.NotEmpty(t, h.run(1).Sent, "whoever may begins")
}

// TestOneThatLastsHearsOfOthers: what somebody else does meanwhile is told at once, and not with the
// next look.
func TestOneThatLastsHearsOfOthers(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	options := h.options()
	options.Lasting = true
	c := courier.Begin(t.Context(), options)
	h.deploy()
	c.Look("production")
	require.Eventually(t, func() bool { return len(h.board.Items()) == 1 }, 30*time.Second, time.Millisecond)
	h.deploy()
	journal.Hints{}.Pulse(t.Context(), h.store, journal.Entry{Site: "corvane", Environment: "production", Number: 2})
	require.Eventually(t, func() bool { return len(h.board.Items()) == 2 }, 15*time.Second, time.Millisecond)
	assert.Zero(t, c.Finish(t.Context(), time.Second).Left)
}
