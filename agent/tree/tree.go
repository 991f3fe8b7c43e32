// Package tree runs a renderer with all the processes that it starts: what they say and what they use of memory is one thing, and
// none of them outlives the renderer, its lease or the agent.
package tree

import (
	"bufio"
	"io"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// Spec is what to run.
type Spec struct {
	Program     string // looked for on the path
	Args        []string
	Folder      string
	Environment []string // beside the agent's own
	Orders      bool     // it reads its standard input
	// Groups is the folder in which it has a control group of its own, and Owner whose that is: see package cgroup; "": it has none.
	Groups, Owner string
}

// Tree is a renderer that runs.
type Tree struct {
	PID    int            // of the leader of its process group
	Orders io.WriteCloser // its standard input; nil: it has none
	Began  time.Time

	cmd  *exec.Cmd
	own  handle // of this system
	over chan struct{}

	mu    sync.Mutex
	hear  func(line string)
	ended Ended
}

// Ended is how a renderer ended.
type Ended struct {
	At        time.Time
	Exit      int
	Err       error // nil: it ended well
	PeakBytes int64 // of its largest process, as the kernel kept it; 0: it does not
}

const (
	// dies is how long a tree may take to die before the kernel is asked for its root alone.
	dies = 5 * time.Second
	// listens is for how long is heard what somebody says who holds the renderer's output when it is over.
	listens = 2 * time.Second
)

// Start runs a renderer. Each line that it says, on standard output or error, is told to hear, one after another.
func Start(s Spec, hear func(line string)) (*Tree, error) {
	t := &Tree{over: make(chan struct{}), hear: hear}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	var orders *os.File
	if t.cmd, err = t.own.command(s); err == nil && s.Orders {
		orders, t.Orders, err = os.Pipe()
	}
	if err != nil {
		return nil, closed(err, read, write)
	}
	t.cmd.Dir, t.cmd.Stdout, t.cmd.Stderr = s.Folder, write, write
	t.cmd.Env = append(slices.Clone(os.Environ()), s.Environment...)
	if orders != nil {
		t.cmd.Stdin = orders
	}
	started := make(chan error)
	go t.run(read, started)
	err = <-started
	_ = closed(nil, write, orders)
	if err != nil {
		return nil, closed(err, read, t.Orders)
	}
	return t, nil
}

// closed closes what there is of some files.
func closed(err error, all ...io.Closer) error {
	for _, c := range all {
		if f, ok := c.(*os.File); ok && f != nil {
			_ = f.Close()
		}
	}
	return err
}

// run holds the thread that starts the renderer until that is over: the kernel ends it with its parent, which is that thread.
func (t *Tree) run(read *os.File, started chan<- error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	t.Began = time.Now()
	err := t.cmd.Start()
	if err == nil {
		t.PID = t.cmd.Process.Pid
		if err = t.own.take(t.PID); err != nil {
			_ = t.cmd.Process.Kill()
			_ = t.cmd.Wait()
		}
	}
	started <- err
	if err != nil {
		t.own.release(t.PID)
		return
	}
	var reader sync.WaitGroup
	reader.Go(func() { t.read(read) })
	err = t.cmd.Wait()
	at := time.Now()
	t.own.release(t.PID)
	_ = read.SetReadDeadline(time.Now().Add(listens))
	reader.Wait()
	_ = closed(nil, read, t.Orders)
	t.mu.Lock()
	t.ended = Ended{At: at, Exit: t.cmd.ProcessState.ExitCode(), Err: said(err, t.cmd.ProcessState), PeakBytes: peakOf(t.cmd.ProcessState)}
	t.mu.Unlock()
	close(t.over)
}

func (t *Tree) read(r io.Reader) {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	lines.Split(lineOrReturn)
	for lines.Scan() {
		t.mu.Lock()
		hear := t.hear
		t.mu.Unlock()
		hear(lines.Text())
	}
	_, _ = io.Copy(io.Discard, r) // a line too long to read must not block the renderer
}

// Hear has what is said from now on told to another.
func (t *Tree) Hear(hear func(line string)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.hear = hear
}

// Over is closed once none of its processes is left and all that they said was heard.
func (t *Tree) Over() <-chan struct{} { return t.over }

// Ended is how it ended, once it is over.
func (t *Tree) Ended() Ended {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ended
}

// Kill ends all of its processes, and returns when they have.
func (t *Tree) Kill() {
	t.own.kill(t.cmd.Process)
	select {
	case <-t.over:
	case <-time.After(dies):
		_ = t.cmd.Process.Kill()
		<-t.over
	}
}

// Close lets a renderer that reads orders end by itself, within a time, and kills it else.
func (t *Tree) Close(within time.Duration) {
	_ = closed(nil, t.Orders)
	select {
	case <-t.over:
	case <-time.After(within):
		t.Kill()
	}
}

// Grouped reports whether it has a control group of its own.
func (t *Tree) Grouped() bool { return t.own.grouped() }

// Stand lets all of its processes stand still, or go on, and says whether this system can.
func (t *Tree) Stand(still bool) bool { return t.own.stand(t.PID, still) }

// Memory is what all of its processes hold of the host's memory now, in bytes.
func (t *Tree) Memory() (sum int64) {
	for _, pid := range t.own.members(t.PID) {
		p, err := process.NewProcess(int32(pid))
		if err != nil {
			continue // it has ended
		}
		if info, err := p.MemoryInfo(); err == nil {
			sum += int64(info.RSS)
		}
	}
	return sum
}

// lineOrReturn splits at line feeds and at carriage returns, by which renderers redraw their progress.
func lineOrReturn(data []byte, atEOF bool) (int, []byte, error) {
	if i := slices.IndexFunc(data, func(b byte) bool { return b == '\n' || b == '\r' }); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}
