package tally

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// counted counts the frames of a run, all of them.
func counted(t *testing.T, db *gorm.DB, run uuid.UUID) []Counts {
	t.Helper()
	all, err := store.Rows(db.Raw(`SELECT shot, count(*) FILTER (WHERE state = 'waiting'), count(*) FILTER (WHERE state = 'rendering'), count(*) FILTER (WHERE state = 'done'), count(*) FILTER (WHERE state = 'failed')
		FROM frames WHERE run_id = $1 GROUP BY 1 ORDER BY 1`, run), func(row store.Row) (c Counts, err error) {
		return c, row.Scan(&c.Shot, &c.Waiting, &c.Rendering, &c.Done, &c.Failed)
	})
	require.NoError(t, err)
	return all
}

// rough takes from sums what adding up in another order changes.
func rough(sums []Sum) []string {
	var out []string
	for _, s := range sums {
		out = append(out, fmt.Sprintf("%v %d %d %.6f %.6f %.6f %v %v %v", s.key(), s.Done, s.Failed, s.DoneS, s.FailedS, s.HeldS, s.Causes, s.First, s.Last))
	}
	slices.Sort(out)
	return out
}

// Writers begin, render, fail and finish frames in transactions of their own, which end in any order, while the tally is read: it
// is never other than what counting everything says at the end, and its frames are never more or fewer than there are.
func TestATallyIsWhatCountingEverythingSays(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	db := on.DB.DB.WithContext(t.Context())
	run, other := uuid.New(), uuid.New()
	const shots, frames, writers = 3, 40, 6
	for _, id := range []uuid.UUID{run, other} {
		require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", id, on.Wall.Now()).Error)
		require.NoError(t, db.Exec("INSERT INTO frames (run_id, shot, frame, state, from_run) SELECT $1, 'coda-' || s, n, CASE WHEN n <= 2 THEN 'done' ELSE 'waiting' END, CASE WHEN n <= 2 THEN $4::uuid END FROM generate_series(1, $2::int) s, generate_series(1, $3::int) n", id, shots, frames, other).Error)
	}
	tallies := New(on.DB)
	var writing sync.WaitGroup
	for w := range writers {
		random := rand.New(rand.NewPCG(7, uint64(w)))
		writing.Go(func() {
			for n := w + 3; n <= frames; n += writers {
				for shot := range shots {
					of := cmp.Or(map[bool]uuid.UUID{true: other}[random.IntN(5) == 0], run)
					assert.NoError(t, db.Transaction(func(tx *gorm.DB) error {
						to, outcome, cause := "done", "done", ""
						if random.IntN(4) == 0 {
							to, outcome, cause = "failed", "failed", fmt.Sprint("cause ", random.IntN(2))
						}
						began := on.Wall.Now().Add(time.Duration(random.IntN(1000)) * time.Minute)
						if err := tx.Exec(`WITH f AS (UPDATE frames SET state = $4, failures = failures + 1 WHERE run_id = $1 AND shot = $2 AND frame = $3 RETURNING id)
							INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, cause, started_at, ended_at, seconds, opening_s, booking_id)
							SELECT id, $1, 1, $5, 'g0', $6, $7, $8, $8::timestamptz + interval '10 seconds', 9.5, 0.5, $9 FROM f`,
							of, fmt.Sprint("coda-", shot+1), n, to, fmt.Sprint("host-", random.IntN(3)), outcome, cause, began, random.IntN(2)).Error; err != nil {
							return err
						}
						return tx.Exec("SELECT pg_sleep($1)", random.Float64()/300).Error
					}))
				}
			}
		})
	}
	over := make(chan struct{})
	go func() { writing.Wait(); close(over) }()
	for open := true; open; {
		select {
		case <-over:
			open = false
		default:
		}
		got, err := tallies.Of(t.Context(), run)
		require.NoError(t, err)
		for _, c := range got.Counts {
			assert.Equal(t, frames, c.Waiting+c.Rendering+c.Done+c.Failed, c.Shot)
			assert.GreaterOrEqual(t, c.Waiting, 0)
		}
	}
	// How far it is summed up on the way is for others as well to say, whose transactions hold marks up; in the end it is all.
	last, err := tallies.last(t.Context(), run)
	require.NoError(t, err)
	var got Tally
	testdb.Until(t, "what ended to be summed up once and kept", func() bool {
		got, err = tallies.Of(t.Context(), run)
		require.NoError(t, err)
		return tallies.find(run).mark == last
	})
	assert.Equal(t, counted(t, db, run), got.Counts)
	for _, s := range got.Sums {
		assert.InDelta(t, 0.5*float64(s.Done), s.OpeningS, 1e-9, "of frames that are done")
	}
	fresh, err := New(on.DB).Of(t.Context(), run)
	require.NoError(t, err)
	assert.Equal(t, rough(fresh.Sums), rough(got.Sums), "kept on the way or summed up at once")
	assert.NotEmpty(t, got.Sums)

	require.NoError(t, db.Exec("UPDATE frames SET state = 'rendering' WHERE run_id = $1 AND state = 'waiting' AND frame % 2 = 0", run).Error)
	require.NoError(t, db.Exec("UPDATE frames SET state = 'waiting', failures = 0 WHERE run_id = $1 AND state = 'failed'", run).Error)
	got, err = tallies.Of(t.Context(), run)
	require.NoError(t, err)
	assert.Equal(t, counted(t, db, run), got.Counts, "what failed may wait again")
}

// What was written down is gone on from by a service that starts, and what cannot be read is summed up anew. It is not beside others:
// its transactions would hold their marks up.
func TestATallyIsWrittenDown(t *testing.T) {
	on := teststage.New(t)
	db := on.DB.DB.WithContext(t.Context())
	run := uuid.New()
	require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $2)", run, on.Wall.Now()).Error)
	add := func(from, to int) {
		require.NoError(t, db.Exec(`WITH f AS (INSERT INTO frames (run_id, shot, frame, state, fence) SELECT $1, 'coda-' || n % 3, n, 'done', 1 FROM generate_series($2::int, $3::int) n RETURNING id)
			INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, started_at, ended_at, seconds) SELECT id, $1, 1, 'host-' || id % 7, 'g0', 'done', $4, $4::timestamptz + interval '10 seconds', 9.5 FROM f`, run, from, to, on.Wall.Now()).Error)
	}
	written := func() (mark int64) {
		require.NoError(t, db.Raw("SELECT coalesce(max(mark), 0) FROM tallies WHERE run_id = $1", run).Row().Scan(&mark))
		return mark
	}
	of := func(t2 *Tallies) Tally {
		got, err := t2.Of(t.Context(), run)
		require.NoError(t, err)
		return got
	}
	// Its frames are all there when a run begins; here they come as they are done, and their totals with each service.
	add(1, often-1)
	small := New(on.DB)
	of(small)
	of(small)
	assert.Zero(t, written(), "a small run is soon summed up")
	add(often, often)
	testdb.Until(t, "it to be written down", func() bool { of(New(on.DB)); return written() > 0 })
	first := written()
	assert.Equal(t, counted(t, db, run), of(New(on.DB)).Counts)

	require.NoError(t, db.Exec("UPDATE tries SET seconds = 1000 WHERE id <= $1 AND run_id = $2", first, run).Error)
	require.NoError(t, db.Exec(`INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, cause, started_at, ended_at, seconds) SELECT min(frame_id), $1, 2, 'late', 'g0', 'failed', 'timeout', $2, $2, 3 FROM tries`, run, on.Wall.Now()).Error)
	fresh := of(New(on.DB))
	seconds := 0.0
	for _, s := range fresh.Sums {
		seconds += s.DoneS
	}
	assert.InDelta(t, 9.5*often, seconds, 1e-6, "what was summed up is not read again")
	assert.True(t, slices.ContainsFunc(fresh.Sums, func(s Sum) bool { return s.Host == "late" && s.Failed == 1 }), "what came since is added")

	require.NoError(t, db.Exec("UPDATE tallies SET sums = '7'").Error)
	seconds = 0
	for _, s := range of(New(on.DB)).Sums {
		seconds += s.DoneS
	}
	assert.InDelta(t, 1000*often, seconds, 1e-3, "what cannot be read is summed up anew")
}

func TestARunOfNothing(t *testing.T) {
	t.Parallel()
	got, err := New(teststage.New(t).DB).Of(t.Context(), uuid.New())
	require.NoError(t, err)
	assert.Empty(t, got.Sums)
	assert.Empty(t, got.Counts)
}
