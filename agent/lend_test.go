package agent

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/shirou/gopsutil/v4/process"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/cgroup"
	"rotanex.example/agent/desk"
	"rotanex.example/agent/discover"
	"rotanex.example/agent/standback"
	"rotanex.example/api"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
)

func lending(t *testing.T, nice int, d *Desk) *Agent {
	t.Helper()
	a := &Agent{Config: Config{Nice: nice, Desk: d, Log: slog.New(slog.DiscardHandler)}, factor: 1, jobs: map[int64]*job{}, starts: map[*start]bool{}, beatNow: make(chan struct{}, 1)}
	a.found = discover.Found{Host: stock.Host{Devices: []stock.Device{{ID: "g0"}, {ID: "g1"}}}, Displays: []string{"g0"}}
	var err error
	a.back, err = standback.New(nice, 0)
	require.NoError(t, err)
	return a
}

// renders lets the agent have a frame in hand, rendered by a shell script, until done.
func renders(t *testing.T, a *Agent, script, folder string, m *api.Measured) (s *start, done chan error) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	j := &job{agent: a}
	s, done = &start{agent: a, stop: cancel, of: api.Lease{Devices: []string{"g1"}}, left: []*job{j}}, make(chan error, 1)
	a.starts[s] = true
	r := &rendering{start: s, launcher: launchers.Launcher{Name: "shell", Program: "sh", QuietS: 600}, last: j, done: func(r *rendered) { *m = r.measured }}
	go func() { done <- r.run(ctx, []string{"-c", script}, folder, 1) }()
	require.Eventually(t, func() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.tree != nil }, 10*time.Second, time.Millisecond)
	return s, done
}

func ends(t *testing.T, done chan error) error {
	t.Helper()
	select {
	case err := <-done:
		return err
	case <-time.After(20 * time.Second):
		require.FailNow(t, "the renderer does not end")
	}
	return nil
}

// waits is a script that ends when a file is there.
const waits = `while [ ! -e go ]; do read -r -t 1 _ < /dev/null; done; nice > said`

// A renderer stands back as far as the host's owner said, and all the way beside a person.
func TestARendererStandsBack(t *testing.T) {
	t.Parallel()
	for beside, want := range map[desk.State]string{desk.Lent: "7", desk.InUse: "19"} {
		folder := t.TempDir()
		a := lending(t, 7, &Desk{Idle: time.Minute, Return: Finish, Beside: true})
		_, done := renders(t, a, waits, folder, &api.Measured{})
		a.deskIs(desk.Status{State: beside})
		require.NoError(t, os.WriteFile(filepath.Join(folder, "go"), nil, 0o600))
		require.NoError(t, ends(t, done))
		said, err := os.ReadFile(filepath.Join(folder, "said"))
		require.NoError(t, err)
		assert.Equal(t, want, strings.TrimSpace(string(said)), beside)
	}
	assert.EqualError(t, (&Config{Nice: 20}).Validate(), "--nice 20: want 0, as everything else, to 19, behind everything else")
}

// stopped reports whether a process is: by a signal, or with its control group.
func stopped(pid int) bool {
	data, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	events, _ := os.ReadFile(filepath.Join(cgroup.Of(pid), "cgroup.events"))
	return strings.Contains(string(data), ") T ") || strings.Contains(string(events), "frozen 1")
}

// child is the process that a process started.
func child(t *testing.T, pid int) int {
	t.Helper()
	p, err := process.NewProcess(int32(pid))
	require.NoError(t, err)
	all, err := p.Children()
	require.NoError(t, err)
	require.NotEmpty(t, all)
	return int(all[0].Pid)
}

// A frame stands still while somebody works at the desk, and that time is not its own.
func TestAFrameStandsStill(t *testing.T) {
	t.Parallel()
	folder, m := t.TempDir(), &api.Measured{}
	a := lending(t, 0, &Desk{Idle: time.Minute, Return: Pause})
	j, done := renders(t, a, waits, folder, m)
	pid := j.tree.PID
	a.deskIs(desk.Status{State: desk.InUse, Why: "somebody works at it"})
	require.Eventually(t, func() bool { return stopped(child(t, pid)) }, 10*time.Second, time.Millisecond)
	j.mu.Lock()
	j.stopped = j.stopped.Add(-time.Hour) // an hour passes
	j.mu.Unlock()
	a.deskIs(desk.Status{State: desk.Lent})
	require.NoError(t, os.WriteFile(filepath.Join(folder, "go"), nil, 0o600))
	require.NoError(t, ends(t, done))
	assert.Zero(t, m.Seconds, "the hour is taken off, though it was made up")
	assert.Equal(t, "its owner", m.Conditions["beside"])
}

// One that has stood still for too long is given back, and so is each when its owner wants
// the machine for themselves; what is not kept back goes on.
func TestAFrameIsGivenBack(t *testing.T) {
	t.Parallel()
	a := lending(t, 0, &Desk{Idle: time.Minute, Return: Pause})
	j, done := renders(t, a, waits, t.TempDir(), &api.Measured{})
	a.deskIs(desk.Status{State: desk.InUse, Why: "somebody works at it"})
	assert.Zero(t, j.silent(time.Now().Add(pauseMost-time.Minute)))
	assert.Empty(t, j.givesBack())
	j.silent(time.Now().Add(pauseMost + time.Minute))
	assert.ErrorContains(t, ends(t, done), "killed")
	assert.Contains(t, j.givesBack(), "stood still for 30m0s")

	a = lending(t, 0, &Desk{Idle: time.Minute, Return: GiveBack})
	j, done = renders(t, a, waits, t.TempDir(), &api.Measured{})
	a.deskIs(desk.Status{State: desk.TakenBack, Why: "its owner took it back"})
	assert.ErrorContains(t, ends(t, done), "killed")
	assert.Equal(t, "its owner took it back", j.givesBack())
	assert.Equal(t, []string{"g0", "g1", "cpu"}, a.deskReport().Kept)
	a.deskIs(desk.Status{State: desk.InUse, Why: strings.Repeat("ü", 1000)})
	assert.Len(t, []rune(a.deskReport().Why), mostWhy+1, "the service takes no longer one")

	folder := t.TempDir()
	a = lending(t, 0, &Desk{Idle: time.Minute, Return: GiveBack, Beside: true, KeepDevices: []string{"g0"}})
	j, done = renders(t, a, waits, folder, &api.Measured{})
	a.deskIs(desk.Status{State: desk.InUse, Why: "somebody works at it"})
	assert.Equal(t, []string{"g0"}, a.deskReport().Kept)
	assert.Equal(t, "somebody works at it", a.keeps([]string{"g0", "g1"}))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "go"), nil, 0o600))
	require.NoError(t, ends(t, done))
	assert.Empty(t, j.givesBack())
}

func TestADesksOptionsAreChecked(t *testing.T) {
	t.Parallel()
	for want, d := range map[string]Desk{
		"--desk-idle 0s: want":       {Return: GiveBack},
		`--desk-return "stop": want`: {Idle: time.Minute, Return: "stop"},
		"wants --desk-beside":        {Idle: time.Minute, Return: Pause, KeepCores: 2},
		"--desk-owner nobody-here:":  {Idle: time.Minute, Return: Pause, Owner: "nobody-here"},
	} {
		assert.ErrorContains(t, d.validate(), want)
	}
	_, err := standback.New(0, 1000)
	assert.ErrorContains(t, err, "--desk-keep-cores 1000: want 0 to ")
	a := lending(t, 0, &Desk{Idle: time.Minute, Return: Pause, Beside: true})
	a.StateDir = t.TempDir()
	require.NoError(t, a.openDesk(t.Context()))
	assert.Equal(t, []string{"g0"}, a.Config.Desk.KeepDevices, "the one with the display")
	a.Config.Desk.KeepDevices = []string{"g7"}
	assert.ErrorContains(t, a.openDesk(t.Context()), "--desk-keep-device g7: this machine has no such device; it has [g0 g1 cpu]")
}
