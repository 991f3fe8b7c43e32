package problems

import (
	"context"

	"rotanex.example/core/planning"
	"rotanex.example/core/replan"
	"rotanex.example/service/bookings"
)

// Present builds the problem of a run's rest, and says what the bookings that the run has
// now are as a plan for it: see replan.Present.
func (p *Problems) Present(ctx context.Context, ask Ask) (planning.Problem, Notes, planning.Plan, error) {
	problem, notes, err := p.Build(ctx, ask)
	if err != nil {
		return problem, notes, planning.Plan{}, err
	}
	servers, err := p.plannedServers(ctx, *ask.Run)
	if err != nil {
		return problem, notes, planning.Plan{}, err
	}
	crews, err := bookings.OfRun(p.Store.WithContext(ctx), p.Clock.WallNow(), *ask.Run, "")
	booked := make([]replan.Booked, len(crews))
	for i, c := range crews {
		booked[i] = replan.Booked{Crew: c.Crew, Nodes: c.Nodes}
	}
	return problem, notes, replan.Present(problem, servers, booked), err
}
