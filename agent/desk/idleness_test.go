package desk

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/godbus/dbus/v5/prop"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestACommandTellsIdleness(t *testing.T) {
	t.Parallel()
	at, err := Command("echo 90.5").Touched(t.Context(), noon)
	require.NoError(t, err)
	assert.Equal(t, noon.Add(-90500*time.Millisecond), at)
	for command, want := range map[string]string{
		"echo soon": `printed "soon": want for how many seconds`, "echo -5": `printed "-5"`, "echo NaN": `printed "NaN"`, "true": `printed ""`, "exit 3": "exit status 3",
	} {
		_, err := Command(command).Touched(t.Context(), noon)
		assert.ErrorContains(t, err, want, command)
	}
}

// bus starts a bus of its own and makes it the system's.
func bus(t *testing.T) {
	t.Helper()
	config := filepath.Join(t.TempDir(), "bus.conf")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN" "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>custom</type><listen>unix:path=%s</listen><auth>EXTERNAL</auth>
<policy context="default"><allow send_destination="*"/><allow receive_sender="*"/><allow own="*"/></policy></busconfig>`, filepath.Join(filepath.Dir(config), "bus")), 0o600))
	cmd := exec.Command("dbus-daemon", "--config-file="+config, "--nofork", "--print-address=1")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", strings.TrimSpace(address))
}

// standIn is a stand-in for the login manager on the system's bus.
func standIn(t *testing.T, idle bool, since time.Time) (set func(bool, time.Time), quit func()) {
	t.Helper()
	conn, err := dbus.ConnectSystemBus()
	require.NoError(t, err)
	props, err := prop.Export(conn, loginPath, prop.Map{loginManager: {
		"IdleHint": {Value: idle, Emit: prop.EmitTrue}, "IdleSinceHint": {Value: uint64(since.UnixMicro()), Emit: prop.EmitTrue},
	}})
	require.NoError(t, err)
	reply, err := conn.RequestName(loginName, dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	require.Equal(t, dbus.RequestNameReplyPrimaryOwner, reply)
	quit = func() { _ = conn.Close() }
	t.Cleanup(quit)
	return func(idle bool, since time.Time) {
		props.SetMust(loginManager, "IdleHint", idle)
		props.SetMust(loginManager, "IdleSinceHint", uint64(since.UnixMicro()))
	}, quit
}

// Over a real bus: idle since, in use, a login manager that goes away and comes again, and
// no bus at all, which leaves the desk to its owner.
func TestTheLoginManagerTellsIdleness(t *testing.T) {
	bus(t)
	l := &Login{}
	t.Cleanup(l.Close)
	since := noon.Add(-20 * time.Minute)
	set, quit := standIn(t, true, since)
	at, err := l.Touched(t.Context(), noon)
	require.NoError(t, err)
	assert.Equal(t, since, at.UTC())
	set(false, noon)
	at, err = l.Touched(t.Context(), noon)
	require.NoError(t, err)
	assert.Equal(t, noon, at)

	quit()
	_, err = l.Touched(t.Context(), noon)
	assert.ErrorContains(t, err, "the login manager does not answer")
	_, _ = standIn(t, true, since)
	at, err = l.Touched(t.Context(), noon)
	require.NoError(t, err)
	assert.Equal(t, since, at.UTC())

	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+filepath.Join(t.TempDir(), "none"))
	none := &Login{}
	_, err = none.Touched(t.Context(), noon)
	assert.ErrorContains(t, err, "the system's D-Bus does not answer")
	status, _ := rule.Decide(Said{}, Seen{Err: err}, noon)
	assert.Equal(t, InUse, status.State)
}
