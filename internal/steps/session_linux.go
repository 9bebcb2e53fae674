package steps

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/sandbox"
)

// Session runs the steps of one build, one after the other. What they start
// ends before Run returns. It is not safe for concurrent use.
type Session struct {
	options Options
	keeper  *exec.Cmd
	orders  io.WriteCloser
	reports chan report
	output  *os.File // of all that the steps print
	pasta   *exec.Cmd
	failed  error // why it cannot run anything
	ready   bool
	closed  sync.Once
}

// ownProgram is this very program, also after somebody has put a newer one in
// its place (proc_pid_exe(5)).
const ownProgram = "/proc/self/exe"

// startTime is how long a keeper may take to be there, on a busy machine.
const startTime = 30 * time.Second

// Open starts a session; it gets ready while others go on.
// Close must be called.
func Open(o Options) (*Session, error) {
	if !canKeep.Load() {
		return nil, errors.New("this program runs builds, and does not call steps.KeeperIfAsked first")
	}
	var err error
	s := &Session{options: o, reports: make(chan report, 4)}
	// By /proc/self/exe: an upgrade that replaces the program meanwhile does
	// not change what is started.
	//nolint:noctx // it ends when the pipe to it closes, in its own order
	s.keeper = exec.Command(ownProgram, KeeperArgument)
	if o.Cell != nil && o.Cell.Outside {
		s.keeper.Args = append(s.keeper.Args, networkArgument)
	}

	s.keeper.Env = append(process.Environment(), idName+"="+o.ID)
	s.keeper.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for the builder alone

	if s.orders, err = s.keeper.StdinPipe(); err != nil {
		return nil, err
	}
	// Two pipes: what steps print must not be able to look like a report of the
	// keeper.
	printed, into, err := os.Pipe()
	if err != nil {
		return nil, err
	}

	said, say, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, printed.Close(), into.Close())
	}
	s.output, s.keeper.Stdout, s.keeper.Stderr, s.keeper.ExtraFiles = printed, into, into, []*os.File{say}
	err = process.Start(s.keeper)
	into.Close() //nolint:errcheck // the keeper has it
	say.Close()  //nolint:errcheck // the keeper has it
	if err != nil {
		return nil, errors.Join(err, printed.Close(), said.Close())
	}

	go func() { // ends with the keeper
		defer close(s.reports)
		defer said.Close() //nolint:errcheck // read to its end
		for decoder := json.NewDecoder(said); ; {
			var r report
			if decoder.Decode(&r) != nil {
				return
			}
			s.reports <- r
		}
	}()

	with := setup{Bounds: o.Bounds, Folders: o.Folders}
	if o.Cell != nil && o.Cell.Outside {
		with.Closed = sandbox.Closed(ownAddresses())
	}
	if err := s.send(with); err != nil {
		s.Close()
		return nil, err
	}

	return s, nil
}

// ownAddresses are the addresses of this machine's interfaces: an isolated
// build reaches none of them, public or not.
func ownAddresses() []netip.Addr {
	var found []netip.Addr
	all, _ := net.InterfaceAddrs()
	for _, one := range all {
		if network, ok := one.(*net.IPNet); ok {
			if address, ok := netip.AddrFromSlice(network.IP); ok {
				found = append(found, address.Unmap())
			}
		}
	}
	return found
}

// send gives the keeper an order.
func (s *Session) send(message any) error { return json.NewEncoder(s.orders).Encode(message) }

// errKeeper: the keeper is gone, or says what no keeper says.
var errKeeper = errors.New("the process that runs the build steps is gone")

// hear waits for what the keeper says next.
func (s *Session) hear(ctx context.Context) (report, error) {
	select {
	case r, ok := <-s.reports:
		if !ok {
			return r, errKeeper
		}
		if r.Error != "" && !r.Ended {
			return r, errors.New(r.Error)
		}
		return r, nil
	case <-ctx.Done():
		return report{}, ctx.Err()
	}
}

// Wait returns once the session is ready to run steps.
func (s *Session) Wait(ctx context.Context) error {
	if s.ready || s.failed != nil {
		return s.failed
	}
	limited, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()

	there, err := s.hear(limited)
	if err == nil && s.options.Cell != nil && s.options.Cell.Outside {
		err = s.connect(there.Process)
	}
	if err == nil {
		_, err = s.hear(limited)
	}

	s.ready, s.failed = err == nil, err
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// connect starts pasta for the keeper's network namespace.
// It ends when that does.
func (s *Session) connect(keeper int) error {
	line := sandbox.Connect(s.options.Means.Pasta, strconv.Itoa(keeper), os.Getuid() == 0)
	s.pasta = exec.Command(line[0], line[1:]...) //nolint:noctx // it ends with the keeper
	s.pasta.Env = process.Environment()
	s.pasta.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := process.Start(s.pasta); err != nil {
		s.pasta = nil
		return fmt.Errorf("pasta: %w", err)
	}
	return nil
}

// Run runs one command in a folder, and writes all that it and its children
// print to out. The error says why it could not be run, or is an *OverError;
// exit is -1 if a signal ended it.
func (s *Session) Run(ctx context.Context, command []string, folder string, environment []string,
	out io.Writer,
) (exit int, err error) {
	if err := s.Wait(ctx); err != nil {
		return -1, err
	}
	if cell := s.options.Cell; cell != nil {
		command, folder = s.isolated(*cell, command, folder)
	}

	if err := s.send(order{Command: command, Folder: folder,
		Environment: append(environment[:len(environment):len(environment)],
			idName+"="+s.options.ID)}); err != nil {
		return -1, s.lost()
	}

	// A step may have left a process that holds the pipe open, so copying is
	// ended by a deadline and not by the pipe's end.
	copied := make(chan struct{})
	go func() {
		defer close(copied)
		io.Copy(out, s.output) //nolint:errcheck // it is ended by a deadline
	}()

	done, err := s.hear(ctx)
	if ctx.Err() != nil {
		s.send(order{Stop: true}) //nolint:errcheck // a keeper that is gone is found below
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience+time.Second)
		done, err = s.hear(limited)
		cancel()
	}

	s.output.SetReadDeadline(time.Now()) //nolint:errcheck // a pipe has deadlines
	<-copied
	s.output.SetReadDeadline(time.Time{}) //nolint:errcheck // a pipe has deadlines
	s.drain(out)

	switch {
	case err != nil:
		return -1, s.lost()
	case done.Alive > 0:
		s.failed = fmt.Errorf("%d processes of the step could not be ended", done.Alive)
		return -1, s.failed
	case done.Over != "":
		return -1, &OverError{What: done.Over}
	case done.Error != "":
		return -1, errors.New(done.Error)
	}

	return done.Exit, nil
}

// lost ends what a keeper that is gone has left behind.
func (s *Session) lost() error {
	s.keeper.Process.Kill() //nolint:errcheck // gone already is fine
	s.failed = errKeeper
	EndStrays(s.options.ID)
	process.EndAdopted()
	return errKeeper
}

// drain reads what is in the pipe. Nobody writes to it any more.
func (s *Session) drain(out io.Writer) {
	raw, err := s.output.SyscallConn()
	if err != nil {
		return
	}
	buffer := make([]byte, 64<<10)

	raw.Read(func(fd uintptr) bool { //nolint:errcheck // there is nothing to wait for
		for {
			n, err := unix.Read(int(fd), buffer)
			if err == unix.EINTR {
				continue
			}
			if n <= 0 {
				return true
			}
			out.Write(buffer[:n]) //nolint:errcheck // its errors are its own affair
		}
	})
}

// isolated returns the command line that runs a command in
// a cell, and the folder to start it in.
func (s *Session) isolated(cell sandbox.Cell, command []string, folder string) (line []string, start string) {
	link := func(path string) string {
		target, _ := os.Readlink(path)
		return target
	}
	there := func(path string) bool {
		_, err := os.Stat(path)
		return err == nil
	}
	return cell.Arguments(s.options.Means.Bubblewrap, cell.Inside(folder), command, link, there), cell.Files
}

// Close ends the session and everything in it.
func (s *Session) Close() {
	s.closed.Do(func() {
		s.orders.Close() //nolint:errcheck // the keeper ends then
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			s.keeper.Wait() //nolint:errcheck // its status says nothing
		}()

		select {
		case <-ended:
		case <-time.After(patience + time.Second):
			s.keeper.Process.Kill() //nolint:errcheck // gone already is fine
			<-ended
			process.EndAdopted()
		}

		process.Done(s.keeper)
		s.output.Close() //nolint:errcheck // read to its end
		if s.pasta != nil {
			s.pasta.Process.Kill() //nolint:errcheck // it ends with the namespace
			s.pasta.Wait()         //nolint:errcheck // its status says nothing
			process.Done(s.pasta)
		}
	})
}
