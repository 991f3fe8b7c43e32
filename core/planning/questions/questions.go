// Package questions answers what people ask about a planning problem and its plan: why a
// place is used or not (Reasons), what would fix a plan that is late or over the budget
// (Remedies), what an earlier finish costs (Tradeoff), what if there were one more host
// (Assume), how much slack it takes to be sure (Confidently), what each source costs
// (SourceCosts) and would take alone (Sources), and what differs from another plan
// (Changes).
//
//	p, text, err := questions.Assume(p, questions.Assumption{What: questions.AssumeHost, Name: "bellows-2", Like: "bellows"})
//	sure, err := questions.Confidently(ctx, p, forecast.Uncertainty{}, questions.Wanted{Chance: 0.95}, planning.Options{}, nil)
//	fmt.Println(text, sure.Plan.Cost, sure.Chance)
//
// Everything here asks the planner and the forecast through their exported functions and
// decides nothing of its own. What solves more than once tells its progress.
package questions
