package e2e

import (
	"context"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/stock"
	"rotanex.example/service/testdb"
)

// program is a real process of ours, for tests that kill one.
type program struct {
	t   testing.TB
	cmd *exec.Cmd
	log string
}

func launch(t testing.TB, name string, args ...string) *program {
	t.Helper()
	p := &program{t: t, log: filepath.Join(t.TempDir(), name+".log")}
	log, err := os.Create(p.log)
	require.NoError(t, err)
	defer func() { _ = log.Close() }()
	p.cmd = exec.Command(filepath.Join(bin, name), args...)
	p.cmd.Stdout, p.cmd.Stderr = log, log
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	require.NoError(t, p.cmd.Start())
	t.Cleanup(func() {
		if p.cmd.ProcessState == nil {
			p.stop()
		}
		if t.Failed() {
			said, _ := os.ReadFile(p.log)
			t.Logf("%s said:\n%s", name, said)
		}
	})
	return p
}

// kill is kill -9.
func (p *program) kill() {
	p.t.Helper()
	require.NoError(p.t, p.cmd.Process.Kill())
	_ = p.cmd.Wait()
}

// stop asks the program to end and waits until it has.
func (p *program) stop() {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	done := make(chan struct{})
	go func() {
		_ = p.cmd.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(testdb.Patience):
		p.t.Errorf("%s did not end when asked to", p.cmd.Path)
		_ = p.cmd.Process.Kill()
	}
}

func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().String()
}

// served is a house whose service is a process of its own, on a clock that runs
// twenty times as fast as life.
type served struct {
	house
	listen string
}

const servedFactor = "20"

func newServed(t testing.TB, databaseURL string, more ...string) (*served, *program) {
	t.Helper()
	s := &served{house: house{t: t, database: databaseURL, blobs: t.TempDir()}, listen: freePort(t)}
	s.address = "http://" + s.listen
	return s, s.serve(more...)
}

// serve starts the service's process and waits until it is ready.
func (s *served) serve(more ...string) *program {
	s.t.Helper()
	p := s.launch(more...)
	s.ready(p)
	return p
}

// launch starts the service's process.
func (s *served) launch(more ...string) *program {
	return launch(s.t, "rotanex-service", append([]string{
		"--database-url", s.database, "--blobs", s.blobs, "--listen", s.listen,
		"--key-file", filepath.Join(s.blobs, "secrets.key"), "--clock-start", "2031-03-07T18:00:00Z", "--clock-factor", servedFactor,
	}, more...)...)
}

// ready waits until it is.
func (s *served) ready(p *program) {
	s.t.Helper()
	testdb.Until(s.t, "the service to be ready", func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.address+"/readyz", nil)
		require.NoError(s.t, err)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return false
		}
		_ = answer.Body.Close()
		return answer.StatusCode == http.StatusOK
	})
	if s.token == "" {
		said, err := os.ReadFile(p.log)
		require.NoError(s.t, err)
		s.token = firstToken(string(said))
		require.NotEmpty(s.t, s.token)
	}
}

// agentProcess starts a host's agent as a process. A second start with the same
// folder goes on with the credential that is there.
func (h *house) agentProcess(spec stock.Host, folder, scenes string, more ...string) *program {
	h.t.Helper()
	machine := filepath.Join(folder, "machine.yaml")
	data, err := yaml.Marshal(map[string]any{"hosts": []stock.Host{spec}})
	require.NoError(h.t, err)
	require.NoError(h.t, os.WriteFile(machine, data, 0o600))
	args := []string{"--service", h.address, "--host", spec.Name, "--state-dir", folder, "--scenes", scenes, "--allow", "simulated", "--simulate", machine}
	if _, err := os.Stat(filepath.Join(folder, "credential.json")); err != nil {
		args = append(args, "--join-token", h.joinToken(spec.Name))
	}
	return launch(h.t, "rotanex-agent", append(args, more...)...)
}
