package steps

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/sandbox"
)

// A build's steps are run by a process of their own, the keeper: this program,
// started with KeeperArgument. Whatever a step starts stays below the keeper,
// for orphans become its children (prctl(2), PR_SET_CHILD_SUBREAPER), however
// they detach themselves. So the keeper can end all of them, and says that a
// step has ended only when nothing of it is left. It ends all, and itself, when
// the pipe that it reads its orders from is closed: that is what the system
// does when the builder dies.
//
//	builder --orders--> keeper --starts--> step, or bwrap that runs the step
//	builder <-reports-- keeper
//	builder <-----------what all of them print
//
// For a way to the network the keeper starts itself once more in a network
// namespace of its own, says its number, and waits until pasta, which the
// builder starts, has put an interface there. It then closes every address but
// public ones, and only then takes orders.

// KeeperArgument is the argument with which this program
// is a keeper and nothing else.
const KeeperArgument = "internal:keeper"

// networkArgument follows it where the keeper is to have a network namespace.
const networkArgument = "network"

// insideArgument follows it once it has.
const insideArgument = "inside"

// setup is the first thing that a keeper reads.
type setup struct {
	Bounds  sandbox.Bounds `json:"bounds"`
	Folders []string       `json:"folders"` // whose files count for Bounds.Disk
	Closed  []netip.Prefix `json:"closed"`  // addresses that nothing may reach
}

// order asks a keeper to run one command, or to end the one that runs.
type order struct {
	Command     []string `json:"command,omitempty"`
	Folder      string   `json:"folder,omitempty"`
	Environment []string `json:"environment,omitempty"`
	Stop        bool     `json:"stop,omitempty"`
}

// report is what a keeper says: once that it is there, once that it takes
// orders, and then how each command ended.
type report struct {
	Process int    `json:"process,omitempty"` // its number
	Ready   bool   `json:"ready,omitempty"`
	Ended   bool   `json:"ended,omitempty"`
	Exit    int    `json:"exit"`            // the status; -1 if a signal ended it
	Over    string `json:"over,omitempty"`  // the bound that it was ended for: "memory", "processes", "disk"
	Alive   int    `json:"alive,omitempty"` // how many of its processes could not be ended
	Error   string `json:"error,omitempty"`
}

// canKeep says that this program checks whether it is to be a keeper. One that
// does not would begin anew with all that it does, and so on.
var canKeep atomic.Bool

// keeperReports is the file descriptor that a keeper reports on.
const keeperReports = 3

// KeeperIfAsked runs a keeper if the arguments of this program ask for one, and
// ends the program then. Programs that build call it before anything else, the
// tests of packages that do so too.
func KeeperIfAsked() {
	// Set by the program's main function. A test binary that does not call this
	// cannot be its own keeper.
	canKeep.Store(true)
	if len(os.Args) < 2 || os.Args[1] != KeeperArgument {
		return
	}
	unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) //nolint:errcheck // there since Linux 3.4
	what := ""
	if len(os.Args) > 2 {
		what = os.Args[2]
	}

	if what == networkArgument {
		os.Exit(keepInNetwork())
	}
	os.Exit(keep(what == insideArgument))
}

// keepInNetwork starts the keeper again in a network namespace of its own, and
// ends what is left when that ends.
func keepInNetwork() int {
	pid, err := syscall.ForkExec(ownProgram, []string{ownProgram, KeeperArgument, insideArgument},
		&syscall.ProcAttr{
			Env: os.Environ(), Files: []uintptr{0, 1, 2, keeperReports},
			Sys: &syscall.SysProcAttr{
				Cloneflags:  syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET,
				UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}},
				GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}},
			},
		})
	if err != nil {
		return tell(report{Error: "a network namespace: " + err.Error()})
	}

	for {
		ended, err := syscall.Wait4(-1, nil, 0, nil)
		if ended == pid || err != nil && err != syscall.EINTR {
			break
		}
	}
	endAll()
	return 0
}

// tell reports, and returns the status to end with if nobody hears it.
func tell(r report) int {
	line, err := json.Marshal(r)
	if err != nil {
		return 1
	}
	if _, err := unix.Write(keeperReports, append(line, '\n')); err != nil {
		return 1
	}
	return 0
}

// keep takes orders until there are no more.
func keep(network bool) int {
	// Orders come through a pipe. When the builder dies, however it dies, the
	// pipe closes, and everything that it started is ended.
	orders := json.NewDecoder(os.Stdin)
	var with setup
	if orders.Decode(&with) != nil {
		return 1
	}

	// The number is told before the network is closed, since pasta is attached
	// to it from outside.
	tell(report{Process: os.Getpid()})
	if network {
		if err := closeNetwork(with.Closed); err != nil {
			return tell(report{Error: err.Error()})
		}
	}

	//nolint:errcheck // steps of the same user could read what others are told
	unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
	tell(report{Ready: true})

	next := make(chan order)
	go func() { // lives as long as the process
		defer close(next)
		for {
			var o order
			if orders.Decode(&o) != nil {
				return
			}
			next <- o
		}
	}()

	for o := range next {
		if o.Stop {
			continue // it came too late
		}
		if tell(with.run(o, next)) != 0 {
			break
		}
	}
	endAll()
	return 0
}

// run runs a command until it ends, the builder wants it
// to, or it takes more than it may.
func (with setup) run(o order, next <-chan order) report {
	null, err := os.Open(os.DevNull)
	if err != nil {
		return report{Ended: true, Exit: -1, Error: err.Error()}
	}
	defer null.Close() //nolint:errcheck // read only
	// A process group of its own, so that Ctrl-C at the terminal reaches the
	// builder and not the step: the builder decides what ends.
	pid, err := syscall.ForkExec(o.Command[0], o.Command, &syscall.ProcAttr{Dir: o.Folder, Env: o.Environment,
		Files: []uintptr{null.Fd(), 1, 1},
		Sys:   &syscall.SysProcAttr{Setpgid: true}})
	if err != nil {
		return report{Ended: true, Exit: -1, Error: err.Error()}
	}

	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	// Room for one, so that the watcher can end although nobody listens any
	// more.
	over := make(chan string, 1)
	go func() {
		if what := watch(ctx, with); what != "" {
			over <- what
		}
	}()

	ended := make(chan syscall.WaitStatus, 1)
	go func() { ended <- waitFor(pid) }() // it reaps all that end meanwhile, so nobody else may

	var status syscall.WaitStatus
	var again <-chan time.Time // set once the command is to end
	exceeded := ""
	for running := true; running; {
		select {
		case status = <-ended:
			running = false
		case exceeded = <-over:
			again = time.After(0)
		case _, more := <-next: // a stop, or the builder is gone
			if !more {
				next = nil
			}
			again = time.After(0)
		case <-again:
			// Again and again: what forks while it is killed leaves children
			// that the first look did not see.
			killOnce()
			again = time.After(2 * time.Millisecond)
		}
	}

	cancel()

	done := report{Ended: true, Exit: -1, Over: exceeded, Alive: endAll()}
	if status.Exited() {
		done.Exit = status.ExitStatus()
	}
	return done
}

// waitFor waits until a child ends, and lets go of others that end meanwhile.
func waitFor(pid int) syscall.WaitStatus {
	for {
		var status syscall.WaitStatus
		switch ended, err := syscall.Wait4(-1, &status, 0, nil); {
		case ended == pid:
			return status
		case err != nil && err != syscall.EINTR:
			return syscall.WaitStatus(unix.SIGKILL) // nobody knows how it ended: not well
		}
	}
}

// patience is how long processes may take to die. One that
// waits for a disk that is gone does not.
const patience = 10 * time.Second

// endAll ends everything that descends from this process, and returns how many
// processes could not be ended. Who has no child has no descendant, for orphans
// become its children: in the usual case one question to the system tells.
func endAll() int {
	// A process can be beyond signals for a while, in a system call that waits
	// for a disk. It is told then, and not waited for.
	for deadline := time.Now().Add(patience); ; time.Sleep(2 * time.Millisecond) {
		if reap() {
			return 0
		}
		killOnce()
		if reap() {
			return 0
		}

		if time.Now().After(deadline) {
			return len(process.Descendants(os.Getpid(), nil))
		}
	}
}

// killOnce kills what descends from this process now. What
// is being forked may be missed.
func killOnce() {
	for _, pid := range process.Descendants(os.Getpid(), nil) {
		unix.Kill(pid, unix.SIGKILL) //nolint:errcheck // gone already is fine
	}
}

// reap lets go of children that have ended, and reports
// whether there is no other.
func reap() bool {
	for {
		var status syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &status, syscall.WNOHANG, nil)
		if err == syscall.ECHILD {
			return true
		}
		if pid <= 0 && err != syscall.EINTR {
			return false
		}
	}
}

// watchEvery is how often the bounds are looked at.
const watchEvery = 200 * time.Millisecond

// watch looks at what the processes take, and returns the bound that they are
// over: "memory", "processes" or "disk"; "" once the context ends.
func watch(ctx context.Context, with setup) string {
	bounds := with.Bounds
	if bounds == (sandbox.Bounds{}) {
		return ""
	}
	room := &diskWatch{folders: with.Folders, most: bounds.Disk}
	for {
		select {
		case <-ctx.Done():
			return ""
		case <-time.After(watchEvery):
		}

		pids := process.Descendants(os.Getpid(), nil)
		usage := process.UsageOf(pids)
		switch {
		case bounds.Tasks > 0 && usage.Tasks > bounds.Tasks:
			return "processes"
		case bounds.Memory > 0 && usage.Memory > bounds.Memory && process.MemoryOf(pids) > bounds.Memory:
			// the cheaper look first
			return "memory"
		case room.over(ctx):
			return "disk"
		}
	}
}

// diskWatch adds up what lies in folders, now and then:
// the larger they are, the less often.
type diskWatch struct {
	folders []string
	most    int64
	next    time.Time
}

// mostEntries is how many files and folders count as too
// much on the disk, whatever their size.
const mostEntries = 2_000_000

// over reports whether the folders take more than they may. Measuring takes
// longer the more there is, so it is done less often then.
func (w *diskWatch) over(ctx context.Context) bool {
	began := time.Now()
	if w.most == 0 || began.Before(w.next) {
		return false
	}
	bytes, entries := int64(0), 0
	for _, folder := range w.folders {
		//nolint:errcheck // it may change meanwhile
		filepath.WalkDir(folder, func(_ string, entry fs.DirEntry, err error) error {
			if err != nil || ctx.Err() != nil {
				return ctx.Err()
			}
			entries++

			if info, err := entry.Info(); err == nil {
				if stat, ok := info.Sys().(*syscall.Stat_t); ok {
					bytes += stat.Blocks * 512
				}
			}

			if bytes > w.most || entries > mostEntries {
				return fs.SkipAll
			}
			return nil
		})
		if free, known := FreeSpace(folder); known && free < leastRoom {
			return true
		}
	}
	w.next = time.Now().Add(max(watchEvery, 10*time.Since(began)))
	return bytes > w.most || entries > mostEntries
}

// leastRoom is what an untrusted build leaves of a disk: others need it too.
const leastRoom = 100 << 20

// closeNetwork waits until this network namespace has a way out, and closes
// every address that a build must not reach. Rules on destinations come before
// all routes but that of this namespace's own addresses (ip-rule(8)).
func closeNetwork(closed []netip.Prefix) error {
	if err := waitForRoute(); err != nil {
		return err
	}
	if len(closed) == 0 {
		return errors.New("nothing says which addresses are to be closed")
	}

	for _, prefix := range closed {
		rule := netlink.NewRule()
		rule.Priority, rule.Type, rule.Family = 10, unix.FR_ACT_UNREACHABLE, netlink.FAMILY_V4
		if prefix.Addr().Is6() {
			rule.Family = netlink.FAMILY_V6
		}

		destination, err := netlink.ParseIPNet(prefix.String())
		if err != nil {
			return err
		}
		rule.Dst = destination
		err = netlink.RuleAdd(rule)
		if rule.Family == netlink.FAMILY_V6 && errors.Is(err, unix.EAFNOSUPPORT) {
			continue // a system without IPv6 reaches nothing by it
		}
		if err != nil && !errors.Is(err, unix.EEXIST) {
			return fmt.Errorf("closing %s: %w", prefix, err)
		}
	}

	return nil
}

// waitForRoute waits until pasta has made its interface and a route.
func waitForRoute() error {
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(2 * time.Millisecond) {
		links, err := netlink.LinkList()
		if err != nil {
			return fmt.Errorf("looking for the network: %w", err)
		}
		for _, link := range links {
			if link.Attrs().Name == "lo" {
				continue
			}
			routes, err := netlink.RouteList(link, netlink.FAMILY_ALL)
			if err == nil && len(routes) > 0 && link.Attrs().OperState != netlink.OperDown {
				return nil
			}
		}

		if time.Now().After(deadline) {
			return errors.New("pasta made no interface within 5 s")
		}
	}
}
