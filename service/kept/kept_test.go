package kept

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/frames"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// A composite is kept where it was made of what its passes are now, whichever run did those last.
func TestACompositeIsKeptWithWhatItWasMadeOf(t *testing.T) {
	t.Parallel()
	db := testdb.Open(t)
	spec := func(pass, samples string, after ...string) shots.Spec {
		return shots.Spec{Name: pass, Frames: "1-4", Launcher: "simulated", Settings: map[string]string{"samples": samples}, After: after}
	}
	run := func(n int, samples string) uuid.UUID {
		id := uuid.New()
		require.NoError(t, db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'complete', 3, $2)", id, teststage.Six.Add(time.Duration(n)*time.Hour)).Error)
		for _, s := range []shots.Spec{spec("beauty", samples), spec("composite", "1", "beauty"), spec("grain", "1", "composite")} {
			text, err := store.AsJSON(s)
			require.NoError(t, err)
			require.NoError(t, db.Exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, $2, $3)", id, s.Name, text).Error)
			require.NoError(t, db.Exec("INSERT INTO frames (run_id, shot, frame, state) SELECT $1, $2, n, 'done' FROM generate_series(1, 4) n", id, s.Name).Error)
		}
		return id
	}
	first, second := run(1, "128"), run(2, "512")
	keeps := func(samples string) (of string) {
		inputs := map[string]Input{}
		for _, s := range []shots.Spec{spec("beauty", samples), spec("composite", "1", "beauty"), spec("grain", "1", "composite")} {
			found, all, err := Of(t.Context(), db, shots.Shot{Name: s.Name, Spec: s, FrameCount: 4}, nil, inputs)
			require.NoError(t, err)
			inputs[s.Name] = Input{s, all}
			for _, f := range found {
				of += fmt.Sprintf("%s %s of %d; ", f.Shot, f.Frames, map[uuid.UUID]int{first: 1, second: 2}[f.Run])
			}
		}
		return of
	}
	assert.Equal(t, "beauty 1-4 of 2; composite 1-4 of 2; grain 1-4 of 2; ", keeps("512"))
	assert.Equal(t, "beauty 1-4 of 1; composite 1-4 of 1; grain 1-4 of 1; ", keeps("128"), "as it was before")
	assert.Empty(t, keeps("64"))

	require.NoError(t, db.Exec("UPDATE frames SET state = 'failed' WHERE run_id = $1 AND shot = 'beauty' AND frame = 3", second).Error)
	assert.Equal(t, "beauty 1-2,4 of 2; composite 1-2,4 of 2; grain 1-2,4 of 2; ", keeps("512"))
	_, _, err := Of(t.Context(), db, shots.Shot{Name: "new", Spec: spec("new", "1")}, nil, map[string]Input{"beauty": {Kept: frames.Of(1)}})
	require.NoError(t, err)
}
