package cgroup

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func put(t *testing.T, path, text string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func TestOwnGroupIsFound(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	self := put(t, filepath.Join(folder, "cgroup"), "4:memory:/elsewhere\n0::/agents.slice/rotanex.service\n")
	for mounts, want := range map[string]string{
		"29 23 0:26 / /sys/fs/cgroup rw,nosuid shared:4 - cgroup2 cgroup2 rw\n":                                                    "/sys/fs/cgroup/agents.slice/rotanex.service",
		"30 23 0:27 / /sys/fs/cgroup/cpu rw - cgroup cgroup rw,cpu\n31 23 0:28 / /sys/fs/cgroup/unified rw - cgroup2 cgroup2 rw\n": "/sys/fs/cgroup/unified/agents.slice/rotanex.service",
		"29 23 0:26 /agents.slice /sys/fs/cgroup rw - cgroup2 cgroup2 rw\n":                                                        "/sys/fs/cgroup/rotanex.service",
		"30 23 0:27 / /sys/fs/cgroup/cpu rw - cgroup cgroup rw,cpu\n":                                                              "",
		"": "",
	} {
		assert.Equal(t, want, of(put(t, filepath.Join(folder, "mountinfo"), mounts), self), mounts)
	}
	assert.Empty(t, of(filepath.Join(folder, "mountinfo"), put(t, filepath.Join(folder, "old"), "4:memory:/\n")))
}

// made makes a group, or skips the test where the system does not let anybody.
func made(t *testing.T, owner string, n int64) Group {
	t.Helper()
	g, err := Make(Own(), owner, n)
	if err != nil {
		t.Skipf("no control group may be made here: %v", err)
	}
	t.Cleanup(g.Remove)
	return g
}

// sleeper starts a process in a group that starts another, out of its session.
func sleeper(t *testing.T, g Group) *exec.Cmd {
	t.Helper()
	folder, err := g.Open()
	require.NoError(t, err)
	defer func() { _ = folder.Close() }()
	cmd := exec.Command("sh", "-c", "setsid sleep 600 & exec sleep 600")
	cmd.SysProcAttr = &syscall.SysProcAttr{UseCgroupFD: true, CgroupFD: int(folder.Fd())}
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return len(g.Members()) == 2 }, 30*time.Second, time.Millisecond)
	return cmd
}

func TestAGroupIsStoppedAndKilledAsOne(t *testing.T) {
	t.Parallel()
	g := made(t, "test", 1)
	cmd := sleeper(t, g)
	require.NoError(t, g.Stand(true))
	frozen := func() bool {
		data, err := os.ReadFile(filepath.Join(g.folder, "cgroup.events"))
		require.NoError(t, err)
		return strings.Contains(string(data), "frozen 1")
	}
	require.Eventually(t, frozen, 30*time.Second, time.Millisecond)
	require.NoError(t, g.Stand(false))
	require.Eventually(t, func() bool { return !frozen() }, 30*time.Second, time.Millisecond)
	require.NoError(t, g.Stand(true), "it can be killed while it stands")
	g.Kill()
	require.Error(t, cmd.Wait())
	g.Remove()
	assert.NoDirExists(t, g.folder)
	g.Remove()
}

// What an agent left that is not there any more is ended by the next with its state; what one that is there has, is not.
func TestLeftGroupsAreSwept(t *testing.T) {
	t.Parallel()
	ours := made(t, "swept", 2)
	dead := exec.Command("true")
	require.NoError(t, dead.Run())
	gone := At(filepath.Join(Own(), prefix("swept")+strconv.Itoa(dead.Process.Pid)+"-1"))
	require.NoError(t, os.Mkdir(gone.folder, 0o755))
	t.Cleanup(gone.Remove)
	cmd := sleeper(t, gone)
	Sweep(Own(), "swept")
	require.Error(t, cmd.Wait(), "it was killed")
	assert.NoDirExists(t, gone.folder)
	assert.DirExists(t, ours.folder)
	Sweep(Own(), "other")
	assert.DirExists(t, ours.folder)
}
