package process

import (
	"os"

	"golang.org/x/sys/unix"
)

// Harden keeps other processes of this user from reading this one: its memory
// cannot be looked at or dumped (prctl(2), PR_SET_DUMPABLE), and the copy of
// its environment that the system shows under /proc is wiped. os.Getenv goes on
// to work, for it reads a copy of its own. It is called once, before anything
// is started. Root may read everything, whatever this does.
//
// Children whose keeper died become this process's (PR_SET_CHILD_SUBREAPER), so
// that they can be found and ended.
func Harden() {
	unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})    //nolint:errcheck // the next line forbids dumps too
	wipeEnvironment()                                   // before the file is closed to us
	unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)        //nolint:errcheck // there since Linux 2.3
	unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) //nolint:errcheck // there since Linux 3.4
}

// wipeEnvironment overwrites the strings that the system put on the stack of
// this process when it began: env_start to env_end, fields 50 and 51 of
// /proc/PID/stat, proc_pid_stat(5).
func wipeEnvironment() {
	const mostEver = 8 << 20

	fields := statOf(os.Getpid())
	start, end := int64(fieldOf(fields, 47)), int64(fieldOf(fields, 48))
	if start <= 0 || end <= start || end-start > mostEver {
		return
	}

	memory, err := os.OpenFile("/proc/self/mem", os.O_WRONLY, 0)
	if err != nil {
		return
	}
	defer memory.Close()                           //nolint:errcheck // nothing is buffered
	memory.WriteAt(make([]byte, end-start), start) //nolint:errcheck // PR_SET_DUMPABLE protects it too
}
