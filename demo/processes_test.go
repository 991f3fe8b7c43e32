package demo

import (
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsStartedIsEnded(t *testing.T) {
	var p processes
	state := t.TempDir()
	for _, name := range []string{"one", "two"} {
		require.NoError(t, p.start(state, name, os.Environ(), "sleep", "300"))
	}
	var pids []int
	for _, x := range p.all {
		pids = append(pids, x.cmd.Process.Pid)
		group, err := syscall.Getpgid(x.cmd.Process.Pid)
		require.NoError(t, err)
		assert.Equal(t, x.cmd.Process.Pid, group, "a Ctrl-C at the terminal does not reach it")
	}
	assert.Empty(t, p.dead())
	require.NoError(t, p.end())
	for _, pid := range pids {
		assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "process %d is still there", pid)
	}
	require.NoError(t, p.end(), "ending nothing is no error")
}

func TestAProcessThatEndsByItselfIsNamed(t *testing.T) {
	var p processes
	state := t.TempDir()
	require.NoError(t, p.start(state, "brief", []string{"PATH=" + os.Getenv("PATH")}, "sh", "-c", "echo it said something; exit 3"))
	select {
	case <-p.all[0].ended:
	case <-time.After(time.Minute):
		require.Fail(t, "it did not end")
	}
	assert.Equal(t, "brief", p.dead())
	said, err := os.ReadFile(p.log(state, "brief"))
	require.NoError(t, err)
	assert.Equal(t, "it said something\n", string(said))
	require.NoError(t, p.end())
	assert.Error(t, p.start(state, "none", nil, "/no/such/program"))
	assert.Empty(t, p.all)
}

func TestAnAddressIsFree(t *testing.T) {
	first, err := address(0)
	require.NoError(t, err)
	assert.Regexp(t, `^127\.0\.0\.1:\d+$`, first)
}
