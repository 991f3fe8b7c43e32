package pricing_test

import (
	"fmt"
	"time"

	"rotanex.example/core/pricing"
)

// A source that bills by the started hour, three at the least, and a fee for each server.
func ExampleMeter() {
	m := pricing.Meter{Price: pricing.MustMoney("8.20"), Fee: pricing.MustMoney("1.50"), Increment: time.Hour, Minimum: 3 * time.Hour}
	for _, d := range []time.Duration{10 * time.Minute, 3*time.Hour + time.Second} {
		fmt.Println(d, "bills", m.Billed(d), "and costs", m.Charge(d))
	}
	third := pricing.PerHour(pricing.MustMoney("1"), 20*time.Minute)
	fmt.Println("three thirds are", third.Plus(third).Plus(third))
	// Output:
	// 10m0s bills 3h0m0s and costs 26.10
	// 3h0m1s bills 4h0m0s and costs 34.30
	// three thirds are 1.00
}
