package replan_test

import (
	"fmt"
	"time"

	"rotanex.example/core/pricing"
	"rotanex.example/core/replan"
)

// A host was lost, and what is left would be late. With a server that costs more than may be
// spent still it would be in time: a person is asked.
func ExampleDecide() {
	now := time.Date(2031, 3, 7, 21, 0, 0, 0, time.UTC)
	spare := pricing.MustMoney("2.00")
	present := replan.Outlook{Chance: 0.12, Finish: now.Add(3 * time.Hour), Cost: pricing.MustMoney("1.10")}
	next := replan.Outlook{Chance: 0.97, Finish: now.Add(100 * time.Minute), Cost: pricing.MustMoney("6.90"), Outside: pricing.MustMoney("6.10")}
	v := replan.Decide(replan.Auto, present, next, replan.Limits{Now: now, Wanted: replan.Usual, Spare: &spare, Currency: "EUR"})
	fmt.Println(v.Act == replan.Propose, v.Gain, v.More)
	// Output: true 97 % to be in time instead of 12 % 4.10
}
