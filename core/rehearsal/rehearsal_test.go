package rehearsal

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/replan"
	"rotanex.example/core/simulate"
)

// small is a weekend with a twentieth of the frames and of the time.
func small(seed uint64) Weekend {
	w := Draw(seed)
	for i := range w.Problem.Shots {
		s := &w.Problem.Shots[i]
		s.Frames, s.Deadline = max(4, s.Frames/20), s.Deadline/20
	}
	if x := w.urgent; x != nil {
		x.shot.Frames, x.comes = 5, x.comes/20
	}
	for h := range w.truth.lost {
		w.truth.lost[h] /= 20
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
	for seed := range uint64(4) {
		w := small(seed)
		solved, err := planning.Solve(t.Context(), w.Problem, planning.Options{})
		require.NoError(t, err)
		plan := Plan{Plan: solved, Problem: w.Problem, Cap: planning.Outside(w.Problem, solved).Plus(solved.Cost)}
		for _, policy := range Policies {
			played, err := w.Play(t.Context(), plan, policy, 0.8)
			require.NoError(t, err, "seed %d", seed)
			assert.Less(t, played.Finish, 72*time.Hour, "seed %d, %s: it ends", seed, policy)
			assert.Positive(t, played.Cost)
			for _, s := range w.Problem.Shots {
				assert.Contains(t, played.Met, s.ID)
			}
			if policy == replan.Off {
				again, err := w.Play(t.Context(), plan, policy, 0.8)
				require.NoError(t, err)
				assert.Equal(t, played, again, "seed %d", seed)
				assert.Zero(t, played.Changes)
			}
			changes += played.Changes
		}
		knowing, err := w.Knowing(t.Context())
		require.NoError(t, err)
		assert.Len(t, knowing.Met, len(w.Problem.Shots)+btoi(w.urgent != nil))
	}
	assert.Positive(t, changes, "a schedule was changed somewhere")
}

// What is booked of a desk is less than its hours, as earlier weekends had it; what it renders as its
// owner comes waits again, and is done in the end.
func TestDesksAreTakenBack(t *testing.T) {
	t.Parallel()
	hours := func(all [][2]planning.Millis) (sum planning.Millis) {
		for _, w := range all {
			sum += w[1] - w[0]
		}
		return sum
	}
	checked := 0
	for seed := range uint64(40) {
		w := Draw(seed)
		w.Remembers()
		for _, id := range w.deskNames() {
			assert.Positive(t, w.Uncertainty.Desks[id].Taken, "it was taken back before")
			for _, h := range w.Problem.Hosts {
				if booked := w.books(h, w.Problem.Start); h.ID == id {
					checked++
					assert.Equal(t, h.Windows, booked.Open)
					assert.Less(t, hours(booked.Windows), hours(h.Windows))
				}
			}
			for _, a := range w.desks[id].away {
				assert.Equal(t, a.To, w.desks[id].inUse(a.From))
				assert.True(t, w.desks[id].inUse(a.To).IsZero(), "its times do not touch")
			}
		}
	}
	assert.Positive(t, checked)

	x := desk{away: []simulate.Away{{From: friday.Add(time.Hour), To: friday.Add(2 * time.Hour)}}}
	p := &play{w: Weekend{Problem: planning.Problem{Hosts: []planning.Host{{ID: "eddy"}}}, desks: map[string]desk{"eddy": x}}, used: map[string]bool{}}
	p.done = []finished{{Finished: replan.Finished{Host: "eddy", Ended: friday.Add(50 * time.Minute)}}, {Finished: replan.Finished{Host: "eddy", Ended: friday.Add(70 * time.Minute)}}}
	for _, at := range []struct {
		after time.Duration
		news  bool
		done  int
	}{{59 * time.Minute, false, 2}, {time.Hour, true, 1}, {61 * time.Minute, false, 1}, {2 * time.Hour, true, 1}} {
		p.now = friday.Add(at.after)
		assert.Equal(t, at.news, p.ownersCome(), at.after)
		assert.Len(t, p.done, at.done, at.after)
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// What is counted, on weekends made by hand: two that were promised at 95 %, and one that was not.
func TestWhatIsSummedUp(t *testing.T) {
	t.Parallel()
	sure := forecast.Forecast{Simulations: 100, Chance: 0.97, Finishes: make([]float64, 41)}
	for i := range sure.Finishes {
		sure.Finishes[i] = float64(100 + i) // 120 s for a half, 132 for four in five, 138 for 95 in 100
	}
	unsure := sure
	unsure.Chance = 0.5
	weekend := func(f forecast.Forecast, finish time.Duration, cost float64, met bool) Weekends {
		return Weekends{
			Weekend: Weekend{Problem: planning.Problem{Shots: []planning.Shot{{ID: "coda", Deadline: 150_000}}}}, Knowing: Knowing{Cost: 2, Met: map[string]bool{"coda": true, "lamp": false}}, Plan: Plan{Forecast: f},
			Played: map[replan.Policy]Played{replan.Off: {Met: map[string]bool{"coda": met}, Finish: finish, Cost: cost, Moved: 3, Frames: 10, Changes: 1}},
		}
	}
	s := Summarize([]Weekends{weekend(sure, 110*time.Second, 3, true), weekend(sure, 135*time.Second, 9, false), weekend(unsure, 200*time.Second, 5, true), {}}, replan.Off)
	assert.Equal(t, Share{1, 2}, s.Met)
	assert.Equal(t, Share{2, 3}, s.Possible)
	assert.Equal(t, []Share{{1, 3}, {1, 3}, {2, 3}}, s.Before)
	assert.InDelta(t, (1.5+2.5)/2, s.Cost, 1e-9)
	assert.Equal(t, 2, s.Compared, "the second was late")
	assert.Equal(t, Share{9, 30}, s.Moved)
	assert.Equal(t, 3, s.Changes)
	assert.Equal(t, "–", Share{}.String())
	assert.Equal(t, "25.0 % of 4", Share{1, 4}.String())
	var out strings.Builder
	Print(&out, []Weekends{weekend(sure, 110*time.Second, 3, true)})
	assert.Contains(t, out.String(), "| 1 weekends | off | auto |")
	assert.Contains(t, out.String(), "100.0 % of 1")
}

// Runs that are planned anew end anywhere up to their deadlines: by the weekends before that is said of the next.
func TestWhatWasSeenIsSaidOfTheNext(t *testing.T) {
	t.Parallel()
	forecasted := forecast.Forecast{Simulations: 100, Finish: forecast.Spread{P10: 90, P50: 100, P90: 110}, Finishes: make([]float64, 41), Shots: []forecast.Shot{{ID: "coda", Finish: forecast.Spread{P10: 90, P50: 100, P90: 110}}}}
	for i := range forecasted.Finishes {
		forecasted.Finishes[i] = float64(80 + i)
	}
	var all []Weekends
	for i := range 300 {
		ends := time.Duration(101+i*37%100) * time.Second
		played := Played{Ends: map[string]time.Duration{"coda": ends}, Finish: ends}
		all = append(all, Weekends{
			Weekend: Weekend{Problem: planning.Problem{Shots: []planning.Shot{{ID: "coda", Deadline: 200_000}}}},
			Plan:    Plan{Forecast: forecasted}, Played: map[replan.Policy]Played{replan.Off: played, replan.Auto: played},
		})
	}
	for i, part := range []float64{0.5, 0.8, 0.95} {
		s := Summarize(all, replan.Auto)
		assert.InDelta(t, part, float64(s.Before[i].Of)/float64(s.Before[i].All), 0.06, part)
	}
	assert.Zero(t, Summarize(all, replan.Off).Before[0].Of, "of the plan as it is")
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
