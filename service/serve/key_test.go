package serve

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever happens, the key with which things are sealed is in its file.
func TestAKeyIsSwappedWhenAllIsSealedWithTheNewOne(t *testing.T) {
	file := filepath.Join(t.TempDir(), "secrets.key")
	first, err := secretsKey(file)
	require.NoError(t, err)
	again, err := secretsKey(file)
	require.NoError(t, err)
	assert.Equal(t, first, again)

	_, err = swapKey(file, func([]byte, []byte) (int, error) { return 0, errors.New("away") })
	require.ErrorContains(t, err, "away")
	again, err = secretsKey(file)
	require.NoError(t, err)
	assert.Equal(t, first, again)

	var made []byte
	n, err := swapKey(file, func(from, to []byte) (int, error) {
		assert.Equal(t, first, from)
		made = to
		return 3, nil
	})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, made, now)
	before, err := os.ReadFile(file + ".before")
	require.NoError(t, err)
	assert.Equal(t, first, before)

	require.NoError(t, os.WriteFile(file+".new", nil, 0o600))
	_, err = swapKey(file, nil)
	require.ErrorContains(t, err, "cut short")
	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, err = secretsKey(file)
	require.ErrorContains(t, err, "want 32 bytes, it has 5")
}
