// Package planningtest is what tests of planning share: a problem whose optimum is worked out
// by hand, and reading and solving problems that must be right.
package planningtest

import (
	"context"
	"strings"

	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
)

// Gale is a shot on an owned host, a rented server and a farm.
const Gale = `{"format":"rotanex-problem-1","start":"2031-03-03T18:00:00Z","currency":"EUR","goal":"cheapest",
	"shots":[{"id":"gale-010","frames":100,"ready_s":0,"deadline_s":7200,"ram_gb":18}],
	"hosts":[{"id":"anvil","ram_gb":64,"windows":[[0,3600],[5400,9000]],"crews":[{"id":"g0","devices":["g0"],"busy_price_h":"0.12"}]}],
	"offers":[{"id":"tern-solo","source":"tern","max_servers":2,"ram_gb":64,"lead_s":900,"wrap_s":60,"price_h":"2.00","fee":"0.50",
		"increment_s":3600,"minimum_s":3600,"crews":[{"id":"g0","devices":["g0"]}]}],
	"farms":[{"id":"ebb","source":"saltmarsh","nodes":4,"lead_s":600,"node_price_h":"1.50","frame_price":"0.01","minimum_charge":"3.00"}],
	"timings":[{"shot":"gale-010","host":"anvil","crew":"g0","frame_s":100},{"shot":"gale-010","offer":"tern-solo","crew":"g0","frame_s":60},
		{"shot":"gale-010","farm":"ebb","frame_s":90}],
	"transfers":[{"shot":"gale-010","source":"tern","upload_s":300,"delivery_s":20},{"shot":"gale-010","source":"saltmarsh","upload_s":200,"delivery_s":5}]}`

// Parse reads a problem, which must be valid.
func Parse(t require.TestingT, text string) planning.Problem {
	p, err := planning.ParseProblem(strings.NewReader(text))
	require.NoError(t, err)
	return p
}

// Solve plans a problem, and checks the plan.
func Solve(t require.TestingT, p planning.Problem) planning.Plan {
	plan, err := planning.Solve(context.Background(), p, planning.Options{})
	require.NoError(t, err)
	require.NoError(t, planning.Check(p, plan))
	return plan
}
