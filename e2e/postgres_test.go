package e2e

import (
	"bytes"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/postgres"
)

func TestAServerOfOnesOwn(t *testing.T) {
	folder := shared(t)
	first, err := postgres.Start(t.Context(), folder)
	require.NoError(t, err)
	stopped := false
	t.Cleanup(func() {
		if !stopped {
			_ = first.Stop()
		}
	})
	assert.Contains(t, first.URL(), "@127.0.0.1:", "it listens on loopback")
	query[int](t, first.URL(), "SELECT 1")
	execute(t, first.URL(), "CREATE TABLE kept (n int)")
	second, err := postgres.Start(t.Context(), folder)
	require.NoError(t, err)
	assert.Equal(t, first.URL(), second.URL(), "one that runs is taken over, not started twice")
	assert.Equal(t, first.Pid(), second.Pid())
	require.NoError(t, first.Stop())
	assert.Zero(t, first.Pid())

	// One of before there was a secret let in anybody; at its next start it does no more.
	rules := filepath.Join(folder, "data", "pg_hba.conf")
	text, err := os.ReadFile(rules)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(rules, bytes.ReplaceAll(text, []byte("scram-sha-256"), []byte("trust")), 0o600))
	require.NoError(t, os.Remove(filepath.Join(folder, "secret")))

	third, err := postgres.Start(t.Context(), folder)
	require.NoError(t, err)
	assert.NotEqual(t, first.URL(), third.URL(), "another secret")
	for _, secret := range []string{"", "guessed"} {
		at, err := url.Parse(third.URL())
		require.NoError(t, err)
		at.User = url.UserPassword("rotanex", secret)
		_, err = pgx.Connect(t.Context(), at.String())
		assert.ErrorContains(t, err, "password", "nobody gets in without it")
	}
	assert.Zero(t, query[int](t, third.URL(), "SELECT count(*) FROM kept"), "what was stored is there")
	require.NoError(t, third.Stop())
	stopped = true
	require.NoError(t, os.RemoveAll(folder))
	_, err = os.Stat(filepath.Join(folder, "data"))
	assert.Error(t, err)
}

func execute(t *testing.T, url, statement string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer func() { _ = conn.Close(t.Context()) }()
	_, err = conn.Exec(t.Context(), statement)
	require.NoError(t, err)
}
