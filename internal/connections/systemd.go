package connections

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
)

// firstInherited is the first file that a service manager hands over
// (sd_listen_fds(3)).
const firstInherited = 3

// Socket is a listening socket that was handed over, with the name that it was given
// (FileDescriptorName= of systemd.socket(5)).
type Socket struct {
	net.Listener
	Name string
}

// Inherited returns the listening sockets that systemd, or whoever does as it does,
// has opened for this process (LISTEN_FDS); none if it has not. It may be called
// once: what it takes is not left for children.
func Inherited() ([]Socket, error) {
	pid, fds := os.Getenv("LISTEN_PID"), os.Getenv("LISTEN_FDS")
	names := strings.Split(os.Getenv("LISTEN_FDNAMES"), ":")
	for _, name := range []string{"LISTEN_PID", "LISTEN_FDS", "LISTEN_FDNAMES"} {
		os.Unsetenv(name) //nolint:errcheck // the names are good
	}
	if pid != strconv.Itoa(os.Getpid()) || fds == "" {
		return nil, nil
	}
	count, err := strconv.Atoi(fds)
	if err != nil || count < 1 {
		return nil, fmt.Errorf("LISTEN_FDS is %q, not a number of sockets", fds)
	}

	var sockets []Socket
	for fd := firstInherited; fd < firstInherited+count; fd++ {
		// FileListener takes a copy, which no child inherits.
		file := os.NewFile(uintptr(fd), "LISTEN_FD_"+strconv.Itoa(fd))
		listener, err := net.FileListener(file)
		file.Close() //nolint:errcheck // the copy counts
		if err != nil {
			return nil, fmt.Errorf("socket %d of LISTEN_FDS: %w", fd, err)
		}
		name := ""
		if at := fd - firstInherited; at < len(names) {
			name = names[at]
		}
		sockets = append(sockets, Socket{listener, name})
	}
	return sockets, nil
}

// Notify tells the service manager something (sd_notify(3)), such as READY=1. Where
// there is none, it does nothing.
func Notify(state string) error {
	path := os.Getenv("NOTIFY_SOCKET")
	if path == "" {
		return nil
	}
	// An @ stands for an abstract socket, which net knows by the same sign.
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		return err
	}
	defer c.Close() //nolint:errcheck // a datagram was sent or not
	_, err = c.Write([]byte(state))
	return err
}

// NotifyReloading tells the service manager that the configuration is read again;
// READY=1 follows.
func NotifyReloading() {
	//nolint:errcheck // nobody listens
	Notify(fmt.Sprintf("RELOADING=1\nMONOTONIC_USEC=%d", monotonic()))
}
