package forecast_test

import (
	"context"
	"fmt"
	"strings"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
)

// A plan that ends just in time by its times hardly ever is: frames differ.
func ExampleSimulate() {
	problem, _ := planning.ParseProblem(strings.NewReader(`{"format":"rotanex-problem-1","start":"2031-03-07T18:00:00Z","currency":"EUR","goal":"cheapest",
		"shots":[{"id":"coda-060","frames":60,"ready_s":0,"deadline_s":3600}],
		"hosts":[{"id":"eddy","windows":[[0,9000]],"crews":[{"id":"g0","devices":["g0"],"busy_price_h":"0.12"}]}],
		"timings":[{"shot":"coda-060","host":"eddy","crew":"g0","frame_s":60}]}`))
	plan, _ := planning.Solve(context.Background(), problem, planning.Options{})
	f, _ := forecast.Simulate(context.Background(), problem, plan, forecast.Uncertainty{}, nil, forecast.Options{Simulations: 200, Seed: 1})
	fmt.Println(plan.Status, "by its times; in time in less than one in ten simulations:", f.Chance < 0.1)
	// Output: meets by its times; in time in less than one in ten simulations: true
}
