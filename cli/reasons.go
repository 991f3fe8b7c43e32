package cli

import (
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/forecast"
)

func (a *app) why() *cobra.Command {
	return &cobra.Command{
		Use: "why PLAN", Short: "Why a plan uses what it uses, and not the rest", Args: cobra.ExactArgs(1),
		Example: "  rotanex why latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			stop := a.working(cmd, "weighing it")
			why, err := client.Decode[api.PlanReasons](c.ExplainPlan(cmd.Context(), id))
			stop()
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				l := listing{columns: []string{"used", "place", "shot", "why"}, records: why}
				for _, x := range why.Used {
					l.add("yes", x.Place, x.Shot, x.Text)
				}
				for _, x := range why.Unused {
					l.add("no", x.Place, x.Shot, x.Text)
				}
				return a.show(cmd, l)
			}
			out := cmd.OutOrStdout()
			place := ""
			for _, x := range why.Used {
				if x.Place != place {
					place = x.Place
					fmt.Fprintln(out, place)
				}
				fmt.Fprintln(out, wrapped("  "+x.Shot+": "+x.Text, 98, "    "))
			}
			if len(why.Unused) > 0 {
				fmt.Fprintln(out, "\nNot used:")
				for _, x := range why.Unused {
					fmt.Fprintln(out, wrapped(" · not "+x.Place+": "+x.Text, 98, "   "))
				}
			}
			printShortages(out, why)
			return nil
		}),
	}
}

// wrapped breaks a line at words, and indents what follows.
func wrapped(line string, width int, indent string) string {
	var out strings.Builder
	at := 0
	lead := line[:len(line)-len(strings.TrimLeft(line, " "))]
	out.WriteString(lead)
	at = len(lead)
	for i, word := range strings.Fields(line) {
		n := len([]rune(word))
		if i > 0 && at+1+n > width {
			out.WriteString("\n" + indent)
			at = len(indent)
		} else if i > 0 {
			out.WriteString(" ")
			at++
		}
		out.WriteString(word)
		at += n
	}
	return out.String()
}

func (a *app) forecast() *cobra.Command {
	simulations, seed := 1000, int64(1)
	c := &cobra.Command{
		Use: "forecast PLAN", Short: "How sure a plan is: simulated many times with what may go otherwise", Args: cobra.ExactArgs(1),
		Long: `Simulates the plan many times by the rule by which a run hands frames out, with frame
times that vary as timed frames did, servers that boot late and tries that fail. "Kept" is
when it ends if it is planned anew by itself on the way, as runs before did: time that is
gained is given back for money, so most end later than by the plan as it is, few late.`,
		Example: "  rotanex forecast latest\n  rotanex forecast latest --simulations 5000 --seed 7",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			stop := a.working(cmd, "playing it")
			f, err := client.Decode[api.PlanForecast](c.ForecastPlan(cmd.Context(), id, &api.ForecastPlanParams{Simulations: &simulations, Seed: &seed}))
			stop()
			if err != nil {
				return err
			}
			l := listing{columns: []string{"shot", "in time", "deadline", "one in ten by", "half by", "nine in ten by", "kept: half by", "kept: nine in ten", "rendering|rendering_time_s", "of it opening|opening_time_s"}, records: f}
			for _, s := range f.Shots {
				l.add(s.Shot, likelihood(s.Chance), atMinute(s.Deadline), atMinute(s.Finish.P10), atMinute(s.Finish.P50), atMinute(s.Finish.P90), atMinute(s.KeptFinish.P50), atMinute(s.KeptFinish.P90), inSeconds(s.RenderingS), inSeconds(s.OpeningS))
			}
			if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "\nAll in time: %s of %d simulations. Cost: %s, one in ten below %s, nine in ten below %s.\n",
				forecast.Percent(f.Chance), f.Simulations, money(f.Currency, f.Cost.P50), money(f.Currency, f.Cost.P10), money(f.Currency, f.Cost.P90))
			if k := f.KeptFinish; !k.P90.IsZero() {
				fmt.Fprintf(out, "Kept by itself (policy auto), as runs before went: half end by %s, nine in ten by %s; by this plan as it is %s and %s.\n",
					minute(k.P50), minute(k.P90), minute(f.Finish.P50), minute(f.Finish.P90))
			}
			if f.Never > 0 {
				fmt.Fprintf(out, "In %d simulations frames were left over when all crews had closed.\n", f.Never)
			}
			fmt.Fprintln(out, "\nIt rests on:")
			for _, r := range f.RestsOn {
				fmt.Fprintln(out, wrapped(" · "+r, 98, "   "))
			}
			return nil
		}),
	}
	c.Flags().IntVar(&simulations, "simulations", simulations, "how often it is simulated, 10 to 10000")
	c.Flags().Int64Var(&seed, "seed", seed, "the same seed gives the same forecast")
	return c
}

func (a *app) comparePlans() *cobra.Command {
	return &cobra.Command{
		Use: "compare BEFORE AFTER", Short: "What differs from one plan to another, and why", Args: cobra.ExactArgs(2),
		Example: "  rotanex plans compare 3f2a latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var ids [2]uuid.UUID
			for i, given := range args {
				id, err := a.findPlan(cmd.Context(), c, given)
				if err != nil {
					return err
				}
				ids[i] = id
			}
			return a.showChanges(cmd, c, ids[0], ids[1])
		}),
	}
}

func (a *app) showChanges(cmd *cobra.Command, c *client.Client, before, after uuid.UUID) error {
	changes, err := client.Decode[api.PlanChanges](c.ComparePlans(cmd.Context(), after, &api.ComparePlansParams{Since: before}))
	if err != nil {
		return err
	}
	if a.config.GetString("output") == "table" {
		out := cmd.OutOrStdout()
		for _, p := range []api.Plan{changes.Before, changes.After} {
			fmt.Fprintf(out, "%s  %-11s %10s  no less than %10s  finish %s\n", p.Id.String()[:8], p.Status, money(p.Currency, p.Cost), money(p.Currency, p.CostBound), moment(p.Finish))
		}
		fmt.Fprintln(out)
	}
	l := listing{columns: []string{"place", "shot", "what changes"}, records: changes, empty: "They are the same."}
	for _, x := range changes.Changes {
		l.add(orNone(x.Place), orNone(x.Shot), x.Text)
	}
	return a.show(cmd, l)
}

// replanning is what is asked of replan.
type replanning struct {
	choices
	apply, yes, afresh bool
	use, spend         string
	minChance          string
}

func (a *app) replan() *cobra.Command {
	var x replanning
	c := &cobra.Command{
		Use: "replan RUN", Short: "Plan the rest of a run anew, around what is being rendered", Args: cobra.ExactArgs(1),
		Long: `Plans what of a run is not done and not being rendered: frames under lease stay
where they are, servers that are up and paid for cost nothing more. Says what
changes against the plan that the run goes by. What was asked of that plan (goal,
budget, pins, what is not used, confidence) is asked again where no flag says otherwise;
--afresh forgets it. With --apply the run goes on by the new plan.`,
		Example: "  rotanex replan latest --by \"mon 09:00\"\n  rotanex replan latest --without tern --apply\n  rotanex replan latest --use 3f2a",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if x.use == "" {
				return a.replanRest(cmd, c, id, x)
			}
			plan, err := a.findPlan(cmd.Context(), c, x.use)
			if err != nil {
				return err
			}
			return a.changeOver(cmd, c, id, plan, x)
		}),
	}
	x.flags(c)
	c.Flags().BoolVar(&x.apply, "apply", false, "let the run go on by it")
	c.Flags().BoolVar(&x.afresh, "afresh", false, "forget what was asked of the run's plan")
	c.Flags().StringVar(&x.minChance, "min-chance", usualMinChance, "below this chance to be in time the exit status is 7")
	c.Flags().StringVar(&x.spend, "spend", "", "what servers, seats and farms may cost in the whole run at most; default what is spent and what the plan adds")
	c.Flags().BoolVarP(&x.yes, "yes", "y", false, "spend it without asking")
	c.Flags().StringVar(&x.use, "use", "", "let the run go on by this plan, made for it before")
	return c
}

// changeOver lets a run go on by a plan.
func (a *app) changeOver(cmd *cobra.Command, c *client.Client, run, plan uuid.UUID, x replanning) error {
	most, err := a.mayspendMore(cmd, c, run, plan, x.spend, x.yes)
	if err != nil {
		return err
	}
	r, err := client.Decode[api.Run](c.SetRunPlan(cmd.Context(), run, api.SetRunPlanJSONRequestBody{Plan: plan, Spend: most}))
	if err != nil {
		return err
	}
	return a.did(cmd, r, "Run %s goes on by plan %s.", run.String()[:8], plan.String()[:8])
}

// replanRest plans the rest of a run, and lets it go on by that if it is to.
func (a *app) replanRest(cmd *cobra.Command, c *client.Client, id uuid.UUID, x replanning) error {
	run, err := client.Decode[api.Run](c.GetRun(cmd.Context(), id))
	if err != nil {
		return err
	}
	ask, err := a.askForRest(cmd, c, run, x)
	if err != nil {
		return err
	}
	p, err := a.makePlan(cmd, c, ask)
	if err != nil {
		return err
	}
	if a.config.GetString("output") == "table" {
		fmt.Fprintln(cmd.OutOrStdout(), "\nAgainst the plan that the run began with:")
		if err := a.showChanges(cmd, c, run.Plan, p.Id); err != nil {
			return err
		}
	}
	if x.apply {
		return a.changeOver(cmd, c, id, p.Id, x)
	}
	least, err := share("--min-chance", x.minChance)
	if err != nil {
		return err
	}
	return a.showOutlook(cmd, c, p, float64(least))
}

// askForRest is what a plan of a run's rest is asked for.
func (a *app) askForRest(cmd *cobra.Command, c *client.Client, run api.Run, x replanning) (ask api.NewPlan, err error) {
	now, err := serviceNow(cmd.Context(), c)
	if err != nil {
		return ask, err
	}
	var shots []string
	for _, s := range run.Shots {
		shots = append(shots, s.Shot)
	}
	if ask, err = x.ask(shots, now); err != nil {
		return ask, err
	}
	if !x.afresh {
		if err := a.keepChoices(cmd, c, run.Plan, &ask); err != nil {
			return ask, err
		}
	}
	ask.Run = &run.Id
	if ask.By.IsZero() && !run.Deadline.IsZero() {
		ask.By = run.Deadline
	}
	return ask, nil
}
