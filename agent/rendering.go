package agent

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// rendering is a renderer that renders the first leases of a start, up to last.
type rendering struct {
	*start
	launcher launchers.Launcher
	output   string // of one frame, or from which files have their names
	last     *job
	done     func(*rendered)
	opened   map[string]float64 // stages of before the scene was open
}

// run starts the program, reads it and measures it until it ends. The last frame is rendered when it has ended well, those
// before when it says so.
func (p *rendering) run(ctx context.Context, args []string, folder string, frames int) error {
	// The kernel kills the renderer with the thread that started it, should this
	// agent be killed: so the thread is ours until the renderer is gone.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd := exec.CommandContext(ctx, p.launcher.Program, args...)
	cmd.Dir = folder
	cmd.Env = os.Environ()
	for name, value := range p.launcher.Environment {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 2 * time.Second
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer func() { _ = read.Close() }()
	cmd.Stdout, cmd.Stderr = write, write
	p.fresh(frames)
	err = cmd.Start()
	_ = write.Close()
	if err != nil {
		return &failure{api.ResultCauseCannotStart, fmt.Sprintf("%s: %v", p.launcher.Program, err)}
	}
	p.begun(cmd.Process.Pid)
	var reader sync.WaitGroup
	reader.Go(func() { p.read(read) })
	watching, stop := context.WithCancel(ctx)
	var watcher sync.WaitGroup
	var hung atomic.Bool
	watcher.Go(func() {
		p.watch(watching, cmd.Process.Pid, p.launcher.Quiet(), func() { hung.Store(true); _ = cmd.Cancel() })
	})
	if frames > 1 && !p.launcher.Several.Says() {
		watcher.Go(func() { p.lookForFiles(watching) })
	}
	err = cmd.Wait()
	at := time.Now()
	stop()
	watcher.Wait()
	_ = read.SetReadDeadline(time.Now().Add(2 * time.Second)) // a grandchild may hold the pipe
	reader.Wait()
	usage, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	p.ended(usage)
	switch {
	case hung.Load():
		return &failure{api.ResultCauseHung, fmt.Sprintf("%s said nothing for %s and was killed", p.launcher.Name, p.launcher.Quiet())}
	case err != nil:
		return &failure{api.ResultCause(p.launcher.Failure(&p.reading, cmd.ProcessState.ExitCode())), fmt.Sprintf("%s: %v", p.launcher.Name, err)}
	}
	p.finishAll(at)
	return nil
}

// fresh forgets what was known of a process before.
func (p *rendering) fresh(frames int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	p.renderer = renderer{heard: now, began: now, frames: frames, stopped: p.stopped, beside: p.beside, settings: p.settings, conditions: p.conditions}
}

func (p *rendering) read(r io.Reader) {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	lines.Split(lineOrReturn)
	for lines.Scan() {
		p.line(lines.Text())
	}
	_, _ = io.Copy(io.Discard, r) // a line too long to read must not block the renderer
}

// line takes in what the renderer says.
func (p *rendering) line(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	p.launcher.Read(&p.reading, text)
	p.heard = now
	if len(p.left) > 0 {
		p.left[0].progress.Store(int64(p.reading.Progress * 1000))
	}
	if p.opening == 0 && p.shared == 0 && p.launcher.Several != nil && p.launcher.Opens(text) {
		p.opening = (now.Sub(p.began) - p.stood).Seconds() * p.agent.factor
		p.opened = maps.Clone(p.reading.Stages)
	}
	if p.frames < 2 {
		return
	}
	if frame, ok := p.launcher.Several.Finish(text); ok {
		p.finishTo(frame, now)
	}
}

// finishTo takes frames as rendered up to one, 0 being the one in hand. The last one is not among them.
func (p *rendering) finishTo(frame int, at time.Time) {
	upTo := 0
	if frame != 0 {
		upTo = slices.IndexFunc(p.left, func(j *job) bool { return j.Frame == frame })
	}
	for i := 0; i <= upTo && len(p.left) > 0 && p.left[0] != p.last; i++ {
		p.finish(at)
	}
}

// finish takes the frame in hand as rendered. The next is begun, if it is ours still; else the renderer is stopped.
func (p *rendering) finish(at time.Time) {
	j := p.left[0]
	p.left = p.left[1:]
	if p.peak == 0 && p.pid != 0 {
		p.peak = treeMemory(int32(p.pid))
	}
	over := j == p.last || len(p.left) == 0 || p.left[0].gone.Load()
	m := p.measured(at, over)
	p.reading = launchers.Reading{Stages: maps.Clone(p.opened), DevicePeakBytes: p.reading.DevicePeakBytes, Devices: p.reading.Devices}
	p.done(&rendered{job: j, find: func() string { return p.fileOf(j.Frame) }, measured: m})
	if over && j != p.last {
		p.stop()
	}
}

// finishAll takes what is left as rendered, as the renderer ended well.
func (p *rendering) finishAll(at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for slices.Contains(p.left, p.last) {
		p.finish(at)
	}
}

// fileOf is where a frame is: among several by its number.
func (p *rendering) fileOf(frame int) string {
	if p.launcher.Several == nil {
		return p.output
	}
	entries, _ := os.ReadDir(filepath.Dir(p.output))
	for _, e := range entries {
		if n, ok := p.launcher.Several.FrameOf(e.Name()); ok && n == frame {
			return filepath.Join(filepath.Dir(p.output), e.Name())
		}
	}
	if p.frames > 1 {
		return filepath.Join(filepath.Dir(p.output), fmt.Sprintf("no file of frame %d", frame))
	}
	return p.output
}

// lookForFiles takes frames as rendered when there is a file of one behind them, until ctx ends.
func (p *rendering) lookForFiles(ctx context.Context) {
	ticks := time.NewTicker(look / 5)
	defer ticks.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case at := <-ticks.C:
			entries, _ := os.ReadDir(filepath.Dir(p.output))
			p.mu.Lock()
			for i := len(p.left) - 1; i > 0; i-- {
				begun := func(e os.DirEntry) bool {
					n, ok := p.launcher.Several.FrameOf(e.Name())
					return ok && n == p.left[i].Frame
				}
				if slices.ContainsFunc(entries, begun) {
					p.finishTo(p.left[i-1].Frame, at)
					break
				}
			}
			p.mu.Unlock()
		}
	}
}

// lineOrReturn splits at line feeds and at carriage returns, by which renderers
// redraw their progress.
func lineOrReturn(data []byte, atEOF bool) (int, []byte, error) {
	if i := slices.IndexFunc(data, func(b byte) bool { return b == '\n' || b == '\r' }); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}
