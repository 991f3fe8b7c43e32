package simulator_test

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/simulator"
)

func TestFatesAreRead(t *testing.T) {
	for text, want := range map[string]simulator.Fate{
		"1:never-boots": {NeverBoots: true}, "3:dies=40m": {DiesAfter: 40 * time.Minute}, "12:dies=1h30m": {DiesAfter: 90 * time.Minute},
	} {
		_, got, err := simulator.ParseFate(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	nth, _, err := simulator.ParseFate("12:dies=1h30m")
	require.NoError(t, err)
	assert.Equal(t, 12, nth)
	for _, bad := range []string{"", "never-boots", "0:never-boots", "-1:dies=4m", "1:dies", "1:dies=soon", "1:lives", "one:never-boots"} {
		_, _, err := simulator.ParseFate(bad)
		assert.Error(t, err, bad)
	}
}

// let rents one server with a fate and returns how it is.
func let(t *testing.T, fate simulator.Fate) (providers.RemoteServers, func() providers.Server) {
	t.Helper()
	offer := ternSolo
	offer.SetupS = 0
	h := &simulator.Hire{
		Offers: map[string]stock.Offer{"tern-solo": offer}, ClockFactor: 6000, Folder: t.TempDir(), Fates: map[int]simulator.Fate{1: fate}, Log: slog.New(slog.DiscardHandler),
		Agent: []string{"/bin/sh", "-c", "exec sleep 60", "agent"},
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	server := httptest.NewServer(h.Handler(ctx))
	t.Cleanup(func() { stop(); server.Close(); h.Wait() })
	source := providers.RemoteServers{Remote: providers.Remote{Address: server.URL}}
	require.NoError(t, source.Make(ctx, providers.Order{Name: "one", Owner: "us", Offer: "tern-solo", Service: "http://127.0.0.1:1", JoinToken: "t"}))
	return source, func() providers.Server {
		seen, err := source.Look(ctx, "one")
		require.NoError(t, err)
		return seen
	}
}

func TestAServerThatDiesStopsItsMeter(t *testing.T) {
	_, look := let(t, simulator.Fate{DiesAfter: 10 * time.Minute})
	awaited(t, "it to be up", func() bool { return look().State == providers.Up })
	awaited(t, "it to die", func() bool { return look().State == providers.Stopped })
	dead := look()
	assert.GreaterOrEqual(t, dead.Metered, 600.0, "it stood for its boot and ten minutes")
	assert.Equal(t, dead, look(), "a dead server's meter stands")
}

func TestAServerThatNeverBootsIsPaidUntilItIsStopped(t *testing.T) {
	source, look := let(t, simulator.Fate{NeverBoots: true})
	awaited(t, "its time to boot to be over", func() bool { return look().Metered > 600 })
	assert.Equal(t, providers.Booting, look().State)
	require.NoError(t, source.Stop(t.Context(), "one"))
	assert.Equal(t, providers.Stopped, look().State)
	assert.Error(t, source.Keep(t.Context(), "one", "an-image"), "of what is not up no image is kept")
}
