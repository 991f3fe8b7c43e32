package simplex_test

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/planning/simplex"
)

// What two foods of a cheapest diet cost (Dantzig's kind of example, by hand): at
// least 8 of one thing and 10 of another from 2x+y and x+2y; both are met exactly at
// x = 2, y = 4.
func TestADietByHand(t *testing.T) {
	p := simplex.New([]simplex.Row{{AtLeast: true, RHS: 8, Penalty: 1000}, {AtLeast: true, RHS: 10, Penalty: 1000}})
	p.Add(simplex.Column{Cost: 3, Rows: []int32{0, 1}, Values: []float64{2, 1}})
	p.Add(simplex.Column{Cost: 3, Rows: []int32{0, 1}, Values: []float64{1, 2}})
	p.Optimise(100)
	assert.InDelta(t, 2, p.Value(0), 1e-5)
	assert.InDelta(t, 4, p.Value(1), 1e-5)
	assert.InDelta(t, 18, p.Cost(), 1e-5)
	assert.InDelta(t, 1, p.Dual(0), 1e-5)
	assert.InDelta(t, 1, p.Dual(1), 1e-5)
	p.Require(0, 20)
	p.Optimise(100)
	assert.InDelta(t, 30, p.Cost(), 1e-5, "twenty of the first come from x alone, which brings ten of the second")
	p.Bar(0, true, 1e6)
	p.Optimise(100)
	assert.InDelta(t, 20, p.Value(1), 1e-4, "without the first food it takes the second")
}

func TestWhatCannotBeMetIsPaidFor(t *testing.T) {
	p := simplex.New([]simplex.Row{{AtLeast: true, RHS: 5, Penalty: 100}, {RHS: 2}})
	p.Add(simplex.Column{Cost: 1, Rows: []int32{0, 1}, Values: []float64{1, 1}})
	p.Optimise(100)
	assert.InDelta(t, 3, p.Shortfall(0), 1e-5)
	assert.InDelta(t, 302, p.Cost(), 1e-3)
	p.Penalise(0, 0.5)
	p.Optimise(100)
	assert.InDelta(t, 2.5, p.Cost(), 1e-3, "leaving it out is cheaper now")
}

// At an optimum the prices prove the cost: no column is worth more than it costs,
// and what the right-hand sides are worth is the cost (strong duality).
func TestPricesProveTheCost(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 6).Draw(t, "rows")
		var rows []simplex.Row
		for range n {
			rows = append(rows, simplex.Row{
				AtLeast: rapid.Bool().Draw(t, "at least"), RHS: float64(rapid.IntRange(0, 50).Draw(t, "rhs")), Penalty: 500,
			})
		}
		p := simplex.New(rows)
		var columns []simplex.Column
		for range rapid.IntRange(1, 12).Draw(t, "columns") {
			c := simplex.Column{Cost: float64(rapid.IntRange(0, 40).Draw(t, "cost"))}
			for i := range n {
				if v := rapid.IntRange(0, 5).Draw(t, "entry"); v > 0 {
					c.Rows, c.Values = append(c.Rows, int32(i)), append(c.Values, float64(v))
				}
			}
			columns = append(columns, c)
			p.Add(c)
		}
		p.Optimise(10_000)
		worth := 0.0
		for i, r := range rows {
			worth += p.Dual(i) * r.RHS
			if r.AtLeast {
				assert.GreaterOrEqual(t, p.Dual(i), -1e-7)
				assert.LessOrEqual(t, p.Dual(i), r.Penalty+1e-7)
			} else {
				assert.LessOrEqual(t, p.Dual(i), 1e-7)
			}
		}
		for _, c := range columns {
			d := c.Cost
			for k, i := range c.Rows {
				d -= p.Dual(int(i)) * c.Values[k]
			}
			assert.GreaterOrEqual(t, d, -1e-6)
		}
		assert.InDelta(t, worth, p.Cost(), 1e-3*math.Max(1, worth))
	})
}

// A row that is added later is as one that was there from the start.
func TestARowAddedLaterIsAsOneFromTheStart(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		number := func(name string) float64 { return float64(rapid.IntRange(0, 9).Draw(t, name)) }
		n := rapid.IntRange(1, 6).Draw(t, "columns")
		rows := []simplex.Row{{AtLeast: true, RHS: number("wanted"), Penalty: 100}, {RHS: 1 + number("most")}}
		extra := simplex.Row{AtLeast: rapid.Bool().Draw(t, "at least"), RHS: number("rhs"), Penalty: 100}
		whole, grown := simplex.New(append(slices.Clone(rows), extra)), simplex.New(slices.Clone(rows))
		entries := make([]float64, n)
		for i := range n {
			entries[i] = number("entry")
			c := simplex.Column{Cost: number("cost"), Rows: []int32{0, 1}, Values: []float64{1 + number("a"), number("b")}}
			grown.Add(c)
			c.Rows, c.Values = append(slices.Clone(c.Rows), 2), append(slices.Clone(c.Values), entries[i])
			whole.Add(c)
		}
		grown.Optimise(1000)
		assert.Equal(t, 2, grown.AddRow(extra, func(n int) float64 { return entries[n] }))
		whole.Optimise(1000)
		grown.Optimise(1000)
		assert.InDelta(t, whole.Cost(), grown.Cost(), 1e-4)
		assert.InDelta(t, whole.Shortfall(2), grown.Shortfall(2), 1e-4)
	})
}
