package replan

import (
	"fmt"
	"time"

	"rotanex.example/core/forecast"
	"rotanex.example/core/pricing"
)

// Standing is how a run stands by itself, and as it would when it is planned together with
// others.
type Standing struct {
	Apart, Together Outlook
	Wanted          float64
	LessUrgent      bool           // than the first
	Spare           *pricing.Money // see Limits; not looked at for the first, which is asked for
}

// Gain says in words what it is better in that a run that is to begin, the first, is planned
// together with open ones; "" for nothing that is worth it. A run that is as urgent as the first
// stays as surely in time as was asked for, or as it is; one that is less urgent may become
// less sure only if the first is in time by that. None spends more than it may.
func Gain(all []Standing, now time.Time, currency string) string {
	first := all[0]
	saves := gain(first.Apart, Outlook{Chance: first.Together.Chance, Finish: first.Together.Finish, Cost: first.Apart.Cost}, Limits{Now: now, Wanted: first.Wanted})
	apart, together := pricing.Money{}, pricing.Money{}
	for i, s := range all {
		apart, together = apart.Plus(s.Apart.Cost), together.Plus(s.Together.Cost)
		if i == 0 {
			continue
		}
		spare := pricing.Money{}
		if s.Spare != nil {
			spare = *s.Spare
		}
		harmed := s.Together.Chance < min(s.Wanted, s.Apart.Chance)-luck
		if harmed && (!s.LessUrgent || saves == "") || s.Together.atMost().Cmp(spare) > 0 {
			return ""
		}
	}
	switch {
	case saves != "":
		return saves
	case first.Together.Chance < min(first.Wanted, first.Apart.Chance)-luck || !worth(apart, together):
		return ""
	}
	return fmt.Sprintf("%s %s less for all of them, %s to be in time", currency, apart.Minus(together).Rounded(), forecast.Percent(first.Together.Chance))
}

// MayGain reports whether planning together may be worth it for a run whose cost, were all
// others not there, is known to be no less than a bound.
func MayGain(apart Outlook, wanted float64, bound pricing.Money) bool {
	return apart.Chance < wanted || worth(apart.Cost, bound)
}
