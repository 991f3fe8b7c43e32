package planning_test

import (
	"context"
	"fmt"
	"strings"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
)

func ExampleSolve() {
	problem, err := planning.ParseProblem(strings.NewReader(planningtest.Gale))
	if err != nil {
		fmt.Println(err)
		return
	}
	plan, _ := planning.Solve(context.Background(), problem, planning.Options{})
	fmt.Println(plan.Status, problem.Currency, plan.Cost, "no plan costs less than", plan.CostBound)
	for _, b := range plan.Bookings {
		fmt.Println(b.Where(), b.Frames, "frames")
	}
	// Output:
	// meets EUR 3.12 no plan costs less than 3.12
	// anvil 36 frames
	// anvil 1 frames
	// ebb 63 frames
}
