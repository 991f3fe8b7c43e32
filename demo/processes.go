package demo

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"time"
)

// processes are programs that were started and that will be ended.
type processes struct{ all []*process }

type process struct {
	name  string
	cmd   *exec.Cmd
	ended chan struct{}
}

func (p *processes) log(state, name string) string { return filepath.Join(state, "logs", name+".log") }

// start starts a program in a process group of its own, so that a Ctrl-C at the
// terminal reaches only us and we end things in order. Its output goes to a file.
func (p *processes) start(state, name string, environment []string, program string, args ...string) error {
	path := p.log(state, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	log, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(program, args...)
	cmd.Env, cmd.Stdout, cmd.Stderr = environment, log, log
	// Should we be killed without a chance to end it, the kernel asks it to end.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	own := &process{name, cmd, make(chan struct{})}
	p.all = append(p.all, own)
	go func() {
		_ = cmd.Wait()
		close(own.ended)
	}()
	return nil
}

// dead names a process that ended by itself, or "".
func (p *processes) dead() string {
	for _, x := range p.all {
		select {
		case <-x.ended:
			return x.name
		default:
		}
	}
	return ""
}

// goodbye is how long a process may take to end when asked to.
const goodbye = 10 * time.Second

// end ends all processes, the last started first: agents before the service.
func (p *processes) end() error {
	var faults []error
	for _, x := range slices.Backward(p.all) {
		_ = x.cmd.Process.Signal(syscall.SIGTERM)
	}
	limit := time.After(goodbye)
	for _, x := range slices.Backward(p.all) {
		select {
		case <-x.ended:
		case <-limit:
			faults = append(faults, fmt.Errorf("%s did not end by itself and was killed", x.name))
			_ = x.cmd.Process.Kill()
			<-x.ended
		}
	}
	p.all = nil
	return errors.Join(faults...)
}
