package e2e

import (
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

	third, err := postgres.Start(t.Context(), folder)
	require.NoError(t, err)
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
