package agent

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

const (
	// tried is how many bytes are written to find out whether frames can be.
	tried = 1 << 20
	// tryEvery is how often that is tried while all is well, retryEvery while it is not.
	tryEvery, retryEvery = 5 * time.Second, 10 * time.Second
)

// works tries whether frames can be rendered to this host's folder, and returns why not; "" if they can. It is not tried again
// right away, unless something went wrong.
func (a *Agent) works(now time.Time) string {
	a.mu.Lock()
	fine := a.cannot == "" && now.Sub(a.triedAt) < tryEvery
	a.mu.Unlock()
	if fine {
		return ""
	}
	why := writable(filepath.Join(a.StateDir, "work"))
	a.mu.Lock()
	was := a.cannot
	a.cannot, a.triedAt = why, now
	a.mu.Unlock()
	if why != was {
		a.Log.Warn("rendering here", "trouble", why)
		a.beatSoon()
	}
	return why
}

// doubt has it tried again whether frames can be rendered here.
func (a *Agent) doubt() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.triedAt = time.Time{}
}

// aside is why nothing is rendered here now; "" for nothing.
func (a *Agent) aside() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.cannot
}

// writable says why a folder cannot be written to; "" if it can.
func writable(folder string) string {
	err := os.MkdirAll(folder, 0o700)
	if err == nil {
		err = write(folder)
	}
	if err == nil {
		return ""
	}
	var plain syscall.Errno
	if errors.As(err, &plain) {
		err = plain // without the name of a file that nobody knows
	}
	return fmt.Sprintf("%s cannot be written to: %v", folder, err)
}

func write(folder string) error {
	f, err := os.CreateTemp(folder, "try-*")
	if err != nil {
		return err
	}
	_, err = f.Write(make([]byte, tried))
	return errors.Join(err, f.Close(), os.Remove(f.Name()))
}
