package processes_test

import (
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/processes"
)

func TestWhatIsStartedIsEnded(t *testing.T) {
	g := processes.Group{Logs: t.TempDir()}
	var all []*processes.Process
	for _, name := range []string{"one", "two"} {
		p, err := g.Start(name, os.Environ(), "sleep", "300")
		require.NoError(t, err)
		all = append(all, p)
		group, err := syscall.Getpgid(p.Pid())
		require.NoError(t, err)
		assert.Equal(t, p.Pid(), group, "a Ctrl-C at the terminal does not reach it")
	}
	require.NoError(t, all[0].Signal(syscall.SIGSTOP), "one that stands still is ended as well")
	assert.Empty(t, g.Dead())
	require.NoError(t, g.End())
	for _, p := range all {
		assert.ErrorIs(t, syscall.Kill(p.Pid(), 0), syscall.ESRCH, "process %d is still there", p.Pid())
	}
	require.NoError(t, g.End(), "ending nothing is no error")
}

func ended(t *testing.T, p *processes.Process) {
	t.Helper()
	select {
	case <-p.Ended():
	case <-time.After(time.Minute):
		require.Fail(t, "it did not end")
	}
}

func TestAProcessThatEndsByItselfIsNamed(t *testing.T) {
	g := processes.Group{Logs: t.TempDir()}
	p, err := g.Start("brief", []string{"PATH=" + os.Getenv("PATH")}, "sh", "-c", "echo it said something; exit 3")
	require.NoError(t, err)
	ended(t, p)
	assert.Equal(t, "brief", g.Dead())
	require.NoError(t, p.Again())
	ended(t, p)
	said, err := os.ReadFile(g.Log("brief"))
	require.NoError(t, err)
	assert.Equal(t, "it said something\nit said something\n", string(said))
	require.NoError(t, g.End())
	_, err = g.Start("none", nil, "/no/such/program")
	require.Error(t, err)
	assert.Empty(t, g.Dead())
}

func TestWhatIsKilledIsStartedAgain(t *testing.T) {
	g := processes.Group{Logs: t.TempDir()}
	p, err := g.Start("long", os.Environ(), "sleep", "300")
	require.NoError(t, err)
	first := p.Pid()
	require.NoError(t, p.Kill())
	require.NoError(t, p.Kill(), "it is gone")
	require.NoError(t, p.Again())
	assert.NotEqual(t, first, p.Pid())
	require.NoError(t, g.End())
}
