package encoder

import "golang.org/x/sys/windows"

// yield gives this process the lowest priority.
func yield() {
	//nolint:errcheck // then it works as others do
	windows.SetPriorityClass(windows.CurrentProcess(), windows.IDLE_PRIORITY_CLASS)
}
