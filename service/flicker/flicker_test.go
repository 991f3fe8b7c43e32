package flicker

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/pictures"
	"rotanex.example/service/tally"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// frame is a picture of a slope that moves, of so much light.
func frame(t *testing.T, n int, light float64) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, 240, 136))
	for x := range 240 {
		for y := range 136 {
			img.SetNRGBA(x, y, color.NRGBA{uint8(light * float64((x+n)%240)), uint8(light * float64(y)), uint8(light * 90), 255})
		}
	}
	var file bytes.Buffer
	require.NoError(t, png.Encode(&file, img))
	return file.Bytes()
}

func TestAFinishedShotIsLookedAtOnce(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	run := uuid.New()
	f := New(on.DB, on.Clock, pictures.New(on.Blobs), tally.New(on.DB), on.Log)
	exec := func(sql string, args ...any) { require.NoError(t, on.DB.Exec(sql, args...).Error) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, teststage.Six)
	add := func(n int, state string, light float64) {
		key := fmt.Sprintf("runs/%s/coda-060/%06d-1", run, n)
		require.NoError(t, on.Blobs.WriteAll(context.Background(), key, frame(t, n, light), nil))
		exec("INSERT INTO frames (run_id, shot, frame, fence, state, format, done_at, host, crew) VALUES (?, 'coda-060', ?, 1, ?, 'png', ?, 'eddy', 'g0')",
			run, n, state, teststage.Six.Add(time.Duration(n)*time.Second))
		exec("INSERT INTO tries (frame_id, fence, run_id, host, crew, outcome, started_at, ended_at, seconds) SELECT id, 1, run_id, 'eddy', 'g0', 'done', $2, $2, 1 FROM frames WHERE run_id = $1 AND frame = $3 AND state = 'done'", run, teststage.Six, n)
	}
	for n := 1; n <= 20; n++ {
		light := 1.0
		if n == 13 {
			light = 0.8
		}
		add(n, "done", light)
	}
	add(21, "waiting", 1)
	marks := func() (out string) {
		require.NoError(t, on.DB.Raw("SELECT coalesce(string_agg(frame || ' ' || (seen->'flicker'->>'kind'), ', ' ORDER BY frame), '') FROM frames WHERE run_id = $1 AND jsonb_exists(seen, 'flicker')", run).Row().Scan(&out))
		return out
	}
	require.NoError(t, f.Sweep(t.Context()))
	assert.Empty(t, marks(), "a frame is yet to come")

	exec("DELETE FROM frames WHERE run_id = $1 AND frame = 21", run)
	f = New(on.DB, on.Clock, pictures.New(on.Blobs), tally.New(on.DB), on.Log)
	require.NoError(t, f.Sweep(t.Context()))
	assert.Equal(t, "13 darker", marks())
	exec("UPDATE frames SET seen = NULL WHERE run_id = $1", run)
	require.NoError(t, f.Sweep(t.Context()))
	assert.Empty(t, marks(), "it was looked at")

	// What failed is begun again.
	f = New(on.DB, on.Clock, pictures.New(on.Blobs), tally.New(on.DB), on.Log)
	exec("ALTER TABLE frames ADD CONSTRAINT unmarked CHECK (NOT coalesce(jsonb_exists(seen, 'flicker'), false))")
	require.Error(t, f.Sweep(t.Context()))
	exec("ALTER TABLE frames DROP CONSTRAINT unmarked")
	require.NoError(t, f.Sweep(t.Context()))
	assert.Equal(t, "13 darker", marks())

	// Once it is rendered again it is as the others are.
	key := fmt.Sprintf("runs/%s/coda-060/%06d-2", run, 13)
	require.NoError(t, on.Blobs.WriteAll(context.Background(), key, frame(t, 13, 1), nil))
	exec(`UPDATE frames SET fence = 2, seen = '{"layers": ["a"], "flicker": {"kind": "darker", "amount": 1}}' WHERE run_id = $1 AND frame = 13`, run)
	f = New(on.DB, on.Clock, pictures.New(on.Blobs), tally.New(on.DB), on.Log)
	require.NoError(t, f.Sweep(t.Context()))
	assert.Empty(t, marks())
	var seen string
	require.NoError(t, on.DB.Raw("SELECT seen::text FROM frames WHERE run_id = $1 AND frame = 13", run).Row().Scan(&seen))
	assert.JSONEq(t, `{"layers": ["a"]}`, seen, "what else was seen of it stays")
}
