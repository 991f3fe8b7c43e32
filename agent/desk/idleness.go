package desk

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/godbus/dbus/v5"
)

// Login reads idleness from the login manager (systemd-logind) over D-Bus: its IdleHint says
// whether all sessions of the machine are idle, its IdleSinceHint since when. Desktops and
// text consoles set both.
type Login struct {
	mu   sync.Mutex
	conn *dbus.Conn
	end  func()
}

// Names of the login manager on the bus, from its own documentation (org.freedesktop.login1).
const (
	loginName    = "org.freedesktop.login1"
	loginPath    = "/org/freedesktop/login1"
	loginManager = "org.freedesktop.login1.Manager"
)

// Touched implements Idleness. A connection that broke is made again at the next call.
func (l *Login) Touched(ctx context.Context, now time.Time) (time.Time, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil || !l.conn.Connected() {
		if err := l.connect(); err != nil {
			return time.Time{}, fmt.Errorf("the system's D-Bus does not answer: %w", err)
		}
	}
	var all map[string]dbus.Variant
	if err := l.conn.Object(loginName, loginPath).CallWithContext(ctx, "org.freedesktop.DBus.Properties.GetAll", 0, loginManager).Store(&all); err != nil {
		return time.Time{}, fmt.Errorf("the login manager does not answer: %w", err)
	}
	idle, known := all["IdleHint"].Value().(bool)
	since, told := all["IdleSinceHint"].Value().(uint64)
	switch {
	case !known || idle && !told:
		return time.Time{}, fmt.Errorf("the login manager does not say whether the machine is idle")
	case !idle:
		return now, nil
	}
	return time.UnixMicro(int64(since)), nil
}

// connect gives up where nobody answers: a desk must not stay lent because a bus hangs.
func (l *Login) connect() error {
	lives, end := context.WithCancel(context.Background())
	late := time.AfterFunc(every, end)
	conn, err := dbus.ConnectSystemBus(dbus.WithContext(lives))
	if late.Stop() && err == nil {
		l.conn, l.end = conn, end
		return nil
	}
	end()
	return errors.Join(err, lives.Err())
}

// Close ends the connection.
func (l *Login) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		l.end()
		_ = l.conn.Close()
	}
}

// Command reads idleness from a command of the user's, which prints for how many seconds
// nobody has touched the machine. It is run by the shell.
type Command string

// Touched implements Idleness.
func (c Command) Touched(ctx context.Context, now time.Time) (time.Time, error) {
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", string(c))
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	if err != nil {
		return time.Time{}, fmt.Errorf("%s: %w", c, err)
	}
	said := strings.TrimSpace(string(out))
	seconds, err := strconv.ParseFloat(said, 64)
	if err != nil || !(seconds >= 0 && seconds <= 1e9) {
		return time.Time{}, fmt.Errorf("%s printed %.40q: want for how many seconds nobody has touched the machine, such as 90", c, said)
	}
	return now.Add(-time.Duration(seconds * float64(time.Second))), nil
}
