package questions

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// With EUR 20 set aside for what turns out, EUR 15 beforehand have to take three quarters of the risk away.
func TestWhatCostsMoreHasToBeWorthItsPartOfTheContingency(t *testing.T) {
	t.Parallel()
	of := func(chance float64, cost string) Confident {
		return Confident{Chance: chance, Plan: planning.Plan{Cost: pricing.MustMoney(cost)}}
	}
	w := Wanted{Chance: 0.95, Contingency: 20}
	assert.InDelta(t, 0.15, w.surer(of(0.8, "5.00"), of(0.86, "20.00")), 1e-9)
	assert.InDelta(t, 0.01, w.surer(of(0.8, "5.00"), of(0.86, "6.00")), 1e-9)
	assert.InDelta(t, 0.2, w.surer(of(0.8, "5.00"), of(0.9, "90.00")), 1e-9, "never more than all of it")
	assert.Zero(t, w.surer(of(0.8, "5.00"), of(0.7, "4.00")), "what costs less")
	assert.Zero(t, Wanted{Chance: 0.95}.surer(of(0.8, "5.00"), of(0.81, "90.00")), "without a contingency the surest is taken")
}
