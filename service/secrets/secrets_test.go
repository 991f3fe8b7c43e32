package secrets_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/secrets"
)

func TestASecretOpensForItsOwnerAndKeyAlone(t *testing.T) {
	box, err := secrets.New(make([]byte, 32))
	require.NoError(t, err)
	sealed, err := box.Seal("skerry", "opensesame")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "opensesame")
	secret, err := box.Open("skerry", sealed)
	require.NoError(t, err)
	assert.Equal(t, "opensesame", secret)

	other, err := secrets.New([]byte("another key of exactly 32 bytes!"))
	require.NoError(t, err)
	_, err = other.Open("skerry", sealed)
	require.ErrorContains(t, err, "does not open with this service's key")
	_, err = box.Open("tern", sealed)
	require.ErrorContains(t, err, "store it again")
	_, err = box.Open("skerry", sealed[:5])
	require.ErrorContains(t, err, "is not whole")
	none, err := box.Open("skerry", nil)
	require.NoError(t, err)
	assert.Empty(t, none)
	_, err = secrets.New([]byte("short"))
	require.ErrorContains(t, err, "key for secrets")
}
