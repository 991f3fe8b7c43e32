package serve

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhereItMayListen(t *testing.T) {
	for _, c := range []struct {
		listen, cert, key string
		proxied           bool
		secure            bool
		says              string
	}{
		{"127.0.0.1:7070", "", "", false, false, ""},
		{"localhost:7070", "", "", false, false, ""},
		{"[::1]:7070", "", "", false, false, ""},
		{"0.0.0.0:7070", "", "", false, false, "not loopback"},
		{":7070", "", "", false, false, "not loopback"},
		{"render.example:7070", "", "", false, false, "not loopback"},
		{"0.0.0.0:7070", "", "", true, true, ""},
		{"0.0.0.0:7070", "cert.pem", "key.pem", false, true, ""},
		{"127.0.0.1:7070", "cert.pem", "", false, false, "go together"},
		{"7070", "", "", false, false, "want HOST:PORT"},
	} {
		secure, err := allowed(c.listen, c.cert, c.key, c.proxied)
		if c.says == "" {
			assert.NoError(t, err, c.listen)
		} else {
			assert.ErrorContains(t, err, c.says, c.listen)
		}
		assert.Equal(t, c.secure, secure, c.listen)
	}
}

func TestEverySettingHasADefault(t *testing.T) {
	flags := New().PersistentFlags()
	for _, name := range []string{"listen", "state-dir", "currency", "zone", "log"} {
		assert.NotEmpty(t, flags.Lookup(name).DefValue, name)
	}
}
