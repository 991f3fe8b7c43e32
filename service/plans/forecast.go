package plans

import (
	"context"
	"encoding/json"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning/questions"
	"rotanex.example/service/httpapi"
)

// simulate answers the question of how sure a plan is.
func (p *Plans) simulate(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var q ofPlan
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	record, err := p.find(ctx, q.Plan)
	if err != nil {
		return nil, err
	}
	return p.forecastOf(ctx, record, forecast.Options{Simulations: q.Simulations, Seed: q.Seed}, say)
}

// forecastOf simulates the plan of a record with what is not known for sure now.
func (p *Plans) forecastOf(ctx context.Context, record Plan, options forecast.Options, say questions.Progress) (answerOfForecast, error) {
	problem, plan, err := record.open()
	if err != nil {
		return answerOfForecast{}, err
	}
	if len(plan.Bookings) == 0 {
		return answerOfForecast{}, httpapi.Conflict("the plan books nothing: there is nothing to forecast")
	}
	uncertainty, restsOn, err := p.Uncertainty.Of(ctx, problem, record.Notes)
	if err != nil {
		return answerOfForecast{}, err
	}
	options.MayLet = record.Notes.Ask.MayLet().Float()
	options.Progress = func(done, all int) { say(done, all, "simulating the plan") }
	f, err := forecast.Simulate(ctx, problem, plan, uncertainty, record.Notes.Deadlines, options)
	return answerOfForecast{Forecast: f, Seed: options.Seed, RestsOn: restsOn}, err
}
