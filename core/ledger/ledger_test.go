package ledger_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
)

var hourly = pricing.Meter{Price: pricing.MustMoney("1.35"), Fee: pricing.MustMoney("0.50"), Increment: time.Hour, Minimum: 2 * time.Hour}

func TestAServersEntriesAddUpToItsChargeExactly(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		minutes := func(name string, most int) time.Duration {
			return time.Duration(rapid.IntRange(0, most).Draw(t, name)) * time.Minute
		}
		s := ledger.Server{Place: "tern-1", Meter: hourly, Planned: minutes("planned", 500), PlannedBoot: minutes("planned boot", 20), Boot: minutes("boot", 30), Existed: minutes("existed", 600)}
		if rapid.Bool().Draw(t, "metered") {
			charged := pricing.PerHour(pricing.MustMoney("1.35"), minutes("charged", 600)).Plus(hourly.Fee)
			s.Charged = &charged
		}
		for i := range rapid.IntRange(0, 4).Draw(t, "crews") {
			s.Work = append(s.Work, ledger.Work{
				Crew: string(rune('a' + i)), Shot: "orrery-020", Planned: rapid.IntRange(0, 40).Draw(t, "frames"), PlannedTime: minutes("work", 300),
				Done: rapid.IntRange(0, 40).Draw(t, "done"), DoneTime: minutes("done time", 300), Failed: rapid.IntRange(0, 3).Draw(t, "failed"), FailedTry: minutes("failed time", 50),
			})
		}
		estimated, charged := ledger.Total(s.Entries())
		var wantEstimated, wantCharged pricing.Money
		if s.Planned > 0 {
			wantEstimated = hourly.Charge(s.Planned)
		}
		switch {
		case s.Charged != nil:
			wantCharged = *s.Charged
		case s.Existed > 0:
			wantCharged = hourly.Charge(s.Existed)
		}
		if s.Planned > 0 || s.Existed > 0 || s.Charged != nil {
			assert.Zero(t, estimated.Cmp(wantEstimated), "%s for %s", estimated, wantEstimated)
			assert.Zero(t, charged.Cmp(wantCharged), "%s for %s", charged, wantCharged)
		}
	})
}

// Frames that took longer as their scene was opened more often say so; the parts of opening stand beside the time.
func TestEntriesTellOpeningScenesFromRendering(t *testing.T) {
	price := func(string) pricing.Money { return pricing.MustMoney("0.60") }
	work := ledger.Work{Crew: "g0", Shot: "gears", Planned: 40, PlannedTime: 40 * time.Minute, OpeningPlanned: 40 * time.Second, Done: 40, DoneTime: 44 * time.Minute, Opening: 5 * time.Minute}
	entry := func(w ledger.Work) ledger.Entry {
		return ledger.Owned{Place: "dory", Price: price, Work: []ledger.Work{w}}.Entries()[0]
	}
	often := entry(work)
	assert.Equal(t, "66.0 s a frame, 60.0 s planned (opening the scene 7.5 s of it, 1.0 s planned)", often.Why)
	assert.Equal(t, []time.Duration{5 * time.Minute, 40 * time.Second}, []time.Duration{often.Opening, often.OpeningPlanned})
	work.Opening = 45 * time.Second
	assert.Equal(t, "66.0 s a frame, 60.0 s planned", entry(work).Why, "it is rendering that took longer")
	work.Opening, work.DoneTime = 5*time.Minute, 36*time.Minute
	assert.Equal(t, "54.0 s a frame, 60.0 s planned", entry(work).Why, "and here shorter")
}

func TestEntriesSayWhyTheyDiffer(t *testing.T) {
	paid := pricing.MustMoney("3.20")
	s := ledger.Server{
		Place: "tern-1", Meter: hourly, Planned: 90 * time.Minute, PlannedBoot: 12 * time.Minute, Boot: 15 * time.Minute, Existed: 72 * time.Minute, Charged: &paid,
		Work: []ledger.Work{{Crew: "g0", Shot: "gears", Planned: 40, PlannedTime: 40 * time.Minute, Done: 28, DoneTime: 30 * time.Minute, Failed: 1, FailedTry: time.Minute, Causes: []string{"crashed"}}},
	}
	why := map[string]string{}
	for _, e := range s.Entries() {
		why[e.Kind] = e.Why
	}
	assert.Equal(t, "others rendered 12 of its 40 frames; 64.3 s a frame, 60.0 s planned", why[ledger.Frames])
	assert.Equal(t, "1 try gave no frame: crashed", why[ledger.Failed])
	assert.Equal(t, "up 3m0s later than planned", why[ledger.Waiting])
	assert.Equal(t, "2 h 00 min at the least are paid, it stood 1 h 12 min", why[ledger.Unused])
}

func TestAFarmsLeastChargeIsAnEntryOfItsOwn(t *testing.T) {
	charged := pricing.MustMoney("5.00")
	all := ledger.Job{
		Place: "saltmarsh-ebb", Estimated: pricing.MustMoney("3.00"), Charged: &charged, WorkCharge: pricing.MustMoney("2.40"),
		Work: ledger.Work{Planned: 10, PlannedTime: 10 * time.Minute, Done: 10, DoneTime: 9 * time.Minute, Failed: 1, FailedTry: time.Minute},
	}.Entries()
	sums := map[string]string{}
	for _, e := range all {
		sums[e.Kind] = e.Charged.String()
	}
	assert.Equal(t, map[string]string{ledger.Frames: "2.16", ledger.Failed: "0.24", ledger.Least: "2.60"}, sums)
}

func TestMarksAreOfThoseThatDoAllInTime(t *testing.T) {
	row := func(cost string, hours int, counts bool) ledger.Row {
		return ledger.Row{Cost: pricing.MustMoney(cost), Elapsed: time.Duration(hours) * time.Hour, Counts: counts}
	}
	m := ledger.Mark([]ledger.Row{row("1", 1, false), row("10", 20, true), row("90", 2, true), row("20", 6, true)})
	assert.Equal(t, ledger.Marks{Cheapest: 1, Fastest: 2, Balanced: 3}, m)
	assert.Equal(t, ledger.Marks{Cheapest: -1, Fastest: -1, Balanced: -1}, ledger.Mark([]ledger.Row{row("1", 1, false)}))
}
