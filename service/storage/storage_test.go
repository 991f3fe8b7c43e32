package storage

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

type kept struct {
	*Storage
	t  *testing.T
	on *teststage.Stage
}

func newKept(t *testing.T) kept {
	t.Parallel()
	on := teststage.New(t)
	return kept{New(on.DB, on.Clock, on.Blobs, on.Log), t, &on}
}

func (k kept) exec(statement string, args ...any) {
	k.t.Helper()
	require.NoError(k.t, k.on.DB.Exec(statement, args...).Error)
}

func (k kept) count(statement string) (n int) {
	k.t.Helper()
	require.NoError(k.t, k.on.DB.Raw(statement).Row().Scan(&n))
	return n
}

// Each kind is deleted when it is older than it is kept for, and not before; what rests on it stays.
func TestWhatIsOldIsDeleted(t *testing.T) {
	k := newKept(t)
	run, plan, other := uuid.New(), uuid.New(), uuid.New()
	day := func(n int) time.Time { return teststage.Six.AddDate(0, 0, -n) }
	for _, n := range []int{3, 40, 400} {
		k.exec("INSERT INTO events (run_id, data, at) VALUES (?, '{}', ?)", run, day(n))
		k.exec("INSERT INTO tokens (kind, name, role, hash, created_at, expires_at) VALUES ('session', 'ada', 'viewer', ?, ?, ?)", []byte(fmt.Sprint(n)), day(n), day(n))
		k.exec("INSERT INTO transfers (source, shot, bytes, seconds, at) VALUES ('tern', 'coda-060', 1, 1, ?)", day(n))
	}
	k.exec("INSERT INTO tokens (kind, name, role, hash, created_at) VALUES ('access', 'ada', 'viewer', 'x', ?)", day(1000))
	for i, id := range []uuid.UUID{plan, other} {
		k.exec("INSERT INTO plans (id, created_at, request, shots, status, cost, cost_bound, currency, problem, plan, notes) VALUES (?, ?, ?, '[]', 'meets', 0, 0, 'EUR', '{}', '{}', '{}')", id, day(100), []byte{byte(i)})
	}
	k.exec("INSERT INTO runs (id, kind, request, state, tries, created_at, plan_id) VALUES (?, 'run', '', 'complete', 3, ?, ?)", run, day(100), plan)
	require.NoError(t, k.Sweep(t.Context()))
	assert.Equal(t, 1, k.count("SELECT count(*) FROM events"))
	assert.Equal(t, 2, k.count("SELECT count(*) FROM tokens"), "one that never expires is kept")
	assert.Equal(t, 2, k.count("SELECT count(*) FROM transfers"))
	assert.Equal(t, 1, k.count("SELECT count(*) FROM plans"), "what a run went by is kept")

	require.NoError(t, k.Keep(t.Context(), "events", 1))
	require.NoError(t, k.Sweep(t.Context()))
	assert.Zero(t, k.count("SELECT count(*) FROM events"))
	all, err := k.All(t.Context())
	require.NoError(t, err)
	for _, x := range all {
		if x.Name == "events" {
			assert.Equal(t, 1, x.Days)
			assert.EqualValues(t, 3, x.Pruned)
			assert.Equal(t, teststage.Six, x.At.UTC())
			assert.Positive(t, x.Bytes)
		}
	}
	require.ErrorContains(t, k.Keep(t.Context(), "audit", 1), "is not from 90 to 3650")
	require.ErrorContains(t, k.Keep(t.Context(), "frames", 10), "nothing is kept that is called frames; there are audit, events")
}

// Files that nothing needs are deleted once they are old; those of frames, shots and runs are not, however old they are.
func TestFilesThatNothingNeedsAreDeleted(t *testing.T) {
	k := newKept(t)
	run := uuid.New()
	put := func(key string) {
		require.NoError(t, k.on.Blobs.WriteAll(context.Background(), key, []byte("x"), nil))
	}
	base := "runs/" + run.String() + "/coda-060/"
	k.exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES (?, 'run', '', 'running', 3, ?)", run, teststage.Six)
	for n, picture := range map[int]string{1: base + "000001-2-ab", 2: "", 10: ""} {
		k.exec("INSERT INTO frames (run_id, shot, frame, state, picture) VALUES (?, 'coda-060', ?, 'done', ?)", run, n, picture)
	}
	beside := base + "000001-0~depth-ab"
	k.exec("INSERT INTO frame_files (frame_id, name, fence, kind, ending, sha256, bytes, key) SELECT id, 'depth', fence, 'picture', 'exr', '', 1, ? FROM frames WHERE run_id = ? AND frame = 1", beside, run)
	put(beside)
	lost, ours := base+"000001-1-cd", []string{base + "000001-2-ab", base + "000002-1", base + "000010-1"}
	a, b, c := strings.Repeat("a", 64), strings.Repeat("b", 64), strings.Repeat("c", 64)
	k.exec(`INSERT INTO packages (shot, files, sum, size, made_at) VALUES ('coda-060', jsonb_build_array(jsonb_build_object('path', 'x', 'chunks', jsonb_build_array(?::text))), '', 1, now())`, a)
	k.exec(`INSERT INTO run_shots (run_id, shot, spec, package) VALUES (?, 'coda-060', '{}', jsonb_build_array(jsonb_build_object('path', 'x', 'chunks', jsonb_build_array(?::text))))`, run, b)
	chunk := func(sum string) string { return "chunks/" + sum[:2] + "/" + sum }
	for _, sum := range []string{a, b, c} {
		k.exec("INSERT INTO chunks (sum, size) VALUES (?, 1)", sum)
		put(chunk(sum))
		ours = append(ours, chunk(sum))
	}
	for _, key := range append(ours[:3:3], lost) {
		put(key)
	}
	there := func(key string) bool {
		is, err := k.on.Blobs.Exists(t.Context(), key)
		require.NoError(t, err)
		return is
	}
	put("logs/" + run.String() + "/coda-060/000001-2.gz")
	for _, kind := range []string{"pictures", "package-parts", "render-logs"} {
		gone, err := k.files.prune(t.Context(), kind, time.Now().Add(-time.Hour))
		require.NoError(t, err)
		assert.Zero(t, gone, "they are new: a try may be about to count")
		gone, err = k.files.prune(t.Context(), kind, time.Now().Add(time.Hour))
		require.NoError(t, err)
		assert.EqualValues(t, 1, gone)
	}
	assert.False(t, there(lost))
	assert.True(t, there(beside))
	assert.False(t, there(chunk(c)))
	for _, key := range ours[:5] {
		assert.True(t, there(key), key)
	}
	assert.Equal(t, 2, k.count("SELECT count(*) FROM chunks"))
	number, _ := k.files.counted("pictures")
	assert.EqualValues(t, 4, number)
}
