package timing

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// anyObservations draws whatever somebody could have timed, sense or nonsense.
func anyObservations(t *rapid.T) []Observation {
	member := rapid.Custom(func(t *rapid.T) Member {
		m := Member{Model: rapid.SampledFrom([]string{"A", "B", "C"}).Draw(t, "model"), Link: rapid.SampledFrom([]string{"", "1", "x16", "riser"}).Draw(t, "link")}
		if rapid.IntRange(0, 4).Draw(t, "cpu") == 0 {
			m = Member{Model: "Keel", CPU: true}
		}
		return m
	})
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Observation {
		members := rapid.SliceOfN(member, 1, 5).Draw(t, "members")
		return Observation{
			Subject: rapid.SampledFrom([]string{"gears", "stair"}).Draw(t, "subject"),
			Place:   Place{Host: rapid.SampledFrom([]string{"h", "k"}).Draw(t, "host"), Crew: fmt.Sprint(members), Members: members, Backend: rapid.SampledFrom([]string{"", "old", "new"}).Draw(t, "backend")},
			Part:    rapid.SampledFrom([]string{"", "1", "2"}).Draw(t, "part"), Condition: rapid.SampledFrom([]string{"", "power=battery"}).Draw(t, "condition"),
			Seconds: math.Exp(rapid.Float64Range(-3, 12).Draw(t, "log")), Fixed: rapid.Float64Range(0, 100).Draw(t, "fixed"),
			Frames: rapid.IntRange(0, 50).Draw(t, "frames"),
		}
	}), 1, 25).Draw(t, "observed")
}

// Whatever was timed, the model fits, and what it says are times: positive, in order,
// of parts that are not below zero.
func TestWhateverWasTimedThePredictionIsATime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		observed := anyObservations(t)
		m, err := Fit(observed)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range observed {
			p, err := m.Predict(o.Subject, o.Place, m.Parts(o.Subject), o.Condition, rapid.Bool().Draw(t, "frame"))
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range []float64{p.Low, p.Seconds, p.High} {
				if !(x > 0) || math.IsInf(x, 0) {
					t.Fatalf("%+v of %+v", p, o)
				}
			}
			if p.Low > p.Seconds || p.Seconds > p.High || min(p.Parts.Fixed, p.Parts.Load, p.Parts.Work) < 0 {
				t.Fatalf("%+v of %+v", p, o)
			}
		}
	})
}

// The order of the rows of a file is nobody's knowledge.
func TestTheOrderOfTheRowsDoesNotMatter(t *testing.T) {
	m := rigs["unequal pair"].make(rand.New(rand.NewPCG(5, 5)))
	first, err := Fit(m.rows)
	require.NoError(t, err)
	shuffled := slices.Clone(m.rows)
	rand.New(rand.NewPCG(1, 1)).Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
	second, err := Fit(shuffled)
	require.NoError(t, err)
	for _, o := range m.rows {
		a, err := first.Predict(o.Subject, o.Place, nil, "", false)
		require.NoError(t, err)
		b, err := second.Predict(o.Subject, o.Place, nil, "", false)
		require.NoError(t, err)
		require.InEpsilon(t, a.Seconds, b.Seconds, 0.03)
	}
}

// What is known of more crews makes the interval of the next narrower.
func TestMoreTimesMakeAnIntervalNarrower(t *testing.T) {
	a := Member{Model: "A", Link: "16"}
	place := Place{Host: "h", Crew: "g0+g1+g2+g3", Members: []Member{a, a, a, a}}
	width := func(seen ...Observation) float64 {
		m, err := Fit(seen)
		require.NoError(t, err)
		p, err := m.Predict("gears", place, nil, "", false)
		require.NoError(t, err)
		return p.High / p.Low
	}
	one := at("h", "g0", 100, a)
	two := at("h", "g0+g1", 56, a, a)
	three := at("h", "g0+g1+g2", 41, a, a, a)
	require.Less(t, width(one, two), width(one))
	require.Less(t, width(one, two, three), width(one, two))
}

// The derivatives by which the fit climbs are those of the formula.
func TestSlopesAreThoseOfTheFormula(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m, err := Fit(anyObservations(t))
		if err != nil {
			t.Fatal(err)
		}
		for i := range m.cells {
			c := &m.cells[i]
			g, x := m.layout.global.x, m.layout.subjects[c.subject].x
			p, whole, fixed, _ := m.gradient(c)
			for k, r := range c.refs {
				at, j := &g, int(r)
				if r < 0 {
					at, j = &x, int(-1-r)
				}
				const h = 1e-6
				(*at)[j] += h
				up := c.parts(g, x, m.layout.centre)
				(*at)[j] -= 2 * h
				down := c.parts(g, x, m.layout.centre)
				(*at)[j] += h
				if want := math.Log(up.Total()/down.Total()) / (2 * h); math.Abs(want-whole[k]) > 1e-5*(1+math.Abs(want)) {
					t.Fatalf("by %d of %d: %g, want %g; parts %+v", k, len(c.refs), whole[k], want, p)
				}
				if want := math.Log(up.Fixed/down.Fixed) / (2 * h); math.Abs(want-fixed[k]) > 1e-5*(1+math.Abs(want)) {
					t.Fatalf("fixed by %d: %g, want %g", k, fixed[k], want)
				}
			}
		}
	})
}
