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
	uncertainty, _, err := p.uncertainty(ctx, x.Problem, x.Notes)
	if err != nil {
		return nil, err
	}
	problem, plan, err := p.answer(ctx, &x, uncertainty, say)
	if err != nil {
		return nil, err
	}
	record, err := p.recordOf(problem, plan, x.Notes)
	if err != nil {
		return nil, err
	}
	record.ID, record.Request, record.RunID = x.ID, x.Fingerprint, x.Notes.Ask.Run
	if len(plan.Bookings) > 0 {
		kept, err := p.forecastOf(ctx, record, forecast.Options{Seed: 1}, say)
		if err != nil {
			return nil, err
		}
		record.Chance = &kept.Forecast.Chance
	}
	return struct{}{}, p.keep(ctx, record)
}

// answer solves the problem, with as much slack as the ask says or its confidence takes.
func (p *Plans) answer(ctx context.Context, x *toSolve, u forecast.Uncertainty, say questions.Progress) (planning.Problem, planning.Plan, error) {
	ask := x.Notes.Ask
	options := planning.Options{TimeLimit: ask.TimeLimit}
	if ask.Confidence > 0 {
		sure, err := questions.Confidently(ctx, x.Problem, u, ask.Confidence, options, say)
		x.Notes.Slack = sure.Slack
		return sure.Problem, sure.Plan, errors.Join(err, ctx.Err())
	}
	say(0, 0, "planning")
	problem := questions.WithSlack(x.Problem, ask.Slack)
	plan, err := planning.Solve(ctx, problem, options)
	return problem, plan, errors.Join(err, ctx.Err())
}
