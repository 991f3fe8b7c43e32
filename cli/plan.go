package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

func (a *app) plan() *cobra.Command {
	var by, budget string
	var fastest, ownedOnly bool
	limit := 10 * time.Second
	c := &cobra.Command{
		Use: "plan SHOT… --by TIME", Short: "Plan the cheapest schedule that meets the deadline", Args: cobra.MinimumNArgs(1),
		Long: `Plans shots from stock, trials and prices, and stores the plan with the problem
that it answers. Exit status: 0 meets the deadline, 3 late, 4 over the budget,
5 impossible.`,
		Example: `  rotanex plan orrery-010 orrery-020 --by "mon 09:00"
  rotanex plan orrery-020 --by +2h --owned-only
  rotanex plan orrery-020 --by 22:00 --fastest --budget 250`,
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			ask := api.NewPlan{Shots: args, Budget: budget, TimeLimitS: float32(limit.Seconds())}
			if fastest {
				ask.Goal = api.NewPlanGoalFastest
			}
			if ownedOnly {
				no := false
				ask.Rented = &no
			}
			if by != "" {
				now, err := serviceNow(cmd.Context(), c)
				if err != nil {
					return err
				}
				if ask.By, err = parseTime(by, now); err != nil {
					return err
				}
			}
			stop := working(cmd, "planning")
			p, err := client.Decode[api.Plan](c.CreatePlan(cmd.Context(), &api.CreatePlanParams{IdempotencyKey: new(newKey())}, ask))
			stop()
			if err != nil {
				return err
			}
			if err := a.showPlan(cmd, p); err != nil {
				return err
			}
			return exitFor(string(p.Status))
		}),
	}
	c.Flags().StringVar(&by, "by", "", "deadline for all: 20:00, mon 09:00, +2h30m or a whole time; without it each shot's own")
	c.Flags().BoolVar(&fastest, "fastest", false, "the earliest finish inside the budget, not the least cost")
	c.Flags().StringVar(&budget, "budget", "", "what it may cost, such as 250.00")
	c.Flags().BoolVar(&ownedOnly, "owned-only", false, "rent nothing")
	c.Flags().DurationVar(&limit, "time-limit", limit, "how long to look for a better plan")
	return c
}

// exitFor turns a plan's status into the exit status that says so.
func exitFor(status string) error {
	switch status {
	case planning.Late:
		return exit{ExitLate, ""}
	case planning.OverBudget:
		return exit{ExitOverBudget, ""}
	case planning.Impossible:
		return exit{ExitImpossible, ""}
	}
	return nil
}

func money(currency, amount string) string { return currency + " " + amount }

func (a *app) showPlan(cmd *cobra.Command, p api.Plan) error {
	out := cmd.OutOrStdout()
	if a.config.GetString("output") == "table" {
		switch p.Status {
		case api.Impossible:
			fmt.Fprintf(out, "Plan %s is impossible.\n", p.Id)
			for _, lost := range p.Impossible {
				fmt.Fprintf(out, " · %s: %s\n", lost.Shot, lost.Why)
			}
			for _, line := range leftOut(p.LeftOut) {
				fmt.Fprintln(out, " ·", line)
			}
			return nil
		default:
			fmt.Fprintf(out, "Plan %s %s: finish %s, deadline %s\n", p.Id, p.Status, moment(p.Finish), moment(p.Deadline))
			fmt.Fprintf(out, "%s, no plan costs less than %s\n\n", money(p.Currency, p.Cost), money(p.Currency, p.CostBound))
		}
	}
	l := listing{columns: []string{"shot", "where", "crew", "frames", "start", "end", "a frame", "basis", "cost"}, records: p, empty: "It books nothing."}
	for _, b := range p.Bookings {
		l.add(b.Shot, b.Place, b.Crew, strconv.Itoa(b.Frames), moment(b.Start), moment(b.End), seconds(b.FrameS), string(b.Basis), orNone(b.Cost))
	}
	for _, s := range p.Servers {
		l.add("", s.Id, "server", "", moment(s.From), moment(s.To), "", "pays "+seconds(s.BilledS), s.Cost)
	}
	if err := a.show(cmd, l); err != nil {
		return err
	}
	if a.config.GetString("output") == "table" {
		if n := len(p.LeftOut); n > 0 {
			fmt.Fprintf(out, "\n%d crews were left out; rotanex check SHOT says why, and how to mend it.\n", n)
		}
		fmt.Fprintf(out, "\nCarry it out: rotanex start %s\n", p.Id.String()[:8])
	}
	return nil
}

// leftOut says what was left out, a line for each shot and place: the first crew's
// reason, and how many more crews there are.
func leftOut(all []api.LeftOut) []string {
	var lines []string
	for i := 0; i < len(all); {
		j := i + 1
		for j < len(all) && all[j].Shot == all[i].Shot && all[j].Place == all[i].Place {
			j++
		}
		place := strings.TrimSuffix(all[i].Place+"/"+all[i].Crew, "/")
		line := fmt.Sprintf("%s on %s: %s", all[i].Shot, place, all[i].Why)
		if all[i].Mend != "" {
			line += "; " + all[i].Mend
		}
		if more := j - i - 1; more > 0 {
			line += fmt.Sprintf(" (and %d more of its crews)", more)
		}
		lines, i = append(lines, line), j
	}
	return lines
}

func (a *app) plans() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List plans, newest first", Args: cobra.NoArgs, Example: "  rotanex plans list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Plan, string, error) {
				page, err := client.Decode[api.PlanList](c.ListPlans(cmd.Context(), &api.ListPlansParams{Cursor: some(cursor), Limit: new(500)}))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{columns: []string{"plan", "shots", "status", "cost", "no less than", "finish", "deadline"}, records: all, empty: "No plan yet. Make one: rotanex plan SHOT --by TIME"}
			for _, p := range all {
				l.add(p.Id.String()[:8], fmt.Sprint(len(p.Shots)), string(p.Status), money(p.Currency, p.Cost), money(p.Currency, p.CostBound), moment(p.Finish), moment(p.Deadline))
			}
			return a.show(cmd, l)
		}),
	}
	var file string
	show := &cobra.Command{
		Use: "show PLAN", Short: "Show a plan; PLAN is its id, the first letters of it, or latest", Args: cobra.ExactArgs(1),
		Example: "  rotanex plans show latest\n  rotanex plans show latest --problem-to problem.json",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			p, err := client.Decode[api.Plan](c.GetPlan(cmd.Context(), id))
			if err != nil {
				return err
			}
			if file != "" {
				return writeJSON(file, p.Problem)
			}
			return a.showPlan(cmd, p)
		}),
	}
	show.Flags().StringVar(&file, "problem-to", "", "write the problem that it answers to this file, for rotanex solve")
	return group("plans", "Look at plans", list, show)
}

// writeJSON writes a file aside and renames it, so that it is whole or not there.
func writeJSON(path string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return writeWhole(path, append(data, '\n'))
}

func writeWhole(path string, data []byte) error {
	aside, err := os.CreateTemp(filepath.Dir(path), ".rotanex-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(aside.Name()) }()
	_, err = aside.Write(data)
	if err = errors.Join(err, aside.Close(), os.Chmod(aside.Name(), 0o644)); err != nil {
		return err
	}
	return os.Rename(aside.Name(), path)
}

func (a *app) solve() *cobra.Command {
	var to string
	var limit time.Duration
	c := &cobra.Command{
		Use: "solve PROBLEM.json", Short: "Solve a problem file without a service", Args: cobra.ExactArgs(1),
		Long: `Reads a problem file (docs/formats.md) and writes the plan. Needs no service and
no database. Exit status: 0 meets every deadline, 3 late, 4 over the budget,
5 impossible.`,
		Example: "  rotanex solve problem.json --to plan.json --time-limit 10s",
		RunE: func(cmd *cobra.Command, args []string) error {
			file, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer func() { _ = file.Close() }()
			problem, err := planning.ParseProblem(file)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			stop := working(cmd, "solving")
			plan, err := planning.Solve(cmd.Context(), problem, planning.Options{TimeLimit: limit})
			stop()
			if err != nil {
				return err
			}
			if to == "" {
				if err := printJSON(cmd.OutOrStdout(), plan); err != nil {
					return err
				}
			} else {
				if err := writeJSON(to, plan); err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), solved(problem, plan))
			}
			return exitFor(plan.Status)
		},
	}
	c.Flags().StringVar(&to, "to", "", "file to write the plan to; without it to standard output")
	c.Flags().DurationVar(&limit, "time-limit", limit, "look for a better plan until then; without it as long as the size of the problem asks")
	return c
}

func solved(problem planning.Problem, plan planning.Plan) string {
	if plan.Status == planning.Impossible {
		return fmt.Sprintf("impossible: %s: %s", plan.Impossible[0].Shot, plan.Impossible[0].Why)
	}
	text := fmt.Sprintf("%s: %s, finish %s", plan.Status, money(problem.Currency, plan.Cost.String()), moment(problem.Start.Add(plan.Finish.Duration())))
	if plan.Status != planning.Late && plan.CostBound.Cmp(pricing.Money{}) > 0 {
		text += fmt.Sprintf("; no plan costs less than %s", money(problem.Currency, plan.CostBound.String()))
	}
	return text
}
