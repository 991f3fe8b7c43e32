// Package ssh reaches servers that somebody has already: it installs Rotanex's agent
// there over SFTP and starts it over SSH. A server is reached only if it shows a host
// key that is known.
//
// Everything lies below .rotanex in the user's home, or in the folder that the address
// names: the agent's program by its content, and a folder for each server of ours with
// what it was started as.
package ssh

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"rotanex.example/core/stock"
	"rotanex.example/providers"
)

// Reaches reports whether an address is one for this package.
func Reaches(address string) bool { return strings.HasPrefix(address, "ssh://") }

// Machine is one machine behind SSH. It implements providers.Servers.
type Machine struct {
	address string
	home    string // below which everything lies, as the machine sees it
	config  *ssh.ClientConfig
	agent   string
	now     func() time.Time
	flags   string // of the agent there: what it may start, and where scenes lie
}

// patience bounds connecting, and everything that is done over one connection.
const patience = 30 * time.Second

// New reads a source's address and host keys; key is the private key to sign in with,
// agent the path of the agent's program, now the clock its time is metered by.
func New(source stock.Source, key, agent string, now func() time.Time) (*Machine, error) {
	u, err := url.Parse(source.Address)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey([]byte(key))
	if err != nil {
		return nil, fmt.Errorf("source %s: its secret must be a private key without a passphrase: %w", source.Name, err)
	}
	known, err := hostKeys(source)
	if err != nil {
		return nil, err
	}
	if u.Port() == "" {
		u.Host = net.JoinHostPort(u.Hostname(), "22")
	}
	var algorithms []string
	for _, k := range known {
		algorithms = append(algorithms, k.Type())
	}
	flags := " --allow " + quoted(strings.Join(source.Starts(), ","))
	if source.Scenes != "" {
		flags += " --scenes " + quoted(source.Scenes)
	}
	return &Machine{u.Host, path.Join(u.Path, ".rotanex"), &ssh.ClientConfig{
		User: u.User.Username(), Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, Timeout: patience, HostKeyAlgorithms: algorithms,
		HostKeyCallback: func(host string, _ net.Addr, shown ssh.PublicKey) error {
			for _, k := range known {
				if bytes.Equal(k.Marshal(), shown.Marshal()) {
					return nil
				}
			}
			return fmt.Errorf("%s shows the host key %s, which is not one of source %s's known_hosts: nothing was sent to it", host, ssh.FingerprintSHA256(shown), source.Name)
		},
	}, agent, now, flags}, nil
}

func hostKeys(source stock.Source) (out []ssh.PublicKey, err error) {
	for _, line := range source.KnownHosts {
		_, _, key, _, _, err := ssh.ParseKnownHosts([]byte(line))
		if err != nil {
			return nil, fmt.Errorf("source %s: known_hosts %q: want a line as ssh-keyscan prints it", source.Name, line)
		}
		out = append(out, key)
	}
	return out, nil
}

// line is an open connection.
type line struct {
	*ssh.Client
	files *sftp.Client
	home  string
}

// with connects, does something and hangs up.
func (m *Machine) with(ctx context.Context, do func(line) error) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", m.address)
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	c, channels, requests, err := ssh.NewClientConn(conn, m.address, m.config)
	if err != nil {
		_ = conn.Close()
		return err
	}
	client := ssh.NewClient(c, channels, requests)
	defer func() { _ = client.Close() }()
	files, err := sftp.NewClient(client)
	if err != nil {
		return fmt.Errorf("SFTP on %s: %w", m.address, err)
	}
	defer func() { _ = files.Close() }()
	return do(line{client, files, m.home})
}

func (l line) run(command string) (string, error) {
	s, err := l.NewSession()
	if err != nil {
		return "", err
	}
	defer func() { _ = s.Close() }()
	out, err := s.CombinedOutput(command)
	if err != nil {
		return "", fmt.Errorf("%q: %w: %s", command, err, bytes.TrimSpace(out))
	}
	return string(bytes.TrimSpace(out)), nil
}

// quoted makes a word of the shell that stands for itself.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func (l line) folder(name string) string { return path.Join(l.home, "servers", name) }

// note is what is kept on the machine of a server of ours.
type note struct {
	Owner   string     `json:"owner"`
	Offer   string     `json:"offer"`
	Began   time.Time  `json:"began"`
	Stopped *time.Time `json:"stopped,omitempty"`
}

func (l line) note(name string) (n note, err error) {
	f, err := l.files.Open(path.Join(l.folder(name), "note.json"))
	if errors.Is(err, os.ErrNotExist) {
		return n, providers.ErrGone
	}
	if err != nil {
		return n, err
	}
	defer func() { _ = f.Close() }()
	return n, json.NewDecoder(f).Decode(&n)
}

func (l line) write(name string, data []byte, mode os.FileMode) error {
	f, err := l.files.Create(name + ".part")
	if err != nil {
		return err
	}
	_, err = io.Copy(f, bytes.NewReader(data))
	err = errors.Join(err, f.Close(), l.files.Chmod(name+".part", mode))
	if err != nil {
		return err
	}
	return l.files.PosixRename(name+".part", name)
}

func (l line) keep(name string, n note) error {
	data, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return l.write(path.Join(l.folder(name), "note.json"), data, 0o600)
}

// Offers implements providers.Servers: a machine says nothing of prices.
func (m *Machine) Offers(ctx context.Context) ([]providers.Offered, error) {
	return nil, m.with(ctx, func(line) error { return nil })
}

// Make implements providers.Servers: it installs the agent, if it is not there yet,
// and starts it, if it does not run.
func (m *Machine) Make(ctx context.Context, o providers.Order) error {
	program, err := os.ReadFile(m.agent)
	if err != nil {
		return fmt.Errorf("the agent's program: %w", err)
	}
	sum := sha256.Sum256(program)
	program8 := "agent-" + hex.EncodeToString(sum[:8])
	return m.with(ctx, func(l line) error {
		installed := path.Join(l.home, program8)
		if err := l.files.MkdirAll(l.folder(o.Name)); err != nil {
			return err
		}
		if info, err := l.files.Stat(installed); err != nil || info.Size() != int64(len(program)) {
			if err := l.write(installed, program, 0o700); err != nil {
				return err
			}
		}
		if err := l.write(path.Join(l.folder(o.Name), "token"), []byte(o.JoinToken), 0o600); err != nil {
			return err
		}
		if _, err := l.note(o.Name); err != nil {
			if err := l.keep(o.Name, note{Owner: o.Owner, Offer: o.Offer, Began: m.now()}); err != nil {
				return err
			}
		}
		// The token goes by the environment, which others on the machine cannot read.
		_, err := l.run(fmt.Sprintf(`cd %s && { [ -f pid ] && kill -0 "$(cat pid)" 2>/dev/null && exit 0
			ROTANEX_JOIN_TOKEN="$(cat token)" setsid nohup ../../%s --service %s --host %s%s --state-dir "$PWD/state" >log 2>&1 </dev/null & echo $! >pid; }`,
			quoted(l.folder(o.Name)), program8, quoted(o.Service), quoted(o.Name), m.flags))
		return err
	})
}

// Look implements providers.Servers.
func (m *Machine) Look(ctx context.Context, name string) (out providers.Server, err error) {
	return out, m.with(ctx, func(l line) (err error) {
		out, err = m.look(l, name)
		return err
	})
}

func (m *Machine) look(l line, name string) (providers.Server, error) {
	n, err := l.note(name)
	out := providers.Server{Name: name, Owner: n.Owner, Offer: n.Offer, State: providers.Stopped, Address: m.address}
	if err != nil {
		return out, err
	}
	end := m.now()
	if n.Stopped != nil {
		end = *n.Stopped
	} else if _, err := l.run(fmt.Sprintf(`kill -0 "$(cat %s)"`, quoted(path.Join(l.folder(name), "pid")))); err == nil {
		out.State = providers.Up
	}
	out.Metered = max(0, end.Sub(n.Began).Seconds())
	return out, nil
}

// List implements providers.Servers.
func (m *Machine) List(ctx context.Context, owner string) (out []providers.Server, err error) {
	return out, m.with(ctx, func(l line) error {
		folders, err := l.files.ReadDir(path.Join(l.home, "servers"))
		if errors.Is(err, os.ErrNotExist) {
			return nil
		}
		for _, f := range folders {
			s, err := m.look(l, f.Name())
			if err == nil && s.Owner == owner {
				out = append(out, s)
			}
		}
		return err
	})
}

// Stop implements providers.Servers.
func (m *Machine) Stop(ctx context.Context, name string) error {
	return m.with(ctx, func(l line) error {
		n, err := l.note(name)
		if err != nil || n.Stopped != nil {
			return err
		}
		// The agent is asked, waited for, and made to.
		_, err = l.run(fmt.Sprintf(`cd %s && if [ -f pid ]; then p=$(cat pid); kill -TERM "$p" 2>/dev/null
			for i in 1 2 3 4 5 6 7 8 9 10; do kill -0 "$p" 2>/dev/null || break; sleep 0.5; done
			kill -KILL -- "-$p" 2>/dev/null; true; fi`, quoted(l.folder(name))))
		if err != nil {
			return err
		}
		now := m.now()
		n.Stopped = &now
		return l.keep(name, n)
	})
}

// Delete implements providers.Servers.
func (m *Machine) Delete(ctx context.Context, name string) error {
	return m.with(ctx, func(l line) error {
		_, err := l.run("rm -rf " + quoted(l.folder(name)))
		return err
	})
}

// Prolong implements providers.Servers: no machine of one's own is ended by itself.
func (m *Machine) Prolong(context.Context, string, time.Duration) error { return nil }

// Keep implements providers.Servers: a machine keeps what is installed by itself.
func (m *Machine) Keep(context.Context, string, string) error { return nil }
