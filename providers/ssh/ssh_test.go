package ssh

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"pgregory.net/rapid"

	"rotanex.example/core/stock"
)

// Whatever a folder or an address is called, the shell takes it as one word that stands
// for itself: nothing in it is carried out.
func TestWordsOfTheShellStandForThemselves(t *testing.T) {
	for _, word := range []string{"", "plain", "two words", "it's", `a"b`, "$(touch /tmp/x)", "`id`", "a;b", "a\nb", "-n", "~", "*", `\`, "'", "''"} {
		assert.Equal(t, word, echoed(t, word))
	}
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[ -~]{0,30}`).Draw(t, "word")
		out, err := exec.Command("/bin/sh", "-c", "printf %s "+quoted(word)).Output()
		require.NoError(t, err)
		assert.Equal(t, word, string(out))
	})
}

func echoed(t *testing.T, word string) string {
	t.Helper()
	out, err := exec.Command("/bin/sh", "-c", "printf %s "+quoted(word)).Output()
	require.NoError(t, err)
	return string(out)
}

// aKey is a private key as PEM and the line of a known_hosts file for it.
func aKey(t *testing.T) (private, line string) {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	public, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), "attic.example " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
}

func TestASourceBehindSSHIsReadBeforeAnythingIsSent(t *testing.T) {
	key, line := aKey(t)
	source := stock.Source{Name: "attic", Kind: stock.RentedSource, Address: "ssh://render@attic.example/srv/spare", KnownHosts: []string{line}}
	m, err := New(source, key, "rotanex-agent", time.Now)
	require.NoError(t, err)
	assert.Equal(t, "attic.example:22", m.address, "the usual port")
	assert.Equal(t, "/srv/spare/.rotanex", m.home)
	assert.Equal(t, "render", m.config.User)
	assert.Equal(t, []string{ssh.KeyAlgoED25519}, m.config.HostKeyAlgorithms, "only kinds of keys that are known are asked for")

	source.Address = "ssh://render@attic.example:2222"
	m, err = New(source, key, "rotanex-agent", time.Now)
	require.NoError(t, err)
	assert.Equal(t, "attic.example:2222", m.address)
	assert.Equal(t, ".rotanex", m.home, "below the user's home")

	_, err = New(source, "not a key", "rotanex-agent", time.Now)
	assert.ErrorContains(t, err, "source attic: its secret must be a private key without a passphrase")
	source.KnownHosts = []string{"attic.example"}
	_, err = New(source, key, "rotanex-agent", time.Now)
	assert.ErrorContains(t, err, "want a line as ssh-keyscan prints it")
}

func TestOnlyKnownHostKeysAreGoneNear(t *testing.T) {
	key, line := aKey(t)
	_, other := aKey(t)
	m, err := New(stock.Source{Name: "attic", Address: "ssh://render@attic.example", KnownHosts: []string{line}}, key, "rotanex-agent", time.Now)
	require.NoError(t, err)
	shown := func(line string) ssh.PublicKey {
		_, _, k, _, _, err := ssh.ParseKnownHosts([]byte(line))
		require.NoError(t, err)
		return k
	}
	assert.NoError(t, m.config.HostKeyCallback("attic.example:22", nil, shown(line)))
	assert.ErrorContains(t, m.config.HostKeyCallback("attic.example:22", nil, shown(other)), "which is not one of source attic's known_hosts: nothing was sent to it")
}

func TestWhichAddressesAreReachedBySSH(t *testing.T) {
	assert.True(t, Reaches("ssh://render@attic.example"))
	for _, address := range []string{"", "http://attic.example", "attic.example", "sshx://attic.example"} {
		assert.False(t, Reaches(address), address)
	}
}
