package process

import (
	"bytes"
	"os"
	"strconv"
)

// statOf returns the fields of /proc/PID/stat behind the name: the state first,
// then the parent; see proc_pid_stat(5). nil if there is no such process.
func statOf(pid int) [][]byte {
	data, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return nil
	}
	at := bytes.LastIndex(data, []byte(") ")) // a name may hold brackets
	if at < 0 {
		return nil
	}
	return bytes.Fields(data[at+2:])
}

// parentOf returns the number of a process's parent; 0 if it is gone (proc(5),
// field 4 of stat).
func parentOf(pid int) int { return fieldOf(statOf(pid), 1) }

// fieldOf reads a number from the fields of /proc/PID/stat; 0 if it is not
// there.
func fieldOf(fields [][]byte, i int) int {
	if len(fields) <= i {
		return 0
	}
	n, _ := strconv.Atoi(string(fields[i]))
	return n
}

// Usage is what some processes take.
type Usage struct {
	Memory int64 // resident, in bytes; what several share counts for each
	Tasks  int   // processes and threads
}

// MemoryOf adds up the memory of processes so that what several share counts
// once (Pss in proc_pid_smaps(5)). It takes much longer than UsageOf. Of a
// process that does not let itself be looked at, all counts.
func MemoryOf(pids []int) int64 {
	total := int64(0)
	for _, pid := range pids {
		data, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/smaps_rollup")
		_, rest, found := bytes.Cut(data, []byte("\nPss:"))
		fields := bytes.Fields(rest)
		if err != nil || !found || len(fields) == 0 {
			total += UsageOf([]int{pid}).Memory
			continue
		}
		kilobytes, _ := strconv.ParseInt(string(fields[0]), 10, 64)
		total += kilobytes << 10
	}
	return total
}

// UsageOf adds up what processes take. Those that have
// ended meanwhile count nothing.
func UsageOf(pids []int) (usage Usage) {
	page := int64(os.Getpagesize())
	for _, pid := range pids {
		fields := statOf(pid) // num_threads is field 20, rss 24; the name and the number before it are two
		usage.Tasks += fieldOf(fields, 17)
		usage.Memory += int64(fieldOf(fields, 21)) * page
	}
	return usage
}
