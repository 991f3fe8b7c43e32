package plans

import (
	"context"
	"encoding/json"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
)

// explained is why a plan is as it is, what was short, and what would fix it.
type explained struct {
	Reasons   []questions.Reason  `json:"reasons"`
	Shortages []planning.Shortage `json:"shortages"`
	Remedies  []questions.Remedy  `json:"remedies"`
}

// reasons answers the question of why.
func (p *Plans) reasons(ctx context.Context, question []byte, say questions.Progress) (any, error) {
	var q ofPlan
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	of, err := p.find(ctx, q.Plan)
	if err != nil {
		return nil, err
	}
	problem, plan, err := of.open()
	if err != nil {
		return nil, err
	}
	say(0, 0, "weighing each place against the others")
	out := explained{Reasons: questions.Reasons(problem, plan), Shortages: planning.Shortages(problem, plan)}
	out.Remedies, err = questions.Remedies(ctx, problem, plan, say)
	return out, err
}
