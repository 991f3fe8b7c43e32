package timing

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"gonum.org/v1/gonum/mat"
	"pgregory.net/rapid"
)

// house is three ordinary shots timed on one to four GPUs alike, and a new one timed on one.
func house(fresh ...Observation) (seen []Observation, four Place) {
	a := Member{Model: "A", Link: "16"}
	crews, members := []string{"g0", "g0+g1", "g0+g1+g2", "g0+g1+g2+g3"}, []Member{a, a, a, a}
	for i, shot := range []string{"gears", "stair", "coda"} {
		for n, name := range crews {
			o := at("h", name, 6+float64(100+50*i)/(float64(n+1)*(1-0.01*float64(n))), members[:n+1]...)
			o.Subject = shot
			seen = append(seen, o)
		}
	}
	for _, o := range fresh {
		o.Subject = "new"
		seen = append(seen, o)
	}
	return seen, Place{Host: "h", Crew: crews[3], Members: members}
}

// With one GPU timed a new shot may still gain nothing by three more, or be slower, or faster than four times; the first crew
// that is timed tells.
func TestOneTimingOfANewShotLeavesOpenHowItScales(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	alone := at("h", "g0", 100, a)
	seen, four := house(alone)
	m, err := Fit(seen)
	require.NoError(t, err)
	p, err := m.Predict("new", four, nil, "", false)
	require.NoError(t, err)
	assert.Greater(t, p.High, 100.0, "that nothing is gained must be in it")
	assert.Less(t, p.Seconds, 50.0, "but most scenes scale")
	for _, test := range []struct {
		pair, low, high float64
	}{{52, 24, 40}, {99, 85, 125}, {112, 112, 190}, {38, 14, 32}} {
		seen, _ = house(alone, at("h", "g0+g1", test.pair, a, a))
		m, err = Fit(seen)
		require.NoError(t, err)
		narrow, err := m.Predict("new", four, nil, "", false)
		require.NoError(t, err)
		assert.Greater(t, narrow.Seconds, test.low, "%v", test.pair)
		assert.Less(t, narrow.Seconds, test.high, "%v", test.pair)
		assert.Less(t, narrow.High/narrow.Low, 0.85*p.High/p.Low, "%v", test.pair)
	}
}

// How common each kind of scene is, is learnt: a house whose scenes are all bound by the CPU expects that of the next.
func TestHowCommonAKindOfSceneIsIsLearnt(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	bound := func(shots int) Prediction {
		var seen []Observation
		for i := range shots {
			for n, crew := range []string{"g0", "g0+g1"} {
				o := at("h", crew, 80+5*float64(i)+10/float64(n+1), []Member{a, a}[:n+1]...)
				o.Subject = string(rune('a' + i))
				seen = append(seen, o)
			}
		}
		fresh := at("h", "g0", 100, a)
		fresh.Subject = "new"
		m, err := Fit(append(seen, fresh))
		require.NoError(t, err)
		p, err := m.Predict("new", Place{Host: "h", Crew: "g0+g1", Members: []Member{a, a}}, nil, "", false)
		require.NoError(t, err)
		return p
	}
	few, many := bound(1), bound(12)
	assert.Greater(t, many.Seconds, few.Seconds+5)
	assert.Greater(t, many.Seconds, 85.0)
}

// A mixture's curvature and slope are those of its log where it has one component, and pull towards the nearer of two.
func TestAMixturePullsTowardsTheLikelierOfItsParts(t *testing.T) {
	m := Model{weights: [regimes]float64{cpuBound: 0.2}}
	one, two := m.prior(parameter{spread: 0.5}), m.prior(parameter{spread: 0.5, regime: cpuBound})
	rapid.Check(t, func(t *rapid.T) {
		d := rapid.Float64Range(-8, 12).Draw(t, "d")
		precision, slope := one.pull(d)
		assert.InDelta(t, 4, precision, 1e-12)
		assert.InDelta(t, -4*d, slope, 1e-9)
		const h = 1e-5
		before, _ := two.log(d - h)
		after, _ := two.log(d + h)
		_, slope = two.pull(d)
		assert.InDelta(t, (after-before)/(2*h), slope, 1e-3*(1+math.Abs(slope)))
		chance := two.inRegime(d, rapid.Float64Range(0, 9).Draw(t, "variance"))
		assert.GreaterOrEqual(t, chance, 0.0)
		assert.LessOrEqual(t, chance, 1.0+1e-9)
	})
	_, ordinary := two.log(0)
	_, regime := two.log(4)
	assert.Less(t, ordinary, 0.05)
	assert.Greater(t, regime, 0.95)
}

// A frame more is taken in by the samples that there are; what comes of it is what starting anew gives.
func TestRefitGoesOnWithTheSamplesOfBefore(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	alone, pair := at("h", "g0", 100, a), at("h", "g0+g1", 60, a, a)
	seen, four := house(alone, pair)
	before, err := Fit(seen)
	require.NoError(t, err)
	_, err = before.Predict("new", four, nil, "", false)
	require.NoError(t, err)
	more := at("h", "g0+g1", 61, a, a)
	more.Subject = "new"
	seen = append(seen, more)
	went, err := Refit(seen, before)
	require.NoError(t, err)
	subject := went.layout.subject["new"]
	went.mu.Lock()
	p := went.population(subject, 1)
	went.mu.Unlock()
	require.True(t, p.goOn(), "the samples of before count")
	fresh, err := Fit(seen)
	require.NoError(t, err)
	x, err := went.Predict("new", four, nil, "", false)
	require.NoError(t, err)
	y, err := fresh.Predict("new", four, nil, "", false)
	require.NoError(t, err)
	assert.InEpsilon(t, y.Seconds, x.Seconds, 0.06)
	assert.InEpsilon(t, y.High, x.High, 0.15)

	// With a crew that has parameters of its own these are drawn as well; with nothing new all stay as they are.
	beside := at("h", "g0+cpu", 90, a, Member{Model: "C", CPU: true})
	beside.Subject = "new"
	other, err := Refit(append(slices.Clone(seen), beside), went)
	require.NoError(t, err)
	other.mu.Lock()
	p = other.population(subject, 1)
	other.mu.Unlock()
	assert.False(t, p.same)
	require.Len(t, p.before, sampleSize)
	assert.Len(t, p.before[0].x, len(p.names)+1)
	p.lead()
	assert.Len(t, p.at, sampleSize)
	same, err := Refit(seen, went)
	require.NoError(t, err)
	same.mu.Lock()
	p = same.population(subject, 1)
	same.mu.Unlock()
	assert.True(t, p.same)
	require.True(t, p.goOn())
	assert.Equal(t, went.draws.subjects[subject].points[3].x, p.at[3].x)

	// What contradicts all of them starts anew.
	slow := at("h", "g0+g1", 300, a, a)
	slow.Subject = "new"
	seen = append(seen, slow, slow, slow, slow)
	went, err = Refit(seen, before)
	require.NoError(t, err)
	went.mu.Lock()
	p = went.population(subject, 1)
	went.mu.Unlock()
	assert.False(t, p.goOn())
	none, err := Refit(seen, nil)
	require.NoError(t, err)
	assert.Nil(t, none.before)
}

// Several may ask of one model at once, of one shot or of several: each gets what it would get alone.
func TestManyMayAskAtOnce(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	seen, four := house(at("h", "g0", 100, a))
	ask := func(m *Model, shot string) Prediction {
		p, err := m.Predict(shot, four, nil, "", false)
		assert.NoError(t, err)
		return p
	}
	one, err := Fit(seen)
	require.NoError(t, err)
	want := map[string]Prediction{}
	shots := []string{"new", "gears", "stair", "coda"}
	for _, shot := range shots {
		want[shot] = ask(one, shot)
	}
	m, err := Fit(seen)
	require.NoError(t, err)
	var group errgroup.Group
	for n := range 16 {
		group.Go(func() error {
			shot := shots[n%len(shots)]
			assert.Equal(t, want[shot], ask(m, shot))
			return nil
		})
	}
	require.NoError(t, group.Wait())
}

// Of many subjects the samples of those that were asked of last are kept, and all can be asked of again.
func TestSamplesOfFewSubjectsAreKept(t *testing.T) {
	var d draws
	for s := range 2 * keepSamples {
		d.subjects = append(d.subjects, nil)
		d.asked(s, &samples{global: [][]float64{{1}}})
	}
	kept, global := 0, 0
	for _, s := range d.subjects {
		if s != nil {
			kept++
			global += len(s.global)
		}
	}
	assert.Equal(t, []int{keepSamples, keepGlobal}, []int{kept, global})
	d.asked(0, &samples{})
	assert.NotNil(t, d.subjects[0])
}

// Whatever a matrix has become by rounding, it is factored.
func TestWhateverItIsAMatrixIsFactored(t *testing.T) {
	for name, values := range map[string][]float64{
		"definite": {2, 1, 1, 2}, "barely": {1, 1, 1, 1}, "not": {1, 5, 5, 1}, "negative": {-1, 0, 0, 2}, "no number": {math.NaN(), 1, 1, 2}, "infinite": {math.Inf(1), 0, 0, 1},
	} {
		var whole mat.SymDense
		chol := factored(mat.NewSymDense(2, values))
		require.NoError(t, chol.InverseTo(&whole), name)
		assert.False(t, math.IsNaN(whole.At(1, 1)), name)
	}
}

// Many stretches of a crew are looked at together; how heavy each is stays as the fit has it.
func TestManyStretchesAreLookedAtTogether(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	seen, four := house()
	for crew := range 4 {
		for part := range 8 {
			o := at("h", four.Crew[:2+3*crew], (100.0/float64(crew+1)+6)*(1+0.1*float64(part)), []Member{a, a, a, a}[:crew+1]...)
			o.Subject, o.Part = "new", string(rune('1'+part))
			seen = append(seen, o)
		}
	}
	m, err := Fit(seen)
	require.NoError(t, err)
	p := m.population(m.layout.subject["new"], 1)
	assert.Len(t, p.cells, 4)
	assert.Len(t, p.stretches, 8)
	for _, part := range []int{0, 7} {
		is := (100.0/4 + 6) * (1 + 0.1*float64(part))
		x, err := m.Predict("new", four, []string{string(rune('1' + part))}, "", false)
		require.NoError(t, err)
		assert.InEpsilon(t, is, x.Seconds, 0.03)
		assert.Less(t, x.High/x.Low, 1.2)
	}
	all, err := m.Predict("new", four, m.Parts("new"), "", false)
	require.NoError(t, err)
	assert.InEpsilon(t, 31*1.35, all.Seconds, 0.03)
}
