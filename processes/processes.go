// Package processes starts programs, may kill, stop and start them again, and ends them all.
package processes

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Group is programs that were started and that will be ended. What they say is kept in files of a folder.
type Group struct {
	Logs string

	mu  sync.Mutex
	all []*Process
}

// Process is one of them.
type Process struct {
	Name string

	group       *Group
	environment []string
	program     string
	args        []string

	mu    sync.Mutex
	cmd   *exec.Cmd
	ended chan struct{}
}

// Log is the file of what a program says.
func (g *Group) Log(name string) string { return filepath.Join(g.Logs, name+".log") }

// Start starts a program in a process group of its own, so that a Ctrl-C at the
// terminal reaches only us and we end things in order. Its output goes to a file.
func (g *Group) Start(name string, environment []string, program string, args ...string) (*Process, error) {
	p := &Process{Name: name, group: g, environment: environment, program: program, args: args}
	if err := errors.Join(os.MkdirAll(g.Logs, 0o755), p.start(os.O_TRUNC)); err != nil {
		return nil, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.all = append(g.all, p)
	return p, nil
}

func (p *Process) start(how int) error {
	log, err := os.OpenFile(p.group.Log(p.Name), os.O_CREATE|os.O_WRONLY|how, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(p.program, p.args...)
	cmd.Env, cmd.Stdout, cmd.Stderr = p.environment, log, log
	// Should we be killed without a chance to end it, the kernel asks it to end.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("%s: %w", p.Name, err)
	}
	ended := make(chan struct{})
	p.mu.Lock()
	p.cmd, p.ended = cmd, ended
	p.mu.Unlock()
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	return nil
}

func (p *Process) now() (*exec.Cmd, chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.cmd, p.ended
}

// Pid is the process's id.
func (p *Process) Pid() int {
	cmd, _ := p.now()
	return cmd.Process.Pid
}

// Ended is closed when it has ended.
func (p *Process) Ended() <-chan struct{} {
	_, ended := p.now()
	return ended
}

// Signal sends it a signal; that it has ended is no error.
func (p *Process) Signal(s os.Signal) error {
	cmd, _ := p.now()
	if err := cmd.Process.Signal(s); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	return nil
}

// Kill ends it without a word, and returns when it is gone.
func (p *Process) Kill() error {
	err := p.Signal(syscall.SIGKILL)
	<-p.Ended()
	return err
}

// Again starts it as it was started, once it has ended. What it says follows what it said.
func (p *Process) Again() error { return p.start(os.O_APPEND) }

// Dead names a process that ended by itself, or "".
func (g *Group) Dead() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, p := range g.all {
		select {
		case <-p.Ended():
			return p.Name
		default:
		}
	}
	return ""
}

// goodbye is how long a process may take to end when asked to.
const goodbye = 10 * time.Second

// End ends all processes, the last started first: agents before the service.
func (g *Group) End() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	var faults []error
	for _, p := range slices.Backward(g.all) {
		_ = p.Signal(syscall.SIGCONT)
		_ = p.Signal(syscall.SIGTERM)
	}
	limit := time.After(goodbye)
	for _, p := range slices.Backward(g.all) {
		select {
		case <-p.Ended():
		case <-limit:
			faults = append(faults, fmt.Errorf("%s did not end by itself and was killed", p.Name), p.Kill())
		}
	}
	g.all = nil
	return errors.Join(faults...)
}

// Forget takes a variable out of what it is started with again.
func (p *Process) Forget(variable string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.environment = slices.DeleteFunc(slices.Clone(p.environment), func(e string) bool { return strings.HasPrefix(e, variable+"=") })
}
