package e2e

import (
	"database/sql"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/jonboulle/clockwork"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/app"
)

// A database of the first version comes up to date with what was in it.
func TestAnOldDatabaseIsBroughtUpToDate(t *testing.T) {
	h, _, one, two, run := playedHouse(t, "1-4")
	for _, a := range []hand{one, two} {
		for _, l := range a.lease() {
			a.deliver(l)
		}
	}
	h.service.Close()
	db, err := sql.Open("pgx", h.database)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS(filepath.Join("..", "service", "store", "migrations")))
	require.NoError(t, err)
	_, err = provider.DownTo(t.Context(), 1)
	require.NoError(t, err)
	assert.Zero(t, query[int](t, h.database, "SELECT count(*) FROM information_schema.tables WHERE table_name = 'sweeps'"))

	again, err := app.Start(t.Context(), app.Config{
		DatabaseURL: h.database, Blobs: h.blobs, Address: h.address, Log: slog.New(slog.DiscardHandler),
		Wall: clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)),
	})
	require.NoError(t, err)
	t.Cleanup(again.Close)
	h.service = again
	assert.Equal(t, 2, h.run(run).Counts.Done)
	frames := must[api.FrameList](t)(h.admin().ListFrames(t.Context(), run.Id, &api.ListFramesParams{}))
	assert.Equal(t, api.FrameFormatPng, frames.Items[0].Format)
	crew := crewOf(t, h.comparison("coda-060"), "bellows/g0")
	assert.Equal(t, api.CrewFiguresBasisMeasured, crew.Basis, "what was timed before still counts")
	assert.Equal(t, 2, crew.Timed, "the trial's frame and the run's")
}

func TestASweepStopsWhenItsTimeIsOver(t *testing.T) {
	h, clock, one, two, _ := playedHouse(t, "1-5")
	h.putShot("stair-030", "1-20", nil)
	s := must[api.Sweep](t)(h.admin().CreateSweep(t.Context(), &api.CreateSweepParams{}, api.NewSweep{Shot: "stair-030", BudgetS: 60, Frames: 1}))
	h.until("the sweep to be over", func() bool {
		clock.Advance(5 * time.Second)
		for _, a := range []hand{one, two} {
			a.serves()
		}
		return must[api.Sweep](t)(h.admin().GetSweep(t.Context(), s.Id)).State != api.SweepStateRunning
	})
	over := must[api.Sweep](t)(h.admin().GetSweep(t.Context(), s.Id))
	assert.Equal(t, api.SweepStateComplete, over.State)
	assert.NotEmpty(t, over.Why)
	assert.NotEmpty(t, over.Trials)
	for _, trial := range over.Trials {
		assert.NotEqual(t, api.RunStateRunning, trial.State, "it waits for what it began")
		assert.Equal(t, s.Id, trial.Sweep)
		assert.NotEmpty(t, trial.Why)
	}
}
