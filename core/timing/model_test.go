package timing

import (
	"context"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The intervals are honest: over many made sets of times with known truth, what is
// called a 90 % interval holds the truth, or the row left out, about that often.
func TestIntervalsHoldWhatTheySay(t *testing.T) {
	held, of := 0, 0
	heldRows, rows, unsaid := 0, 0, 0
	var off []float64
	for _, name := range slices.Sorted(maps.Keys(rigs)) {
		for seed := range uint64(2) {
			m := rigs[name].make(rand.New(rand.NewPCG(seed, 41)))
			left, err := LeaveOut(context.Background(), m.rows, nil)
			require.NoError(t, err)
			for i, l := range left {
				if l.Why != "" {
					continue
				}
				rows++
				y := m.rows[i].Seconds
				inside := l.Low <= y && y <= l.High
				if inside {
					heldRows++
				}
				off = append(off, math.Abs(l.Seconds/y-1))
				if off[len(off)-1] > 0.3 && !inside {
					unsaid++
				}
			}
			model, err := Fit(m.rows)
			require.NoError(t, err)
			for _, shot := range m.shots {
				for _, p := range m.every {
					if model.Unknown(shot, p) != "" {
						continue
					}
					said, err := model.Predict(shot, p, nil, "", false)
					require.NoError(t, err)
					of++
					if truth := m.truth(shot, p); said.Low <= truth && truth <= said.High {
						held++
					}
					assert.GreaterOrEqual(t, min(said.Parts.Fixed, said.Parts.Load, said.Parts.Work), 0.0)
					assert.InEpsilon(t, said.Seconds, said.Parts.Total(), 1e-9)
				}
			}
		}
	}
	slices.Sort(off)
	t.Logf("truth held %.3f of %d, rows held %.3f of %d, median off %.3f, %d unsaid", float64(held)/float64(of), of, float64(heldRows)/float64(rows), rows, median(off), unsaid)
	assert.InDelta(t, 0.90, float64(held)/float64(of), 0.05)
	assert.InDelta(t, 0.90, float64(heldRows)/float64(rows), 0.065)
	assert.Less(t, median(off), 0.05)
	assert.Less(t, float64(unsaid)/float64(rows), 0.02)
}

func at(host, crew string, seconds float64, members ...Member) Observation {
	return Observation{Subject: "gears", Place: Place{Host: host, Crew: crew, Members: members}, Seconds: seconds}
}

func TestSingleDevicesDoNotTellHowCrewsScale(t *testing.T) {
	a, b := Member{Model: "A"}, Member{Model: "B"}
	m, err := Fit([]Observation{at("h", "g0", 100, a), at("h", "g1", 170, b)})
	require.NoError(t, err)
	assert.False(t, m.KnowsScaling())
	p, err := m.Predict("gears", Place{Host: "h", Crew: "g0+g1", Members: []Member{a, b}}, nil, "", false)
	require.NoError(t, err)
	assert.Contains(t, p.Note, "does not yet know how crews scale")
	linear := 1 / (1/100.0 + 1/170.0)
	assert.Greater(t, p.Seconds, 1.05*linear, "it must not guess linear")
	assert.Greater(t, p.High/p.Low, 1.5)
	single, err := m.Predict("gears", Place{Host: "h", Crew: "g0", Members: []Member{a}}, nil, "", false)
	require.NoError(t, err)
	assert.Empty(t, single.Note)
}

func TestCrewsThatGetSlowerWithMoreDevices(t *testing.T) {
	x1 := Member{Model: "A", Link: "1"}
	four := []Member{x1, x1, x1, x1}
	var seen []Observation
	for n, s := range []float64{30, 29, 33, 38} {
		seen = append(seen, at("capstan", string(rune('a'+n)), s, four[:n+1]...))
	}
	left, err := LeaveOut(context.Background(), seen, nil)
	require.NoError(t, err)
	assert.InDelta(t, 38, left[3].Seconds, 38*0.12, "from one, two and three devices it foresees the loss of the fourth")
	assert.Greater(t, left[3].Seconds, 31.0)
}

func TestASecondDeviceThatBringsNothing(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	m, err := Fit([]Observation{at("h", "g0", 71, a), at("h", "g0+g1", 70, a, a)})
	require.NoError(t, err)
	p, err := m.Predict("gears", Place{Host: "h", Crew: "g0+g1+g2+g3", Members: []Member{a, a, a, a}}, nil, "", false)
	require.NoError(t, err)
	assert.InDelta(t, 70, p.Seconds, 8)
	assert.Greater(t, p.Parts.Fixed+p.Parts.Load, 50.0)
}

func TestAnOutlierIsNotFollowed(t *testing.T) {
	a := Member{Model: "A"}
	var seen []Observation
	members := []Member{a, a, a, a}
	crews := []string{"g0", "g0+g1", "g0+g1+g2", "g0+g1+g2+g3"}
	for _, shot := range []string{"gears", "stair", "coda"} {
		for n, s := range []float64{105, 55, 38.3, 30} {
			o := at("h", crews[n], s, members[:n+1]...)
			o.Subject = shot
			if shot == "gears" && n == 2 {
				o.Seconds = 95 // somebody rendered a film beside it
			}
			seen = append(seen, o)
		}
	}
	m, err := Fit(seen)
	require.NoError(t, err)
	p, err := m.Predict("gears", Place{Host: "h", Crew: "g0+g1+g2+g3", Members: members}, nil, "", false)
	require.NoError(t, err)
	assert.InDelta(t, 30, p.Seconds, 2)
	left, err := leaveOut(seen, 2, m)
	require.NoError(t, err)
	assert.InDelta(t, 38.3, left.Seconds, 3)
}

func TestARateIsLearntAcrossShots(t *testing.T) {
	a, b := Member{Model: "A"}, Member{Model: "B"}
	var seen []Observation
	for i, s := range []float64{60, 90, 200, 400} {
		for _, o := range []Observation{at("h", "g0", s, a), at("h", "g1", 10+(s-10)*2, b), at("h", "g0+g1", 11+(s-10)*0.67, a, b)} {
			o.Subject = string(rune('a' + i))
			seen = append(seen, o)
		}
	}
	fresh := at("h", "g0", 150, a)
	fresh.Subject = "new"
	m, err := Fit(append(seen, fresh))
	require.NoError(t, err)
	p, err := m.Predict("new", Place{Host: "h", Crew: "g1", Members: []Member{b}}, nil, "", false)
	require.NoError(t, err)
	assert.InDelta(t, 290, p.Seconds, 30, "one trial of a new shot is enough")
	assert.Contains(t, m.Unknown("new", Place{Members: []Member{{Model: "C"}}}), "no frame was timed with C")
	assert.Contains(t, m.Unknown("other", Place{Members: []Member{a}}), "no frame of the shot")
	crew, err := m.Predict("new", Place{Host: "h", Crew: "g0+g1", Members: []Member{a, b}}, nil, "", false)
	require.NoError(t, err)
	assert.Contains(t, crew.Note, "judged by other shots")
}

func TestWhatARendererSaysOfItsStagesTellsHowItScales(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	bound := at("h", "g0", 100, a)
	bound.Fixed, bound.Load = 88, 2
	pair := at("k", "g0+g1", 60, a, a) // another shot knows crews
	pair.Subject = "other"
	other := at("k", "g0", 110, a)
	other.Subject = "other"
	m, err := Fit([]Observation{bound, pair, other})
	require.NoError(t, err)
	p, err := m.Predict("gears", Place{Host: "h", Crew: "four", Members: []Member{a, a, a, a}}, nil, "", false)
	require.NoError(t, err)
	assert.InDelta(t, 97, p.Seconds, 11)
}

func TestHeavyFramesAndABatteryAreNotTheCrewsFault(t *testing.T) {
	a, b := Member{Model: "A"}, Member{Model: "B"}
	part := func(o Observation, part, condition string) Observation {
		o.Part, o.Condition = part, condition
		return o
	}
	seen := []Observation{
		part(at("h", "g0", 100, a), "12", ""), part(at("h", "g0", 300, a), "90", ""),
		part(at("h", "g1", 200, b), "12", ""),
		part(at("h", "g0", 130, a), "12", "power=battery"),
	}
	m, err := Fit(seen)
	require.NoError(t, err)
	p, err := m.Predict("gears", Place{Host: "h", Crew: "g1", Members: []Member{b}}, []string{"90"}, "", false)
	require.NoError(t, err)
	assert.InDelta(t, 590, p.Seconds, 70)
	usual, err := m.Predict("gears", Place{Host: "h", Crew: "g0", Members: []Member{a}}, []string{"12"}, "", false)
	require.NoError(t, err)
	assert.InDelta(t, 101, usual.Seconds, 6)
}

func TestFitRefusesWhatIsNoTime(t *testing.T) {
	_, err := Fit(nil)
	assert.ErrorIs(t, err, errNothing)
	for _, s := range []float64{0, -1, math.NaN(), math.Inf(1), 1e308, 1e-308} {
		_, err := Fit([]Observation{at("h", "g0", s, Member{Model: "A"})})
		assert.ErrorContains(t, err, "want 0.001 to")
	}
	_, err = Fit([]Observation{at("h", "g0", 3)})
	assert.ErrorContains(t, err, "no device")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = LeaveOut(ctx, []Observation{at("h", "g0", 3, Member{Model: "A"})}, nil)
	assert.ErrorIs(t, err, context.Canceled)
}
