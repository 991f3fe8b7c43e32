package e2e

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	machine "rotanex.example/providers/ssh"
)

// keyPair makes a key: the private one as PEM, and the public one as a line.
func keyPair(t *testing.T) (private []byte, public string) {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	line, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return pem.EncodeToMemory(block), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(line)))
}

// sshServer runs Debian's OpenSSH server on loopback for one key. It returns the
// source by which it is reached and that key.
func sshServer(t *testing.T) (stock.Source, string) {
	t.Helper()
	folder := t.TempDir()
	hostKey, hostLine := keyPair(t)
	key, line := keyPair(t)
	for name, data := range map[string]string{"host": string(hostKey), "authorized": line + "\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(data), 0o600))
	}
	port := freePort(t)
	_, number, _ := strings.Cut(port, ":")
	config := fmt.Sprintf("ListenAddress 127.0.0.1\nPort %s\nHostKey %s/host\nAuthorizedKeysFile %s/authorized\nPidFile none\nStrictModes no\nUsePAM no\nSubsystem sftp internal-sftp\n", number, folder, folder)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "config"), []byte(config), 0o600))
	if os.Geteuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // Debian's server insists on it
	}
	server := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(folder, "config"))
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	until(t, "the SSH server to listen", func() bool {
		c, err := ssh.Dial("tcp", port, &ssh.ClientConfig{HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: time.Second}) //nolint:gosec // only whether it listens
		if c != nil {
			_ = c.Close()
		}
		return err != nil && strings.Contains(err.Error(), "handshake")
	})
	me, err := user.Current()
	require.NoError(t, err)
	return stock.Source{
		Name: "attic", Kind: stock.RentedSource, Address: "ssh://" + me.Username + "@" + port + t.TempDir(), Card: pricing.RateCard{Currency: "EUR"},
		KnownHosts: []string{"[127.0.0.1]:" + number + " " + hostLine},
	}, string(key)
}

// The whole life of a server over SSH: the agent is installed, joins, and is stopped.
func TestAServerReachedOverSSHRunsOurAgent(t *testing.T) {
	source, key := sshServer(t)
	h, _ := newServed(t, database(t))
	spec, err := convert[api.SourceSpec](source)
	require.NoError(t, err)
	must[api.Source](t)(h.admin().PutSource(t.Context(), "attic", api.NewSource{Spec: spec, Secret: &key}))
	now := time.Now
	m, err := machine.New(source, key, filepath.Join(bin, "rotanex-agent"), now)
	require.NoError(t, err)
	token := strings.TrimSpace(h.good("tokens", "join", "attic-1"))
	order := providers.Order{Name: "attic-1", Owner: "us", Offer: "attic", Service: h.address, JoinToken: token}
	require.NoError(t, m.Make(t.Context(), order))
	require.NoError(t, m.Make(t.Context(), order), "asked for twice, it runs once")
	h.until("its agent to join", func() bool {
		for _, host := range must[api.HostList](t)(h.admin().ListHosts(t.Context(), &api.ListHostsParams{})).Items {
			if host.Spec.Name == "attic-1" && host.Agent == api.HostAgentUp {
				return true
			}
		}
		return false
	})
	all, err := m.List(t.Context(), "us")
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, providers.Up, all[0].State)
	others, err := m.List(t.Context(), "somebody else")
	require.NoError(t, err)
	assert.Empty(t, others)
	require.NoError(t, m.Stop(t.Context(), "attic-1"))
	require.NoError(t, m.Stop(t.Context(), "attic-1"))
	stopped, err := m.Look(t.Context(), "attic-1")
	require.NoError(t, err)
	assert.Equal(t, providers.Stopped, stopped.State)
	assert.Positive(t, stopped.Metered)
	require.NoError(t, m.Delete(t.Context(), "attic-1"))
	_, err = m.Look(t.Context(), "attic-1")
	assert.ErrorIs(t, err, providers.ErrGone)
}

func TestAMachineWithAnotherHostKeyIsNotGoneNear(t *testing.T) {
	source, key := sshServer(t)
	_, other := keyPair(t)
	source.KnownHosts = []string{"attic " + other}
	m, err := machine.New(source, key, filepath.Join(bin, "rotanex-agent"), time.Now)
	require.NoError(t, err)
	err = m.Make(t.Context(), providers.Order{Name: "attic-1", JoinToken: "secret"})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "known_hosts")
	source.KnownHosts = nil
	assert.ErrorContains(t, source.Validate(), "known_hosts is missing")
}
