package rehearsal

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/replan"
)

// small is a weekend with a tenth of the frames and of the time.
func small(seed uint64) Weekend {
	w := Draw(seed)
	for i := range w.Problem.Shots {
		s := &w.Problem.Shots[i]
		s.Frames, s.Deadline = max(4, s.Frames/10), s.Deadline/10
	}
	if x := w.urgent; x != nil {
		x.shot.Frames, x.comes = 5, x.comes/10
	}
	for h := range w.truth.lost {
		w.truth.lost[h] /= 10
	}
	return w
}

func TestWhatIsDrawnIsAProblem(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		seed := rapid.Uint64().Draw(t, "seed")
		w := Draw(seed)
		require.NoError(t, w.Problem.Validate())
		assert.Equal(t, w, Draw(seed), "the same seed gives the same")
		for _, s := range w.Problem.Shots {
			assert.Greater(t, s.Deadline, planning.Millis(0))
		}
		for _, x := range w.Problem.Timings {
			assert.Greater(t, w.truth.frame[unframed(x)], 0.0, "there is a truth about every row")
		}
	})
}

// Whatever happens in a weekend, with the schedule kept or left alone, every frame is done as
// long as a host is left, and the same weekend goes the same way twice.
func TestAWeekendIsPlayed(t *testing.T) {
	t.Parallel()
	changes := 0
	for seed := range uint64(12) {
		w := small(seed)
		plan, err := w.Plan(t.Context(), 0.8)
		require.NoError(t, err)
		for _, policy := range Policies {
			played, err := w.Play(t.Context(), plan, policy, 0.8)
			require.NoError(t, err, "seed %d", seed)
			again, err := w.Play(t.Context(), plan, policy, 0.8)
			require.NoError(t, err)
			assert.Equal(t, played, again, "seed %d", seed)
			assert.Less(t, played.Finish, 72*time.Hour, "seed %d, %s: it ends", seed, policy)
			assert.Positive(t, played.Cost)
			for _, s := range w.Problem.Shots {
				assert.Contains(t, played.Met, s.ID)
			}
			if policy == replan.Off {
				assert.Zero(t, played.Changes)
			}
			changes += played.Changes
		}
	}
	assert.Positive(t, changes, "a schedule was changed somewhere")
}

// Nobody who does not know is asked to be better than who does: in the mean of some weekends
// in which both are in time, knowing costs less.
func TestKnowingIsCheaper(t *testing.T) {
	t.Parallel()
	var all []Weekends
	for seed := range uint64(10) {
		w := small(seed)
		x := Weekends{Weekend: w, Played: map[replan.Policy]Played{}}
		var err error
		x.Knowing, err = w.Knowing(t.Context())
		require.NoError(t, err)
		x.Plan, err = w.Plan(t.Context(), 0.8)
		require.NoError(t, err)
		x.Played[replan.Off], err = w.Play(t.Context(), x.Plan, replan.Off, 0.8)
		require.NoError(t, err)
		all = append(all, x)
	}
	s := Summarize(all, replan.Off)
	assert.Greater(t, s.Cost, 1.0)
	assert.Greater(t, s.Compared, 2)
	assert.Zero(t, s.Moved.Of)
	assert.Equal(t, "–", Share{}.String())
	assert.Equal(t, "25.0 % of 4", Share{1, 4}.String())
}

func TestWhoKnowsTakesAHostForAsMuchAsItIs(t *testing.T) {
	t.Parallel()
	hour := planning.Millis(3_600_000)
	w := Weekend{truth: truth{used: []used{{"eddy", time.Hour, 3 * time.Hour, 2}}, lost: map[string]time.Duration{"dory": 2 * time.Hour}}}
	open := func(id string) [][2]planning.Millis {
		return w.open(planning.Host{ID: id, Windows: [][2]planning.Millis{{0, 5 * hour}}})
	}
	assert.Equal(t, [][2]planning.Millis{{0, hour}, {2 * hour, 5 * hour}}, open("eddy"), "of two hours at half its speed one is left")
	assert.Equal(t, [][2]planning.Millis{{0, 2 * hour}}, open("dory"))
	assert.Equal(t, [][2]planning.Millis{{0, 5 * hour}}, open("bellows"))
}

func TestWhatIsLearntFromFrames(t *testing.T) {
	t.Parallel()
	factor, off := learnt(nil, 0.2)
	assert.Equal(t, 1.0, factor)
	assert.Equal(t, 0.2, off)
	few, fewOff := learnt([]float64{0.3}, 0.2)
	many, manyOff := learnt([]float64{0.3, 0.3, 0.3, 0.3, 0.3, 0.3, 0.3, 0.3}, 0.2)
	assert.Less(t, few, many)
	assert.InDelta(t, 1.35, many, 0.04)
	assert.Less(t, manyOff, fewOff)
}
