package ledger_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
)

// work draws what a crew was to do and did.
func work(t *rapid.T, crew string) ledger.Work {
	minutes := func(name string, most int) time.Duration {
		return time.Duration(rapid.IntRange(0, most).Draw(t, name)) * time.Minute
	}
	w := ledger.Work{
		Crew: crew, Shot: "stair-030", Planned: rapid.IntRange(0, 60).Draw(t, "planned"), PlannedTime: minutes("planned time", 600),
		Done: rapid.IntRange(0, 60).Draw(t, "done"), DoneTime: minutes("done time", 600), Failed: rapid.IntRange(0, 4).Draw(t, "failed"),
	}
	if w.Planned == 0 {
		w.PlannedTime = 0
	}
	if w.Done == 0 {
		w.DoneTime = 0
	}
	if w.Failed > 0 {
		w.FailedTry = minutes("failed time", 60)
		w.Causes = []string{"crashed"}
	}
	return w
}

// One's own hosts: each crew's time at its own price, failed tries by themselves, nothing
// lost on the way.
func TestOwnedEntriesAreTimeAtItsPrice(t *testing.T) {
	prices := map[string]pricing.Money{"g0": pricing.MustMoney("0.123"), "cpu": pricing.MustMoney("0.0451")}
	rapid.Check(t, func(t *rapid.T) {
		o := ledger.Owned{Source: "loft", Place: "eddy", Price: func(crew string) pricing.Money { return prices[crew] }}
		var estimated, charged pricing.Money
		frames := 0
		for _, crew := range []string{"g0", "cpu"} {
			w := work(t, crew)
			o.Work = append(o.Work, w)
			estimated = estimated.Plus(pricing.PerHour(prices[crew], w.PlannedTime))
			charged = charged.Plus(pricing.PerHour(prices[crew], w.DoneTime)).Plus(pricing.PerHour(prices[crew], w.FailedTry))
			frames += w.Done
		}
		all := o.Entries()
		explained(t, all)
		gotEstimated, gotCharged := ledger.Total(all)
		assert.Zero(t, gotEstimated.Cmp(estimated))
		assert.Zero(t, gotCharged.Cmp(charged))
		for _, e := range all {
			if e.Kind == ledger.Frames {
				frames -= e.Frames
			} else {
				assert.Zero(t, e.Frames, "a failed try is no frame")
				assert.Contains(t, e.Why, "crashed")
			}
		}
		assert.Zero(t, frames)
	})
}

// A farm's job: frames, failed tries and what its minimum charge is above its work add up to
// what it charged, to the last fraction.
func TestAJobsEntriesAddUpToItsChargeExactly(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cents := func(name string) pricing.Money {
			return pricing.MustMoney(fmt.Sprintf("%d.%02d", rapid.IntRange(0, 90).Draw(t, name), rapid.IntRange(0, 99).Draw(t, name+" cents")))
		}
		charged := cents("charged")
		j := ledger.Job{Source: "gannet", Place: "gannet-day", Charged: &charged, WorkCharge: cents("work"), Estimated: cents("estimated"), EstimatedTop: cents("top"), Work: work(t, "cpu")}
		all := j.Entries()
		explained(t, all)
		estimated, got := ledger.Total(all)
		assert.Zero(t, got.Cmp(charged), "%s for %s", got, charged)
		assert.Zero(t, estimated.Cmp(j.Estimated.Plus(j.EstimatedTop)))
		for _, e := range all {
			assert.GreaterOrEqual(t, e.Charged.Cmp(pricing.Money{}), 0, "%s: nothing is charged below zero", e.Kind)
		}
	})
}

// While a job is not charged it costs what it has done so far.
func TestAJobThatGoesOnCostsWhatItHasDone(t *testing.T) {
	so := pricing.MustMoney("1.35")
	all := ledger.Job{Place: "ebb", Estimated: pricing.MustMoney("6.00"), SoFar: so, Work: ledger.Work{Planned: 40, PlannedTime: time.Hour, Done: 9, DoneTime: 14 * time.Minute, Open: true}}.Entries()
	_, charged := ledger.Total(all)
	assert.Equal(t, "1.35", charged.String())
	assert.Equal(t, "31 of its 40 frames are not done yet; 93.3 s a frame, 90.0 s planned", all[0].Why)
	_, nothing := ledger.Total(ledger.Job{Place: "ebb", Estimated: pricing.MustMoney("6.00"), Work: ledger.Work{Planned: 40, Open: true}}.Entries())
	assert.True(t, nothing.IsZero())
}

// Whatever happened, each server's entry says at least why, where the two differ by more
// than a hundredth.
func TestADifferenceIsNeverLeftUnexplained(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		seconds := func(name string, low, most int) time.Duration {
			return time.Duration(rapid.IntRange(low, most).Draw(t, name)) * time.Second
		}
		s := ledger.Server{Place: "tern-1", Meter: hourly, Planned: seconds("planned", 0, 30000), PlannedBoot: seconds("planned boot", 0, 1200), Boot: seconds("boot", 0, 1800), Existed: seconds("existed", 0, 36000)}
		for _, crew := range []string{"g0", "g1"} {
			s.Work = append(s.Work, work(t, crew))
		}
		explained(t, s.Entries())
	})
}

// Found by the property: the same time is paid, but less of it was used.
func TestPaidTimeThatWasNotUsedIsExplained(t *testing.T) {
	explained(t, ledger.Server{
		Place: "tern-1", Meter: hourly, Planned: 255 * time.Second, PlannedBoot: time.Second, Boot: time.Second, Existed: 300 * time.Second,
		Work: []ledger.Work{{Crew: "g0", Shot: "stair-030", Planned: 2, PlannedTime: 120 * time.Second, Done: 1, DoneTime: 20 * time.Second}},
	}.Entries())
}

func explained(t assert.TestingT, all []ledger.Entry) {
	for _, e := range all {
		if apart := e.Charged.Minus(e.Estimated).Rounded(); !apart.IsZero() {
			assert.NotEmpty(t, strings.TrimSpace(e.Why), "%s: %s for %s", e.Kind, e.Charged, e.Estimated)
		}
	}
}
