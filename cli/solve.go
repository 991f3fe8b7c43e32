package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
)

// solving are the flags of solve.
type solving struct {
	to, confidence string
	contingency    string
	assume         []string
	curve          bool
	limit          time.Duration
}

func (a *app) solve() *cobra.Command {
	var x solving
	c := &cobra.Command{
		Use: "solve PROBLEM.json", Short: "Solve a problem file without a service", Args: cobra.ExactArgs(1),
		Long: `Reads a problem file (docs/formats.md) and writes the plan. Needs no service and
no database. What is not in the file is assumed where it is asked for: of --confidence,
how frames vary and how often they fail (docs/planning.md). Exit status: 0 meets every
deadline, 3 late, 4 over the budget, 5 impossible.`,
		Example: `  rotanex solve problem.json --to plan.json --time-limit 10s
  rotanex solve problem.json --assume host=bellows-2:like=bellows --assume time=orrery-020:0.5
  rotanex solve problem.json --confidence 95% --to plan.json
  rotanex solve problem.json --curve`,
		RunE: func(cmd *cobra.Command, args []string) error { return a.solveFile(cmd, args[0], x) },
	}
	f := c.Flags()
	f.StringVar(&x.to, "to", "", "file to write the plan to; without it to standard output")
	f.DurationVar(&x.limit, "time-limit", 0, "look for a better plan until then; without it as long as the size of the problem asks")
	f.StringArrayVar(&x.assume, "assume", nil, "what if, as of rotanex plan: host=NAME:like=HOST, price=NAME:6.00, time=SHOT:0.5 …")
	f.StringVar(&x.confidence, "confidence", "", "keep as much slack as it takes for the forecast to give this chance to be in time, such as 95%")
	f.BoolVar(&x.curve, "curve", false, "list the cheapest cost for each of several finish times instead")
	f.StringVar(&x.contingency, "contingency", "", "of --confidence: money beyond the plan for servers that are let on the way, such as 10.00")
	c.MarkFlagsMutuallyExclusive("curve", "confidence")
	c.MarkFlagsMutuallyExclusive("curve", "to")
	c.MarkFlagsMutuallyExclusive("curve", "time-limit")
	return c
}

func (a *app) solveFile(cmd *cobra.Command, path string, x solving) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	problem, err := planning.ParseProblem(file)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	for _, text := range x.assume {
		one, err := assumption(text, problem.Start)
		if err != nil {
			return err
		}
		asked, err := assumed(one)
		if err != nil {
			return fmt.Errorf("--assume %q: %w", text, err)
		}
		said := ""
		if problem, said, err = questions.Assume(problem, asked); err != nil {
			return fmt.Errorf("--assume %q: %s %w", text, one.Name, err)
		}
		fmt.Fprintln(cmd.ErrOrStderr(), "assuming", said)
	}
	if x.curve {
		return a.solveCurve(cmd, problem)
	}
	plan, err := a.solveProblem(cmd, problem, x)
	if err != nil {
		return err
	}
	if x.to == "" {
		if err := printJSON(cmd.OutOrStdout(), plan); err != nil {
			return err
		}
	} else {
		if err := writeJSON(x.to, plan); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), solved(problem, plan))
	}
	return exitFor(plan.Status)
}

// assumed is an assumption of the command line as the core takes it.
func assumed(a api.Assumption) (questions.Assumption, error) {
	out := questions.Assumption{What: string(a.What), Name: a.Name, Like: a.Like, Count: a.Count, Factor: float64(a.Factor), At: a.At}
	if a.Price != "" {
		price, err := pricing.ParseMoney(a.Price)
		if err != nil {
			return out, err
		}
		out.Price = &price
	}
	return out, nil
}

func (a *app) solveProblem(cmd *cobra.Command, problem planning.Problem, x solving) (planning.Plan, error) {
	stop := a.working(cmd, "solving")
	defer stop()
	options := planning.Options{TimeLimit: x.limit}
	if x.confidence == "" && x.contingency != "" {
		return planning.Plan{}, errors.New("--contingency goes with --confidence: it is what the chance may reckon with")
	}
	if x.confidence == "" {
		return planning.Solve(cmd.Context(), problem, options)
	}
	wanted, err := share("--confidence", x.confidence)
	if err != nil {
		return planning.Plan{}, err
	}
	sureness := questions.Wanted{Chance: float64(wanted)}
	if x.contingency != "" {
		contingency, err := pricing.ParseMoney(x.contingency)
		if err != nil || contingency.Rat().Sign() < 0 {
			return planning.Plan{}, fmt.Errorf("--contingency %q: want an amount of 0 or more, such as 10.00", x.contingency)
		}
		sureness.Contingency = contingency.Float()
	}
	sure, err := questions.Confidently(cmd.Context(), problem, forecast.Uncertainty{Common: forecast.DefaultCommon, Disruptions: disruptions.Learn(disruptions.Seen{})}, sureness, options, a.progress)
	if err == nil && sure.Chance >= 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "chance to be in time %s, with %.0f %% of the time kept spare\n", forecast.Percent(sure.Chance), 100*sure.Slack)
	}
	return sure.Plan, err
}

// progress says how far something is that is computed here.
func (a *app) progress(done, all int, doing string) {
	a.computing(api.Computation{State: api.ComputationStateComputing, Done: done, Parts: all, Doing: doing})
}

func (a *app) solveCurve(cmd *cobra.Command, problem planning.Problem) error {
	curve, err := a.tradeoff(cmd.Context(), cmd, problem)
	if err != nil {
		return err
	}
	type point struct {
		Finish   time.Time     `json:"finish"`
		Cost     pricing.Money `json:"cost"`
		Currency string        `json:"currency"`
		Status   string        `json:"status"`
		Mark     string        `json:"mark,omitempty"`
		Plan     planning.Plan `json:"plan"`
	}
	marks := map[int]string{curve.Balanced: "balanced", curve.Fastest: "fastest", curve.Cheapest: "cheapest"}
	var points []point
	l := listing{columns: []string{"finish", "cost|cost,cost_currency", "status", ""}, empty: "No plan."}
	for i, p := range curve.Points {
		x := point{problem.Start.Add(p.Finish.Duration()), p.Cost, problem.Currency, p.Status, marks[i], p}
		points = append(points, x)
		l.add(at(x.Finish), amount(x.Currency, x.Cost.String()), x.Status, x.Mark)
	}
	l.records = points
	return a.show(cmd, l)
}

// solveCurvePoints is how many points a curve of a file has at most.
const solveCurvePoints = 12

func (a *app) tradeoff(ctx context.Context, cmd *cobra.Command, problem planning.Problem) (questions.Curve, error) {
	stop := a.working(cmd, "planning for each finish time")
	defer stop()
	known, err := planning.Solve(ctx, problem, planning.Options{})
	if err != nil {
		return questions.Curve{}, err
	}
	return questions.Tradeoff(ctx, problem, solveCurvePoints, known, a.progress)
}

func solved(problem planning.Problem, plan planning.Plan) string {
	if plan.Status == planning.Impossible {
		return fmt.Sprintf("impossible: %s: %s", plan.Impossible[0].Shot, plan.Impossible[0].Why)
	}
	text := fmt.Sprintf("%s: %s, finish %s", plan.Status, money(problem.Currency, plan.Cost.String()), moment(problem.Start.Add(plan.Finish.Duration())))
	if plan.Status != planning.Late && plan.CostBound.Cmp(pricing.Money{}) > 0 {
		text += fmt.Sprintf("; no plan costs less than %s", money(problem.Currency, plan.CostBound.String()))
	}
	if plan.FinishBound > 0 {
		text += fmt.Sprintf("; none inside the budget ends before %s", moment(problem.Start.Add(plan.FinishBound.Duration())))
	}
	return text
}
