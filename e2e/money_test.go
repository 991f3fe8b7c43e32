package e2e

import (
	"bytes"
	"crypto/rand"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// Shares of a run's cap are told once each, as events and with the run.
func TestSharesOfTheCapAreTold(t *testing.T) {
	h, clock, _, own, run := hiredHouse(t)
	must[api.Run](t)(h.admin().SetRunState(t.Context(), run.Id, api.SetRunStateJSONRequestBody{State: "cancelled"}))
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(30 * time.Minute)}))
	run = must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: "2.00"}))
	assert.Zero(t, run.Alert)
	told := func() int {
		return query[int](t, h.database, "SELECT count(*) FROM events WHERE data->>'kind' = 'money' AND data->>'run' = $1", run.Id.String())
	}
	h.server(clock, run, api.RunServerStateStarting)
	h.until("half of the cap to be told", func() bool {
		clock.Advance(time.Second)
		own.beat()
		return h.run(run).Alert == 50
	})
	for range 20 {
		clock.Advance(5 * time.Second)
		own.beat()
	}
	assert.Equal(t, 1, told(), "an hour for 1.20 is begun, 60 % of 2.00: told once")
	assert.Contains(t, query[string](t, h.database, "SELECT data->>'cause' FROM events WHERE data->>'kind' = 'money' AND data->>'run' = $1", run.Id.String()), "EUR 1.20 of 2.00, 50 % of the cap")
	got := h.run(run)
	assert.Equal(t, []string{"2.00", "1.20"}, []string{got.Cap, got.OutsideCost})
	list := must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Run: &run.Id}))
	assert.Equal(t, "0.80", list.BudgetLeft)
}

// A secret that another key sealed is not used, and the source says what to do.
func TestASecretOpensWithItsKeyAlone(t *testing.T) {
	h, clock, source, _, run := hiredHouse(t)
	secret := "tern-token"
	must[api.Source](t)(h.admin().PutSource(t.Context(), "tern", api.NewSource{Secret: &secret, Spec: api.SourceSpec{Name: "tern", Kind: "rented", Address: source.URL, Card: api.RateCard{Currency: "EUR"}}}))
	h.config.Key = bytes.Repeat([]byte{7}, 32)
	// The one before is lost: rotanex-service rotate-key --lost.
	require.Equal(t, "sealed_with", query[string](t, h.database, "DELETE FROM settings WHERE key = 'sealed_with' RETURNING key"))
	h.restart()
	fault := func() string {
		return must[struct{ Items []api.Source }](t)(h.admin().ListSources(t.Context())).Items[0].Fault
	}
	h.until("the source to say so", func() bool { clock.Advance(time.Second); return fault() != "" })
	assert.Contains(t, fault(), "does not open with this service's key: store it again")
	assert.NotContains(t, fault(), secret)
	made, _ := source.counts()
	assert.Zero(t, made, "nothing was asked for without it")

	must[api.Source](t)(h.admin().PutSource(t.Context(), "tern", api.NewSource{Secret: &secret, Spec: api.SourceSpec{Name: "tern", Kind: "rented", Address: source.URL, Card: api.RateCard{Currency: "EUR"}}}))
	h.server(clock, run, api.RunServerStateStarting)
	h.until("the fault to be gone", func() bool { clock.Advance(time.Second); return fault() == "" })
}

// A package goes to a farm once, in chunks, no faster than the source's limit, and what
// that took is what the next plan reckons with.
func TestAPackageGoesOnceAndNoFasterThanItsLimit(t *testing.T) {
	h, _ := farmBeside(t, nil, func(farm http.Handler) http.Handler { return farm }, func(h *house, _ string) { h.trialByHand(h.hand(eddy), "coda-060", "eddy", "g0") })
	folder := scenes(t)
	data := make([]byte, 9_000_000)
	_, _ = rand.Read(data)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "sky.exr"), data, 0o600))
	source := must[struct{ Items []api.Source }](t)(h.admin().ListSources(t.Context())).Items[0]
	source.Spec.UploadMbS = 2
	must[api.Source](t)(h.admin().PutSource(t.Context(), "gannet", api.NewSource{Spec: source.Spec}))
	assert.Contains(t, h.good("packages", "make", "coda-060", folder, "coda.yaml", "sky.exr"), "sent now")
	assert.Contains(t, h.good("packages", "make", "coda-060", folder, "coda.yaml", "sky.exr"), "all of it was there already")

	// Before anything was sent, the limit says how long it will take.
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(300 * time.Second)}))
	require.Len(t, plan.Uploads, 1)
	assert.InDelta(t, 5, plan.Uploads[0].End.Sub(plan.Uploads[0].Start).Seconds(), 1, "nine megabytes at two a second")
	run := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: plan.OutsideCost}))
	held := h.job(run, api.FarmJobStateHeld)
	must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), held.Id, api.JudgeProofsJSONRequestBody{Accept: true}))
	h.job(run, api.FarmJobStateEnded)
	sent := query[int](t, h.database, "SELECT sum(bytes)::int FROM transfers WHERE source = 'gannet'")
	assert.Greater(t, sent, 9_000_000)
	assert.GreaterOrEqual(t, query[float64](t, h.database, "SELECT sum(seconds) FROM transfers WHERE source = 'gannet'"), float64(sent-4<<20)/2e6, "but for the first chunk, which goes at once")
	assert.Equal(t, 1, query[int](t, h.database, "SELECT count(*) FROM transfers WHERE source = 'gannet'"), "several jobs of one shot send it once")
}
