package plans

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/google/uuid"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/service/computations"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/problems"
)

// toSolve is the question of a new plan: everything that it is made of.
type toSolve struct {
	ID          uuid.UUID        `json:"id"`
	Fingerprint []byte           `json:"fingerprint"` // of the request
	Problem     planning.Problem `json:"problem"`
	Notes       problems.Notes   `json:"notes"`
}

// question is what is computed for a new plan, unless it is there already.
func (p *Plans) question(ctx context.Context, id uuid.UUID, fingerprint []byte, ask problems.Ask) (q computations.Question, there bool, err error) {
	old, there, err := p.look(ctx, id)
	if err != nil || there {
		return q, there, errors.Join(err, httpapi.SameRequest(old.Request, fingerprint))
	}
	if err := ask.Check(); err != nil {
		return q, false, err
	}
	return computations.Question{ID: id, Kind: planKind, About: problems.Listed(ask.Shots), Input: func(ctx context.Context) (any, error) {
		problem, notes, err := p.Problems.Build(ctx, ask)
		return toSolve{id, fingerprint, problem, notes}, err
	}}, false, nil
}

// solve answers the question of a new plan by storing it. What is solved is what was
// written down, so that nothing is finer than the file.
func (p *Plans) solve(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var x toSolve
	if err := json.Unmarshal(question, &x); err != nil {
		return nil, err
	}
	uncertainty, _, err := p.Uncertainty.Of(ctx, x.Problem, x.Notes)
	if err != nil {
		return nil, err
	}
	solved, err := p.Solve(ctx, x.Problem, x.Notes, uncertainty, 0, say)
	if err != nil {
		return nil, err
	}
	solved, others, err := p.Together(ctx, solved, x.Notes, say)
	if err != nil {
		return nil, err
	}
	solved.Record.ID, solved.Record.Request = x.ID, x.Fingerprint
	for i := range others {
		others[i].PartOf = &x.ID
	}
	return struct{}{}, p.Keep(ctx, solved.Record, others...)
}

// Solved is a plan that is not kept yet, with what is expected of it.
type Solved struct {
	Record   Plan
	Problem  planning.Problem
	Plan     planning.Plan
	Forecast forecast.Forecast // empty where the plan books nothing
}

// Solve plans a problem as its ask says, and simulates the plan; 0 is as often as is usual.
func (p *Plans) Solve(ctx context.Context, problem planning.Problem, notes problems.Notes, u forecast.Uncertainty, simulations int, say questions.Progress) (out Solved, err error) {
	if out.Problem, out.Plan, err = p.answer(ctx, problem, &notes, u, say); err != nil {
		return out, err
	}
	err = p.Record(ctx, &out, notes, u, simulations, say)
	return out, err
}

// Record makes the record of a plan, solved for or not, and simulates it unless that is done.
func (p *Plans) Record(ctx context.Context, of *Solved, notes problems.Notes, u forecast.Uncertainty, simulations int, say questions.Progress) (err error) {
	if of.Record, err = p.recordOf(of.Problem, of.Plan, notes); err != nil {
		return err
	}
	of.Record.ID, of.Record.RunID = uuid.New(), notes.Ask.Run
	if len(of.Plan.Bookings) == 0 {
		return nil
	} else if of.Forecast.Simulations == 0 {
		progress := func(done, all int) { say(done, all, "simulating the plan") }
		of.Forecast, err = forecast.Simulate(ctx, of.Problem, of.Plan, u, notes.Deadlines, forecast.Options{Seed: 1, Simulations: simulations, Progress: progress, MayLet: notes.Ask.MayLet().Float()})
	}
	of.Record.Chance = &of.Forecast.Chance
	return err
}

// answer solves the problem, with as much slack as the ask says or its confidence takes.
func (p *Plans) answer(ctx context.Context, problem planning.Problem, notes *problems.Notes, u forecast.Uncertainty, say questions.Progress) (planning.Problem, planning.Plan, error) {
	ask := notes.Ask
	options := planning.Options{TimeLimit: ask.TimeLimit}
	if ask.Confidence > 0 {
		sure, err := questions.Confidently(ctx, problem, u, questions.Wanted{Chance: ask.Confidence, Contingency: ask.MayLet().Float()}, options, say)
		notes.Slack = sure.Slack
		return sure.Problem, sure.Plan, errors.Join(err, ctx.Err())
	}
	say(0, 0, "planning")
	problem = questions.WithSlack(problem, ask.Slack)
	plan, err := planning.Solve(ctx, problem, options)
	if err == nil && !ask.MayLet().IsZero() {
		plan = planning.Defer(problem, plan)
	}
	return problem, plan, errors.Join(err, ctx.Err())
}
