package plans

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/timing"
	"rotanex.example/service/accounts"
	"rotanex.example/service/computations"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/problems"
)

// noDeadline is within what a shot is compared that has no deadline of its own.
const noDeadline = 3 * 24 * time.Hour

// toCompare is the question of what a shot takes on each source.
type toCompare struct {
	Problem  planning.Problem  `json:"problem"`
	Notes    problems.Notes    `json:"notes"`
	Names    []string          `json:"names"` // of sources, and of a baseline that is a place
	SourceOf map[string]string `json:"source_of"`
	Baseline string            `json:"baseline,omitempty"`
}

// compared is its answer.
type compared struct {
	By          time.Time               `json:"by"`
	Rows        []questions.Alternative `json:"rows"`
	Unsupported map[string][]string     `json:"unsupported"` // of each row, what cannot render there and why
	Baseline    string                  `json:"baseline"`    // of the rows; "" for none
	Marks       ledger.Marks            `json:"marks"`
}

// comparison is the question for a shot, by a deadline that is zero for its own.
func (p *Plans) comparison(shot string, by time.Time, baseline string) computations.Question {
	id := uuid.NewSHA1(uuid.NameSpaceURL, fmt.Appendf(nil, "sources of %s by %d against %s", shot, by.Unix(), baseline))
	return computations.Question{ID: id, Kind: sourcesKind, About: shot, Valid: fresh, Input: func(ctx context.Context) (any, error) {
		return p.toCompare(ctx, shot, by, baseline)
	}}
}

func (p *Plans) toCompare(ctx context.Context, shot string, by time.Time, baseline string) (x toCompare, err error) {
	ask := problems.Ask{Shots: []string{shot}, By: by, Again: true}
	if s, err := p.Shots.Find(ctx, shot); err == nil && by.IsZero() && s.Spec.Deadline.IsZero() {
		ask.By = p.Clock.Now().Add(noDeadline)
	}
	if x.Problem, x.Notes, err = p.Problems.Build(ctx, ask); err != nil {
		return x, err
	}
	places, err := p.Hosts.Places(ctx)
	if err != nil {
		return x, err
	}
	x.SourceOf = map[string]string{}
	for _, place := range places {
		x.SourceOf[place.Name] = place.Source
		if !slices.Contains(x.Names, place.Source) {
			x.Names = append(x.Names, place.Source)
		}
	}
	slices.Sort(x.Names)
	if x.Baseline = baseline; baseline != "" && !slices.Contains(x.Names, baseline) {
		if _, known := x.SourceOf[baseline]; !known {
			return x, httpapi.BadField("baseline", baseline, "is no source and no host; there are "+strings.Join(x.Names, ", "))
		}
		x.Names = append(x.Names, baseline)
	}
	return x, nil
}

// alternatives answers the question of what the same work takes on each source alone, and
// on the best mix of all.
func (p *Plans) alternatives(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var x toCompare
	err := json.Unmarshal(question, &x)
	if err != nil {
		return nil, err
	}
	out := compared{By: x.Problem.Start.Add(x.Problem.Shots[0].Deadline.Duration()), Unsupported: map[string][]string{}}
	measured := func(t planning.Timing) bool {
		_, place := t.Place()
		return x.Notes.Basis[accounts.BasisKey(t.Shot, place, t.Crew)].Basis == timing.Measured
	}
	if out.Rows, err = questions.Sources(ctx, x.Problem, x.Names, x.SourceOf, measured, say); err != nil {
		return nil, err
	}
	plain := make([]ledger.Row, len(out.Rows))
	for i, r := range out.Rows {
		plain[i] = ledger.Row{Cost: r.Cost, Elapsed: r.Elapsed, Counts: r.Status == planning.Meets}
	}
	out.Marks = ledger.Mark(plain)
	for _, l := range x.Notes.LeftOut {
		for _, name := range x.Names {
			if at := l.Place + ": " + l.Why; (x.SourceOf[l.Place] == name || l.Place == name) && !slices.Contains(out.Unsupported[name], at) {
				out.Unsupported[name] = append(out.Unsupported[name], at)
			}
		}
	}
	out.Baseline = x.Baseline
	if out.Baseline == "" && len(x.Problem.Hosts) > 0 { // one's own hosts, where none is asked for
		own := x.SourceOf[x.Problem.Hosts[0].ID]
		if slices.ContainsFunc(out.Rows, func(r questions.Alternative) bool { return r.Source == own && r.Frames > 0 }) {
			out.Baseline = own
		}
	}
	return out, nil
}
