package tree

import (
	"os"
	"os/exec"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
)

// A job object holds all that the renderer starts; what is in it ends when the last handle of it is closed, as it is when the
// agent dies.

func (*handle) command(s Spec) (*exec.Cmd, error) {
	program, err := exec.LookPath(s.Program)
	if err != nil {
		return nil, err
	}
	return exec.Command(program, s.Args...), nil
}

func (*handle) grouped() bool { return false }

func said(err error, _ *os.ProcessState) error { return err }

type handle struct {
	mu  sync.Mutex
	job windows.Handle
}

// take puts a process that has just begun into a job: what it started before that is not in it.
func (h *handle) take(pid int) error {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return err
	}
	h.job = job
	var limits windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION
	limits.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	if _, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&limits)), uint32(unsafe.Sizeof(limits))); err != nil {
		return err
	}
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(pid))
	if err != nil {
		return err
	}
	defer func() { _ = windows.CloseHandle(process) }()
	return windows.AssignProcessToJobObject(job, process)
}

func (h *handle) kill(*os.Process) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.job != 0 {
		_ = windows.TerminateJobObject(h.job, 1)
	}
}

func (h *handle) release(int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.job != 0 {
		_ = windows.CloseHandle(h.job)
		h.job = 0
	}
}

// stand says that it cannot: the system has no documented way to hold a process.
func (h *handle) stand(int, bool) bool { return false }

func (h *handle) members(pid int) []int { return append(below(pid), pid) }

func peakOf(*os.ProcessState) int64 { return 0 }
