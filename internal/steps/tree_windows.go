package steps

import (
	"os/exec"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// processTree holds a step and all that it starts in a job object. Windows ends
// what is in a job when the last handle to it is closed, and closes the handles
// of a process that dies: so nothing outlives a builder, however it ended.
//
// https://learn.microsoft.com/windows/win32/procthread/job-objects
type processTree struct {
	job windows.Handle // 0 if there is none: then only the step itself is ended
}

// resumeProcess lets a process run that was started suspended. It is what
// debuggers use; the documented way needs the handle of its first thread, which
// os/exec does not keep.
var resumeProcess = windows.NewLazySystemDLL("ntdll.dll").NewProc("NtResumeProcess")

// prepare makes the job. The step is started suspended, so that it has no child
// before it is in there.
func prepare(step *exec.Cmd, _ string) *processTree {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return &processTree{}
	}
	limits := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	limits.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	_, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation,
		uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits)))
	if err != nil {
		windows.CloseHandle(job) //nolint:errcheck // nothing is in it
		return &processTree{}
	}

	step.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_SUSPENDED}
	return &processTree{job}
}

// guard puts the step into the job, and lets it run.
func (p *processTree) guard(step *exec.Cmd) {
	if p.job == 0 {
		return
	}

	access := uint32(windows.PROCESS_SET_QUOTA | windows.PROCESS_TERMINATE | windows.PROCESS_SUSPEND_RESUME)
	handle, err := windows.OpenProcess(access, false, uint32(step.Process.Pid))
	if err != nil {
		step.Process.Kill() //nolint:errcheck // it would wait for ever
		return
	}
	defer windows.CloseHandle(handle) //nolint:errcheck // only a handle

	// Without the job its children would be out of reach, but it can run.
	if windows.AssignProcessToJobObject(p.job, handle) != nil {
		p.release()
	}
	if status, _, _ := resumeProcess.Call(uintptr(handle)); status != 0 {
		step.Process.Kill() //nolint:errcheck // it would wait for ever
	}
}

// end ends a step with all that it has started.
func (p *processTree) end(step *exec.Cmd) {
	if p.job == 0 || windows.TerminateJobObject(p.job, 1) != nil {
		step.Process.Kill() //nolint:errcheck // gone already is fine
	}
}

// release lets go of the job, and ends what is still in it.
func (p *processTree) release() {
	if p.job != 0 {
		windows.CloseHandle(p.job) //nolint:errcheck // only a handle
		p.job = 0
	}
}

// EndStrays does nothing: what a killed builder had started ended with it.
func EndStrays(string) {}

// stillActive is the exit status of a process that has none yet.
const stillActive = 259

// Alive reports whether a process of this machine is there.
func Alive(process int) bool {
	handle, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(process))
	if err != nil {
		return err == windows.ERROR_ACCESS_DENIED //nolint:errorlint // a number of the system
	}
	defer windows.CloseHandle(handle) //nolint:errcheck // only a handle
	var status uint32
	return windows.GetExitCodeProcess(handle, &status) != nil || status == stillActive
}
