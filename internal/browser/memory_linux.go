package browser

import (
	"bytes"
	"os"
	"os/exec"
	"strconv"
	"syscall"
	"time"

	"orilla.example/orilla/internal/process"
)

// watchEvery is how often it is looked how much memory the browser uses.
const watchEvery = 200 * time.Millisecond

// A bound of the kernel would be better, and needs control groups that most users cannot make.
// Looking five times a second bounds what a page can take to what it can take in a fifth of a
// second.

// watch ends the page that uses the most memory when the browser uses too much: a page may ask for any
// amount. If that does not help, it ends the browser.
func (b *Browser) watch() {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	helped := 0
	for {
		select {
		case <-b.ended:
			return
		case <-tick.C:
		}
		pids := append(process.Descendants(b.command.Process.Pid, nil), b.command.Process.Pid)
		// What processes share counts for each of them, in a figure that costs little; then it is looked at.
		if process.UsageOf(pids).Memory < b.options.Memory || process.MemoryOf(pids) < b.options.Memory {
			helped = 0
			continue
		}
		if helped++; helped > 3 || !b.endLargest(pids) {
			b.fail(ErrMemory)
			end(b.command)
			return
		}
	}
}

// The page whose process is the largest is mostly to blame, and the others go on.

// endLargest ends the page's process that uses the most memory, and reports whether there was one.
func (b *Browser) endLargest(pids []int) bool {
	largest, most := 0, int64(0)
	for _, pid := range pids {
		line, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline")
		if err != nil || !bytes.Contains(line, []byte("--type=renderer")) {
			continue
		}
		if memory := process.UsageOf([]int{pid}).Memory; memory > most {
			largest, most = pid, memory
		}
	}
	if largest == 0 {
		return false
	}
	// The page that dies next dies of this.
	for _, t := range b.tabs.Range {
		t.(*tab).mutex.Lock()
		t.(*tab).heavy = true
		t.(*tab).mutex.Unlock()
	}
	syscall.Kill(largest, syscall.SIGKILL) //nolint:errcheck // it may have ended
	return true
}

// end ends a browser with all its processes.
func end(command *exec.Cmd) {
	below := process.Descendants(command.Process.Pid, nil) // before they are somebody else's
	syscall.Kill(-command.Process.Pid, syscall.SIGKILL)    //nolint:errcheck // it may have ended
	for _, pid := range below {
		syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // see above
	}
}
