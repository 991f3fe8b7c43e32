package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
)

func (a *app) plan() *cobra.Command {
	var x choices
	minChance := usualMinChance
	c := &cobra.Command{
		Use: "plan SHOT… --by TIME", Short: "Plan the cheapest schedule that meets the deadline", Args: cobra.MinimumNArgs(1),
		Long: `Plans shots from stock, trials and prices, and stores the plan with the problem
that it answers. Says what no plan costs less than, and the chance to be in time.
Exit status: 0 meets the deadline, 3 late, 4 over the budget, 5 impossible, 7 meets it
by its times, but the chance is below --min-chance.`,
		Example: `  rotanex plan orrery-010 orrery-020 --by "mon 09:00"
  rotanex plan orrery-020 --by +2h --owned-only --slack 10%
  rotanex plan orrery-020 --by 22:00 --fastest --budget 250
  rotanex plan lamp-040 stair-030 --by "mon 09:00" --pin lamp-040=eddy --without desk-ada --confidence 95%
  rotanex plan orrery-020 --by "mon 09:00" --confidence 95% --contingency 10
  rotanex plan orrery-020 --by +2h --assume host=bellows-2:like=bellows`,
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			least, err := share("--min-chance", minChance)
			if err != nil {
				return err
			}
			now, err := serviceNow(cmd.Context(), c)
			if err != nil {
				return err
			}
			ask, err := x.ask(args, now)
			if err != nil {
				return err
			}
			p, err := a.makePlan(cmd, c, ask)
			if err != nil {
				return err
			}
			return a.showOutlook(cmd, c, p, float64(least))
		}),
	}
	x.flags(c)
	c.Flags().StringVar(&minChance, "min-chance", usualMinChance, "below this chance to be in time the exit status is 7")
	return c
}

// usualMinChance is the chance below which a plan that meets its deadline by its times
// is not called one that meets it.
const usualMinChance = "50%"

// makePlan has a plan made and shows it.
func (a *app) makePlan(cmd *cobra.Command, c *client.Client, ask api.NewPlan) (api.Plan, error) {
	stop := a.working(cmd, "planning")
	p, err := client.Decode[api.Plan](c.CreatePlan(cmd.Context(), &api.CreatePlanParams{IdempotencyKey: new(newKey())}, ask))
	stop()
	if err != nil {
		return p, err
	}
	return p, a.showPlan(cmd, p)
}

// showOutlook says below a plan how sure it is, or what would fix it, and ends with
// the exit status that the plan's own asks for, and its chance.
func (a *app) showOutlook(cmd *cobra.Command, c *client.Client, p api.Plan, minChance float64) error {
	if err := a.printOutlook(cmd, c, p); err != nil {
		return err
	}
	if err := exitFor(string(p.Status)); err != nil {
		return err
	}
	if p.Chance != nil && *p.Chance < minChance {
		return exit{ExitUnsure, fmt.Sprintf("the chance to be in time is %s, below %.0f %%: plan with --confidence, more machines or a later deadline", forecast.Percent(*p.Chance), 100*minChance)}
	}
	return nil
}

func (a *app) printOutlook(cmd *cobra.Command, c *client.Client, p api.Plan) error {
	out := cmd.OutOrStdout()
	if a.config.GetString("output") != "table" {
		return nil
	}
	if len(p.Bookings) > 0 {
		stop := a.working(cmd, "simulating it")
		f, err := client.Decode[api.PlanForecast](c.ForecastPlan(cmd.Context(), p.Id, &api.ForecastPlanParams{}))
		stop()
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "\nChance to be in time: %s.\n  finish %s, nine in ten by %s\n  cost %s, nine in ten below %s\n",
			forecast.Percent(f.Chance), minute(f.Finish.P50), minute(f.Finish.P90), money(f.Currency, f.Cost.P50), money(f.Currency, f.Cost.P90))
		if len(p.Servers) > 0 && p.Choices.Contingency != "" {
			fmt.Fprintln(out, "  servers are let as late as the deadlines allow; those that prove not to be needed are never let")
		}
		stop = a.working(cmd, "looking at the other runs")
		effects, err := client.Decode[planEffects](c.PlanEffects(cmd.Context(), p.Id))
		stop()
		if err != nil {
			return err
		}
		printEffects(out, effects.Items)
	}
	if p.Status == api.PlanStatusLate || p.Status == api.PlanStatusOverBudget {
		stop := a.working(cmd, "looking for what would fix it")
		why, err := client.Decode[api.PlanReasons](c.ExplainPlan(cmd.Context(), p.Id))
		stop()
		if err != nil {
			return err
		}
		printShortages(out, why)
	}
	switch {
	case len(p.Assumes) > 0:
		fmt.Fprintf(out, "\nIt assumes that there is %s: it cannot be started.\n", strings.Join(p.Assumes, "; "))
	case p.Run != nil:
		fmt.Fprintf(out, "\nLet the run go on by it: rotanex replan %s --use %s\n", p.Run.String()[:8], p.Id.String()[:8])
	case len(p.Bookings) > 0:
		id := p.Id.String()[:8]
		fmt.Fprintf(out, "\nCarry it out: rotanex start %s   Why so: rotanex why %s   Sooner or cheaper: rotanex curve %s\n", id, id, id)
	}
	return nil
}

func printShortages(out io.Writer, why api.PlanReasons) {
	if len(why.Short) > 0 {
		fmt.Fprintln(out, "\nWhat is short:")
		for _, s := range why.Short {
			fmt.Fprintln(out, " ·", s.Text)
		}
	}
	if len(why.Remedies) > 0 {
		fmt.Fprintln(out, "\nAny one of these would do, the cheapest first:")
		for _, r := range why.Remedies {
			fmt.Fprintf(out, " · %s: %s, finish %s\n", r.Change, money(why.Currency, r.Cost), moment(r.Finish))
		}
	}
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

// statusText is a plan's status with the chance that its forecast gave.
func statusText(p api.Plan) string {
	if p.Chance == nil || p.Status != api.PlanStatusMeets && p.Status != api.PlanStatusOverBudget {
		return string(p.Status)
	}
	return fmt.Sprintf("%s (%s to be in time)", p.Status, forecast.Percent(*p.Chance))
}

func money(currency, amount string) string {
	if amount == "" {
		return none
	}
	return currency + " " + amount
}

func (a *app) showPlan(cmd *cobra.Command, p api.Plan) error {
	out := cmd.OutOrStdout()
	if a.config.GetString("output") == "table" {
		switch p.Status {
		case api.PlanStatusImpossible:
			fmt.Fprintf(out, "Plan %s is impossible.\n", p.Id)
			for _, lost := range p.Impossible {
				fmt.Fprintf(out, " · %s: %s\n", lost.Shot, lost.Why)
			}
			for _, line := range leftOut(p.LeftOut) {
				fmt.Fprintln(out, " ·", line)
			}
			return nil
		default:
			fmt.Fprintf(out, "Plan %s %s: finish %s, deadline %s\n", p.Id, statusText(p), minute(p.Finish), minute(p.Deadline))
			fmt.Fprintf(out, "%s%s\n", money(p.Currency, p.Cost), atLeast(p))
			if p.Gain != "" {
				fmt.Fprintf(out, "Planned together with what is open: %s.\n", p.Gain)
			}
			for _, k := range p.Kept {
				fmt.Fprintf(out, "%s: %d frames (%s) are done already by run %s and are kept; --again renders them again\n", k.Shot, k.Count, k.Frames, k.Run.String()[:8])
			}
			fmt.Fprintln(out)
		}
	}
	l := listing{columns: []string{"shot", "where", "crew", "frames", "start", "end", "a frame|a_frame_s", "opening|opening_s,frames_a_start", "basis", "cost|cost,currency"}, records: p, empty: "It books nothing."}
	for _, b := range p.Bookings {
		l.add(b.Shot, b.Place, b.Crew, strconv.Itoa(b.Frames), atDay(b.Start), atDay(b.End), inSeconds(b.FrameS), opening(b.OpeningS, b.InStart), string(b.Basis), bare(p.Currency, b.Cost))
	}
	for _, s := range p.Servers {
		l.add("", s.Id, "server", "", atDay(s.From), atDay(s.To), cell{"", inSeconds(s.BilledS).plain}, opening(0, 0), cell{"pays " + seconds(s.BilledS), []string{"paid"}}, bare(p.Currency, s.Cost))
	}
	for _, s := range p.Sources {
		if s.MinimumCharge != "" {
			l.add("", s.Source, "to the minimum charge", "", none, none, "", opening(0, 0), "", bare(p.Currency, s.MinimumCharge))
		}
	}
	if err := a.show(cmd, l); err != nil {
		return err
	}
	if a.config.GetString("output") == "table" {
		if n := len(p.LeftOut); n > 0 {
			fmt.Fprintf(out, "\n%d crews were left out; rotanex preflight SHOT says why, and how to fix it.\n", n)
		}
	}
	return nil
}

// atLeast says what no plan costs less than, where that says anything: of plans that
// are in time.
func atLeast(p api.Plan) string {
	if p.Status == api.PlanStatusLate {
		return ""
	}
	text := ", no plan costs less than " + money(p.Currency, p.CostBound)
	if !p.FinishBound.IsZero() {
		text += ", none inside the budget ends before " + moment(p.FinishBound)
	}
	return text
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
		if all[i].Fix != "" {
			line += "; " + all[i].Fix
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
			l := listing{columns: []string{"plan", "shots", "status", "chance", "cost|cost,cost_currency", "no less than|no_less_than,no_less_than_currency", "finish", "deadline"}, records: all, empty: "No plan yet. Make one: rotanex plan SHOT --by TIME"}
			for _, p := range all {
				sure := cellOf(none)
				if p.Chance != nil {
					sure = likelihood(*p.Chance)
				}
				l.add(p.Id.String()[:8], fmt.Sprint(len(p.Shots)), string(p.Status), sure, amount(p.Currency, p.Cost), amount(p.Currency, p.CostBound), at(p.Finish), at(p.Deadline))
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
			if err := a.showPlan(cmd, p); err != nil {
				return err
			}
			return a.printOutlook(cmd, c, p)
		}),
	}
	show.Flags().StringVar(&file, "problem-to", "", "write the problem that it answers to this file, for rotanex solve")
	return group("plans", "Look at plans", list, show, a.comparePlans(), a.exportPlan())
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
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	return writeBelow(root, filepath.Base(path), bytes.NewReader(data))
}
