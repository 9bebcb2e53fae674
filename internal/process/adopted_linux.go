package process

import (
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// EndAdopted ends children of this process that it did not start, and what is
// below them: what a build step left behind after it had killed the keeper that
// would have ended it. It gives up after some seconds: a process that waits for
// a disk that is gone does not die.
func EndAdopted() {
	started.Lock() // nobody is started meanwhile
	defer started.Unlock()

	for deadline := time.Now().Add(5 * time.Second); time.Now().
		Before(deadline); time.Sleep(2 * time.Millisecond) {
		left := Descendants(os.Getpid(), Known)
		if len(left) == 0 {
			return
		}
		for _, pid := range left {
			unix.Kill(pid, unix.SIGKILL) //nolint:errcheck // gone already is fine
		}
		letGo(left)
	}
}

// ReapAdopted lets go of children that this process did not start and that have
// ended, such as what Git leaves in the background.
func ReapAdopted() {
	started.Lock()
	defer started.Unlock()

	letGo(Descendants(os.Getpid(), Known))
}

// letGo waits for those of some processes that are children and have ended.
func letGo(pids []int) {
	for _, pid := range pids {
		var status unix.WaitStatus
		unix.Wait4(pid, &status, unix.WNOHANG, nil) //nolint:errcheck // a grandchild is nobody to wait for
	}
}

// Descendants returns the processes that descend from one, children before
// grandchildren, leaving out those below what skip names; nil skips none.
// Zombies count: they are there until somebody waits for them.
func Descendants(of int, skip func(pid int) bool) []int {
	below := map[int][]int{}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}

	for _, entry := range entries {
		pid, err := strconv.Atoi(entry.Name())
		if err != nil {
			continue
		}
		if parent := parentOf(pid); parent > 0 {
			below[parent] = append(below[parent], pid)
		}
	}

	var found []int
	for queue := []int{of}; len(queue) > 0; queue = queue[1:] {
		for _, pid := range below[queue[0]] {
			if skip != nil && skip(pid) {
				continue
			}
			found = append(found, pid)
			queue = append(queue, pid)
		}
	}

	return found
}
