package ledger_test

import (
	"fmt"
	"time"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
)

// A server of which two hours are paid at the least and that stood for one and a quarter:
// what its crew rendered, and what was paid for nothing.
func ExampleServer_Entries() {
	charged := pricing.MustMoney("4.00")
	all := ledger.Server{
		Source: "tern", Place: "tern-solo-1", Planned: 75 * time.Minute, PlannedBoot: 15 * time.Minute, Boot: 15 * time.Minute, Existed: 75 * time.Minute,
		Meter: pricing.Meter{Price: pricing.MustMoney("2.00"), Increment: time.Hour, Minimum: 2 * time.Hour}, Charged: &charged,
		Work: []ledger.Work{{Crew: "g0", Shot: "coda-060", Planned: 60, PlannedTime: time.Hour, Done: 60, DoneTime: time.Hour}},
	}.Entries()
	for _, e := range all {
		fmt.Println(e.Kind, e.Frames, e.Charged)
	}
	_, sum := ledger.Total(all)
	fmt.Println("together", sum)
	// Output:
	// frames 60 2.00
	// waiting 0 0.50
	// unused 0 1.50
	// together 4.00
}
