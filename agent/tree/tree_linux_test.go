package tree_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/cgroup"
	"rotanex.example/agent/tree"
)

// heard is what a tree said.
type heard struct {
	mu    sync.Mutex
	lines []string
	more  chan struct{}
}

func newHeard() *heard { return &heard{more: make(chan struct{}, 1000)} }

func (h *heard) hear(line string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.lines = append(h.lines, line)
	h.more <- struct{}{}
}

// line waits for one.
func (h *heard) line(t *testing.T) string {
	t.Helper()
	select {
	case <-h.more:
	case <-time.After(30 * time.Second):
		require.FailNow(t, "it says nothing")
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	line := h.lines[0]
	h.lines = h.lines[1:]
	return line
}

// lives reports whether a process is there and has not ended.
func lives(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !strings.Contains(string(data), ") Z ")
}

func gone(t *testing.T, pid int) {
	t.Helper()
	require.Eventually(t, func() bool { return !lives(pid) }, 30*time.Second, 5*time.Millisecond)
}

// lost starts a grandchild that leaves its session and its environment, and whose parent ends.
const lost = `(env -i setsid sh -c "echo \$\$; exec sleep 600" &) ; `

// ways are how a tree is held: by its keeper alone, and by a control group as well.
func ways(t *testing.T, each func(t *testing.T, s tree.Spec)) {
	t.Run("by its keeper", func(t *testing.T) {
		t.Parallel()
		each(t, tree.Spec{})
	})
	t.Run("in a group", func(t *testing.T) {
		t.Parallel()
		g, err := cgroup.Make(cgroup.Own(), "probe"+strconv.Itoa(rand.IntN(1e9)), 1)
		if err != nil {
			t.Skipf("no control group may be made here: %v", err)
		}
		g.Remove()
		each(t, tree.Spec{Groups: cgroup.Own(), Owner: "tree"})
	})
}

func TestNothingOutlivesItsRenderer(t *testing.T) {
	t.Parallel()
	ways(t, nothingOutlives)
}

func nothingOutlives(t *testing.T, of tree.Spec) {
	for name, end := range map[string]struct {
		script string
		kill   bool
	}{"that ended well": {lost + "sleep 0.2", false}, "that was killed": {lost + "exec sleep 600", true}, "that crashed": {lost + "sleep 0.2; kill -SEGV $$", false}} {
		h := newHeard()
		of.Program, of.Args = "sh", []string{"-c", end.script}
		x, err := tree.Start(of, h.hear)
		require.NoError(t, err, name)
		assert.Equal(t, of.Groups != "", x.Grouped())
		pid, err := strconv.Atoi(h.line(t))
		require.NoError(t, err)
		if end.kill {
			assert.True(t, lives(pid))
			x.Kill()
		}
		<-x.Over()
		assert.False(t, lives(pid), name)
	}
}

// Also where it is the keeper that is killed, of a renderer that has a group.
func TestNothingOutlivesAKeeperThatIsKilled(t *testing.T) {
	t.Parallel()
	ways(t, func(t *testing.T, s tree.Spec) {
		if s.Groups == "" {
			t.Skip("what its parent left is not found then")
		}
		h := newHeard()
		s.Program, s.Args = "sh", []string{"-c", lost + "exec sleep 600"}
		x, err := tree.Start(s, h.hear)
		require.NoError(t, err)
		pid, err := strconv.Atoi(h.line(t))
		require.NoError(t, err)
		require.NoError(t, syscall.Kill(x.PID, syscall.SIGKILL))
		<-x.Over()
		assert.False(t, lives(pid))
		left, _ := filepath.Glob(filepath.Join(s.Groups, fmt.Sprintf("rotanex-tree-%d-*", os.Getpid())))
		for _, folder := range left { // others' of this test run may be there
			assert.NotContains(t, cgroup.At(folder).Members(), pid)
		}
	})
}

// TestDyingAgent is an agent that is killed, for the test below.
func TestDyingAgent(t *testing.T) {
	if os.Getenv("ROTANEX_DYING") == "" {
		t.Skip("it is started by another test")
	}
	_, err := tree.Start(tree.Spec{Program: "sh", Args: []string{"-c", lost + "exec sleep 600"}, Groups: os.Getenv("ROTANEX_DYING_IN"), Owner: "dying"}, func(line string) { fmt.Println("pid", line) })
	require.NoError(t, err)
	select {}
}

func TestNothingOutlivesAnAgentThatIsKilled(t *testing.T) {
	t.Parallel()
	ways(t, nothingOutlivesItsAgent)
}

func nothingOutlivesItsAgent(t *testing.T, s tree.Spec) {
	cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run", "^TestDyingAgent$")
	cmd.Env = append(os.Environ(), "ROTANEX_DYING=1", "ROTANEX_DYING_IN="+s.Groups)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	pid := 0
	for lines := bufio.NewScanner(out); pid == 0 && lines.Scan(); {
		_, _ = fmt.Sscanf(lines.Text(), "pid %d", &pid)
	}
	require.True(t, lives(pid))
	require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
	_ = cmd.Wait()
	gone(t, pid)
	require.Eventually(t, func() bool {
		left, _ := filepath.Glob(filepath.Join(s.Groups, fmt.Sprintf("rotanex-dying-%d-*", cmd.Process.Pid)))
		return s.Groups == "" || len(left) == 0
	}, 30*time.Second, 5*time.Millisecond, "its keeper takes the group away")
}

func TestHowItEnded(t *testing.T) {
	t.Parallel()
	for script, want := range map[string]struct {
		exit int
		err  string
	}{"exit 0": {0, ""}, "exit 12": {12, "exit status 12"}, "kill -KILL $$": {137, "exit status 137 (killed)"}} {
		x, err := tree.Start(tree.Spec{Program: "sh", Args: []string{"-c", script}}, func(string) {})
		require.NoError(t, err)
		<-x.Over()
		assert.Equal(t, want.exit, x.Ended().Exit, script)
		if want.err != "" {
			require.EqualError(t, x.Ended().Err, want.err)
		} else {
			require.NoError(t, x.Ended().Err)
		}
		assert.Positive(t, x.Ended().PeakBytes)
		x.Kill() // it is over: nothing happens
	}
	_, err := tree.Start(tree.Spec{Program: "no-such-renderer"}, func(string) {})
	require.ErrorContains(t, err, "no-such-renderer")
	broken := t.TempDir() + "/broken"
	require.NoError(t, os.WriteFile(broken, []byte("#!/no/such/interpreter\n"), 0o700))
	_, err = tree.Start(tree.Spec{Program: broken}, func(string) {})
	require.ErrorContains(t, err, "no such file")
}

func TestOrdersAreReadUntilThereAreNoMore(t *testing.T) {
	t.Parallel()
	h, later := newHeard(), newHeard()
	x, err := tree.Start(tree.Spec{Program: "cat", Folder: "/", Orders: true}, h.hear)
	require.NoError(t, err)
	_, err = fmt.Fprintln(x.Orders, "one\rtwo")
	require.NoError(t, err)
	assert.Equal(t, "one", h.line(t))
	assert.Equal(t, "two", h.line(t))
	x.Hear(later.hear)
	_, err = fmt.Fprintln(x.Orders, "three")
	require.NoError(t, err)
	assert.Equal(t, "three", later.line(t))
	x.Close(30 * time.Second)
	assert.NoError(t, x.Ended().Err, "it ended by itself")
	deaf, err := tree.Start(tree.Spec{Program: "sleep", Args: []string{"600"}, Orders: true}, h.hear)
	require.NoError(t, err)
	deaf.Close(time.Millisecond)
	assert.Error(t, deaf.Ended().Err)
}

func TestAllOfItIsMeasuredAndStandsStill(t *testing.T) {
	t.Parallel()
	ways(t, standsStill)
}

// stopped reports whether a process is: by a signal, or with its control group.
func stopped(pid int, groups string) bool {
	file, want := fmt.Sprintf("/proc/%d/stat", pid), ") T "
	if groups != "" {
		file, want = filepath.Join(cgroup.Of(pid), "cgroup.events"), "frozen 1"
	}
	data, err := os.ReadFile(file)
	return err == nil && strings.Contains(string(data), want)
}

func standsStill(t *testing.T, s tree.Spec) {
	h := newHeard()
	s.Program, s.Args = "sh", []string{"-c", lost + `x=$(head -c 40000000 /dev/zero | tr "\0" a); echo full; sleep 600; :`}
	x, err := tree.Start(s, h.hear)
	require.NoError(t, err)
	t.Cleanup(x.Kill)
	said := []string{h.line(t), h.line(t)} // in whichever order
	slices.Sort(said)
	require.Equal(t, "full", said[1])
	pid, err := strconv.Atoi(said[0])
	require.NoError(t, err)
	still := func() bool { return stopped(pid, s.Groups) }
	assert.Greater(t, x.Memory(), int64(40e6))
	assert.True(t, x.Stand(true))
	require.Eventually(t, still, 30*time.Second, time.Millisecond, "it left the session")
	assert.True(t, x.Stand(false))
	require.Eventually(t, func() bool { return !still() }, 30*time.Second, time.Millisecond)
}
