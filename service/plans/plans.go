// Package plans has planning problems solved in the background, and keeps problem and
// answer together, so that any plan can be reproduced from its own record. What people ask of a plan (why, what would fix it, what
// if sooner, how sure) is answered from that record by core/planning/questions and
// core/forecast, in the background too.
package plans

import (
	"context"
	"time"

	"rotanex.example/core/forecast"
	"rotanex.example/core/planning/questions"
	"rotanex.example/service/clock"
	"rotanex.example/service/computations"
	"rotanex.example/service/events"
	"rotanex.example/service/hosts"
	"rotanex.example/service/problems"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
	"rotanex.example/service/uncertainty"
)

// Config is what planning needs of the service. All of it is wanted.
type Config struct {
	Store        *store.Store
	Clock        clock.Clock
	Feed         *events.Feed
	Computations *computations.Computations

	Problems    *problems.Problems
	Hosts       *hosts.Hosts
	Shots       *shots.Shots
	Timings     *timings.Timings
	Uncertainty *uncertainty.Uncertainty
	Sources     *sources.Sources

	Currency string
	Zone     *time.Location // in which opening hours are read
}

// Plans looks after them.
type Plans struct {
	Config
	briefs *briefs
	// Together plans a run that is to begin together with those that are open, where that is
	// worth it: it returns its plan, and theirs. It is set as the service starts.
	Together func(ctx context.Context, alone Solved, notes problems.Notes, say questions.Progress) (Solved, []Plan, error)
}

// Kinds of questions that are computed in the background.
const (
	planKind     = "plan"
	forecastKind = "forecast"
	curveKind    = "curve"
	reasonsKind  = "reasons"
	sourcesKind  = "sources"
)

// fresh is how long an answer is good that rests on what is known now: on times,
// failures, waits and prices.
const fresh = 10 * time.Minute

// New makes it.
func New(c Config) *Plans {
	p := &Plans{Config: c, briefs: newBriefs()}
	c.Computations.On(planKind, p.solve)
	c.Computations.On(forecastKind, p.simulate)
	c.Computations.On(curveKind, p.draw)
	c.Computations.On(reasonsKind, p.reasons)
	c.Computations.On(sourcesKind, p.alternatives)
	return p
}

// answerOfForecast is what is kept of a forecast.
type answerOfForecast struct {
	Forecast forecast.Forecast `json:"forecast"`
	Seed     uint64            `json:"seed"`
	RestsOn  []string          `json:"rests_on"`
}
