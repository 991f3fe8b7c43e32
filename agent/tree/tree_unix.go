//go:build unix && !linux

package tree

import (
	"os"
	"os/exec"
	"runtime"
	"syscall"
)

// Here the renderer's process group is held: one of its processes that leaves the group and whose parent has died is not found
// again, and nothing ends the group when the agent is killed.

func (*handle) command(s Spec) (*exec.Cmd, error) {
	program, err := exec.LookPath(s.Program)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(program, s.Args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return cmd, nil
}

func said(err error, _ *os.ProcessState) error { return err }

type handle struct{}

func (*handle) grouped() bool { return false }

func (*handle) take(int) error { return nil }

func (h *handle) kill(p *os.Process) {
	for _, pid := range below(p.Pid) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	_ = syscall.Kill(-p.Pid, syscall.SIGKILL)
}

// release ends what is left of the group.
func (*handle) release(pid int) { _ = syscall.Kill(-pid, syscall.SIGKILL) }

func (h *handle) stand(pid int, still bool) bool {
	signal := syscall.SIGCONT
	if still {
		signal = syscall.SIGSTOP
	}
	for _, p := range h.members(pid) {
		_ = syscall.Kill(p, signal)
	}
	return true
}

func (*handle) members(pid int) []int { return append(below(pid), pid) }

func peakOf(s *os.ProcessState) int64 {
	usage, ok := s.SysUsage().(*syscall.Rusage)
	switch {
	case !ok:
		return 0
	case runtime.GOOS == "darwin":
		return usage.Maxrss // in bytes there
	}
	return usage.Maxrss * 1024
}
