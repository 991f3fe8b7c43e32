package app

import (
	"bytes"
	"context"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/secrets"
	"rotanex.example/service/testdb"
)

// A service with another key than those before it does not start; after all was sealed anew with another one, the old one does not.
func TestServicesAgreeOnTheKey(t *testing.T) {
	t.Parallel()
	url, blobs := testdb.URL(t), t.TempDir()
	one, other := bytes.Repeat([]byte{1}, 32), bytes.Repeat([]byte{2}, 32)
	start := func(key []byte) (*Service, error) {
		return Start(context.Background(), Config{DatabaseURL: url, Blobs: blobs, Key: key, Log: slog.New(slog.DiscardHandler)})
	}
	s, err := start(one)
	require.NoError(t, err)
	secret := "opensesame"
	require.NoError(t, s.sources.Put(t.Context(), stock.Source{Name: "tern", Kind: stock.RentedSource, Address: "http://127.0.0.1:1", Card: pricing.RateCard{Currency: "EUR"}}, &secret))
	s.Close()
	_, err = start(other)
	require.ErrorContains(t, err, "--key-file is not the key")

	s, err = start(one)
	require.NoError(t, err)
	require.NoError(t, LostKey(s.store.DB, other))
	s.Close()
	s, err = start(other)
	require.NoError(t, err, "where the key is lost, another one may be gone by")
	require.NoError(t, LostKey(s.store.DB, one))
	n, err := Reseal(s.store.DB, one, other)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	_, err = Reseal(s.store.DB, one, other)
	require.ErrorContains(t, err, "does not open with this service's key")
	s.Close()
	_, err = start(one)
	require.ErrorContains(t, err, "after rotate-key, the new one")
	s, err = start(other)
	require.NoError(t, err)
	row, _, err := s.sources.Find(t.Context(), "tern")
	require.NoError(t, err)
	box, err := secrets.New(other)
	require.NoError(t, err)
	opened, err := box.Open("tern", row.Secret)
	require.NoError(t, err)
	assert.Equal(t, secret, opened)
	s.Close()
}
