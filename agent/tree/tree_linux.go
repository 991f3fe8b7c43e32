package tree

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"rotanex.example/agent/cgroup"
)

// A process whose parent died becomes the child of whoever is asked for by the kernel: a keeper, between the agent and the
// renderer, is that for the renderer's. So all that the renderer ever started is below its keeper, however it was started, and is
// killed when the renderer ends, when the agent says so, and when the agent dies. Where there are control groups, the renderer and
// all that it starts are in one, but not the keeper: they are killed at once, and also where it is the keeper that is killed.

// keeper is the name under which this program, started again, is a keeper of the program that its arguments name.
const keeper = "rotanex-renderer-keeper"

func init() {
	if len(os.Args) > 2 && os.Args[0] == keeper {
		os.Exit(keep(os.Args[1] == inGroup, os.Args[2], os.Args[3:]))
	}
}

// handle is how a tree is held: by its keeper, which tells on a pipe why the renderer could not be started, or closes it; and by its
// control group.
type handle struct {
	told, tells *os.File
	group       *cgroup.Group
	folder      *os.File // of the group, as the keeper has it
}

// groups counts those that this process has made.
var groups atomic.Int64

func (h *handle) command(s Spec) (*exec.Cmd, error) {
	program, err := exec.LookPath(s.Program)
	if err != nil {
		return nil, err
	}
	if h.told, h.tells, err = os.Pipe(); err != nil {
		return nil, err
	}
	cmd := exec.Command("/proc/self/exe") // also where the agent's file was replaced since
	cmd.ExtraFiles = []*os.File{h.tells}
	where := "alone"
	if h.makeGroup(s) {
		where, cmd.ExtraFiles = inGroup, append(cmd.ExtraFiles, h.folder)
	}
	cmd.Args = append([]string{keeper, where, program}, s.Args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	return cmd, nil
}

// makeGroup makes the renderer's control group, if it may.
func (h *handle) makeGroup(s Spec) bool {
	if s.Groups == "" {
		return false
	}
	g, err := cgroup.Make(s.Groups, s.Owner, groups.Add(1))
	if err != nil {
		return false
	}
	if h.folder, err = g.Open(); err != nil {
		g.Remove()
		return false
	}
	h.group = &g
	return true
}

func (h *handle) grouped() bool { return h.group != nil }

// tellsFD is a keeper's end of the pipe, groupFD the folder of the renderer's control group, which it has where it is told inGroup.
const (
	tellsFD = 3
	groupFD = 4
	inGroup = "in-group"
)

// take waits until the keeper has started the renderer.
func (h *handle) take(int) error {
	_ = closed(nil, h.tells, h.folder)
	why, err := io.ReadAll(h.told)
	if err == nil && len(why) > 0 {
		err = errors.New(string(why))
	}
	return err
}

func (h *handle) release(int) {
	_ = closed(nil, h.told, h.tells, h.folder)
	if h.group != nil {
		h.group.Remove() // also of what its keeper left, if that was killed
	}
}

// signalled is what a keeper's exit status is above, as shells have it, for a program that a signal ended.
const signalled = 128

// said is the error of a program that its keeper tells of.
func said(err error, s *os.ProcessState) error {
	if signal := s.ExitCode() - signalled; err != nil && signal > 0 && signal < 65 {
		return fmt.Errorf("%w (%s)", err, syscall.Signal(signal))
	}
	return err
}

// keep runs a program and returns its exit status once nothing is left of what it started.
func keep(grouped bool, program string, args []string) int {
	runtime.LockOSThread() // the program ends with the thread that started it
	over := make(chan os.Signal, 1)
	signal.Notify(over, syscall.SIGTERM, syscall.SIGINT)
	syscall.CloseOnExec(tellsFD)
	tells := os.NewFile(tellsFD, "tells")
	var group *cgroup.Group
	if grouped {
		syscall.CloseOnExec(groupFD)
		folder, _ := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", groupFD))
		g := cgroup.At(folder)
		group = &g
	}
	cmd, err := (*exec.Cmd)(nil), unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
	if err == nil {
		cmd, err = begin(grouped, program, args)
	}
	if err != nil {
		_, _ = tells.WriteString(err.Error())
		return 1
	}
	_ = tells.Close()
	// What was written is read by the renderer alone: once the agent closes it, it is closed.
	_ = os.Stdin.Close()
	ended := make(chan int)
	go func() { ended <- reap(cmd.Process.Pid) }()
	status := signalled + int(syscall.SIGKILL) // as all of it is, then
	select {
	case <-over:
	case status = <-ended:
	}
	if group != nil {
		group.Kill()
	}
	killBelow(os.Getpid())
	if group != nil {
		group.Remove()
	}
	return status
}

// begin starts the program, in the control group if it may be started there.
func begin(grouped bool, program string, args []string) (*exec.Cmd, error) {
	command := func(in bool) *exec.Cmd {
		cmd := exec.Command(program, args...)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, UseCgroupFD: in, CgroupFD: groupFD}
		return cmd
	}
	if grouped {
		if cmd := command(true); cmd.Start() == nil {
			return cmd, nil
		}
	}
	cmd := command(false)
	return cmd, cmd.Start()
}

// reap takes in all children that end until one has, and returns its exit status.
func reap(pid int) int {
	for {
		var status syscall.WaitStatus
		which, err := syscall.Wait4(-1, &status, 0, nil)
		switch {
		case which == pid && status.Signaled():
			return signalled + int(status.Signal())
		case which == pid:
			return status.ExitStatus()
		case err != nil && err != syscall.EINTR:
			return 1
		}
	}
}

// killBelow kills what descends from a process until nothing does: what one starts as it is killed is there the next time.
func killBelow(pid int) {
	for until := time.Now().Add(dies); time.Now().Before(until); time.Sleep(2 * time.Millisecond) {
		all := below(pid)
		if len(all) == 0 {
			return
		}
		for _, p := range all {
			_ = syscall.Kill(p, syscall.SIGKILL)
		}
	}
}

// below lists all that descend from a process and have not ended.
func below(pid int) (out []int) {
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	children := map[int][]int{}
	ended := map[int]bool{}
	for _, stat := range stats {
		data, err := os.ReadFile(stat)
		if err != nil {
			continue
		}
		text := string(data) // its second field, the name, may have anything in it
		fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:])
		own, _ := strconv.Atoi(filepath.Base(filepath.Dir(stat)))
		if len(fields) > 1 {
			parent, _ := strconv.Atoi(fields[1])
			children[parent], ended[own] = append(children[parent], own), fields[0] == "Z" || fields[0] == "X"
		}
	}
	for next := children[pid]; len(next) > 0; next = append(next[1:], children[next[0]]...) {
		if !ended[next[0]] {
			out = append(out, next[0])
		}
	}
	return out
}

func (*handle) kill(p *os.Process) { _ = p.Signal(syscall.SIGTERM) }

func (h *handle) stand(pid int, still bool) bool {
	if h.group != nil && h.group.Stand(still) == nil && len(h.group.Members()) > 0 {
		return true
	}
	signal := syscall.SIGCONT
	if still {
		signal = syscall.SIGSTOP
	}
	// Not the keeper, which must hear of the end. What one starts before it is told is there the second time.
	for range 2 {
		for _, p := range below(pid) {
			_ = syscall.Kill(p, signal)
		}
	}
	return true
}

// members are all but the keeper.
func (h *handle) members(pid int) []int {
	if h.group != nil {
		if all := h.group.Members(); len(all) > 0 {
			return all
		}
	}
	return below(pid)
}

func peakOf(s *os.ProcessState) int64 {
	if usage, ok := s.SysUsage().(*syscall.Rusage); ok {
		return usage.Maxrss * 1024
	}
	return 0
}
