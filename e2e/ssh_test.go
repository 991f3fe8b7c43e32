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

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	machine "rotanex.example/providers/ssh"
	"rotanex.example/service/app"
	"rotanex.example/service/testdb"
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
	testdb.Until(t, "the SSH server to listen", func() bool {
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

const litBall = `#version 3.7;
global_settings { assumed_gamma 1 }
camera { location <0, 1, -4> look_at 0 }
light_source { <3, 4, -3> rgb 1 }
sphere { <sin(clock * 6), 0, 0>, 1 pigment { rgb <0.8, 0.5, 0.2> } }
`

// A whole run on a server over SSH: our agent is installed there, fetches the package,
// renders it with what the machine has, and is stopped; its time is billed as offered.
func TestARunOnAServerReachedOverSSH(t *testing.T) {
	source, key := sshServer(t)
	h := newHouse(t, func(c *app.Config) { c.Agent, c.ClockFactor = filepath.Join(bin, "rotanex-agent"), farmFactor })
	spec, err := convert[api.SourceSpec](source)
	require.NoError(t, err)
	must[api.Source](t)(h.admin().PutSource(t.Context(), "attic", api.NewSource{Spec: spec, Secret: &key}))
	box := stock.Offer{
		Name: "attic-box", Source: "attic", MaxServers: 1, PriceH: pricing.MustMoney("0.90"), IncrementS: 60, BootS: 300, ShutdownS: 60,
		CPU: stock.CPU{Model: "Keel 24", Cores: 24}, MemoryGB: 8,
	}
	offer, err := convert[api.OfferSpec](box)
	require.NoError(t, err)
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "attic-box", offer))

	// The times come from a processor of the same model that one has.
	joined := must[struct{ Token string }](t)(h.as("").JoinAgent(t.Context(), api.JoinAgentJSONRequestBody{JoinToken: h.joinToken("dory"), Host: "dory"}))
	own := hand{h.as(joined.Token), t, uuid.New()}
	h.hands = append(h.hands, own)
	must[api.AgentOrders](t)(own.ReportStock(t.Context(), api.StockReport{
		Boot: own.boot, Cpu: api.CPU{Model: "Keel 24", Cores: 24}, MemoryGb: 64, OnAcPower: true, Devices: []api.Device{}, Launchers: []string{"povray"},
	}))
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "orrery-010", &api.PutShotParams{}, api.ShotSpec{Name: "orrery-010", Scene: "ball.pov", Frames: "1-6", Width: 64, Height: 36, Launcher: "povray"}))
	h.trialByHand(own, "orrery-010", "dory", "cpu")
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "ball.pov"), []byte(litBall), 0o600))
	h.good("packages", "make", "orrery-010", folder, "ball.pov")

	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"orrery-010"}, By: h.now().Add(3 * time.Hour), Without: []string{"dory"}}))
	require.Len(t, plan.Servers, 1, "%+v", plan.LeftOut)
	run := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: "5.00"}))
	run = h.awaitOver(run)
	require.Equal(t, api.RunStateComplete, run.State)
	eachDoneOnce(t, h.database, run, 6)
	assert.Equal(t, 6, query[int](t, h.database, "SELECT count(*) FROM frames WHERE run_id = $1 AND host LIKE 'attic-box%'", run.Id))
	h.until("its time to be billed", func() bool { return h.run(run).Servers[0].State == api.RunServerStateStopped })
	seconds := query[float64](t, h.database, "SELECT metered_s FROM charges WHERE source = 'attic'")
	assert.Equal(t, box.Meter().Charge(time.Duration(seconds*float64(time.Second))).String(), h.chargedBy(run, "attic").String())
	assert.Positive(t, h.wait().Seen, "how long it took to be up is learnt")

	m, err := machine.New(source, key, filepath.Join(bin, "rotanex-agent"), time.Now)
	require.NoError(t, err)
	h.until("nothing to be left there", func() bool {
		all, err := m.List(t.Context(), "")
		return err == nil && len(all) == 0
	})
}
