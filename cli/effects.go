package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/forecast"
)

type planEffects struct {
	Items []api.PlanEffect `json:"items"`
}

func (a *app) effects() *cobra.Command {
	return &cobra.Command{
		Use: "effects PLAN", Short: "What carrying a plan out would do to open runs", Args: cobra.ExactArgs(1),
		Long: `Where it is worth it, open runs whose policy is auto and that are no more urgent are planned
together with a new one: they go by what was planned for them once it begins. Else runs that
are less urgent leave the plan's hosts to it for as long as it has them, and are planned anew
around it if their policy is auto. What is shown is how they stand then. rotanex plan
--keep-others leaves them all as they are.`,
		Example: "  rotanex plan storm-050 --by \"+2h\" --priority urgent\n  rotanex effects latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			stop := a.working(cmd, "looking at the other runs")
			all, err := client.Decode[planEffects](c.PlanEffects(cmd.Context(), id))
			stop()
			if err != nil {
				return err
			}
			l := listing{
				columns: []string{"run", "shots", "priority", "deadline", "ends|finish_before,finish_after", "in time|chance_before,chance_after", "rest costs|cost_before,cost_after,cost_currency", "moved", "frames", "planned"},
				records: all.Items, empty: "It takes nothing from any open run.",
			}
			for _, x := range all.Items {
				planned := "around it"
				if x.Together {
					planned = "with it"
				}
				l.add(x.Run.String()[:8], strings.Join(x.Shots, ", "), string(x.Priority), atMinute(x.Deadline),
					cell{minute(x.FinishBefore) + " → " + minute(x.FinishAfter), append(atMinute(x.FinishBefore).plain, atMinute(x.FinishAfter).plain...)},
					cell{forecast.Percent(x.ChanceBefore) + " → " + forecast.Percent(x.ChanceAfter), []string{number(x.ChanceBefore, 3), number(x.ChanceAfter, 3)}},
					cell{money(x.Currency, x.CostBefore) + " → " + x.CostAfter, []string{x.CostBefore, x.CostAfter, x.Currency}},
					strconv.Itoa(x.Moved), strconv.Itoa(x.Frames), planned)
			}
			return a.show(cmd, l)
		}),
	}
}

// printEffects says in a line for each run what a plan does to it.
func printEffects(out io.Writer, all []api.PlanEffect) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(out, "\nWhat it does to other runs:")
	for _, x := range all {
		fmt.Fprintln(out, wrapped(fmt.Sprintf(" · run %s (%s) %s", x.Run.String()[:8], strings.Join(x.Shots, ", "), effectText(x)), 98, "   "))
	}
}

// effectText says what a plan does to a run.
func effectText(x api.PlanEffect) string {
	var said []string
	if x.Together {
		said = append(said, "is planned together with it")
	}
	switch by := x.FinishAfter.Sub(x.FinishBefore); {
	case x.FinishAfter.IsZero():
		said = append(said, "would not end")
	case x.FinishBefore.IsZero():
		said = append(said, "ends "+minute(x.FinishAfter))
	case by >= time.Minute:
		said = append(said, "ends "+seconds(by.Round(time.Minute).Seconds())+" later, "+minute(x.FinishAfter))
	case by <= -time.Minute:
		said = append(said, "ends "+seconds((-by).Round(time.Minute).Seconds())+" sooner, "+minute(x.FinishAfter))
	default:
		said = append(said, "ends when it would, "+minute(x.FinishAfter))
	}
	in := "still " + forecast.Percent(x.ChanceAfter) + " to be in time"
	if x.ChanceAfter < x.Wanted && x.ChanceAfter < x.ChanceBefore-0.02 {
		in = fmt.Sprintf("%s to be in time instead of %s", forecast.Percent(x.ChanceAfter), forecast.Percent(x.ChanceBefore))
	}
	said = append(said, in)
	if x.CostBefore != x.CostAfter {
		said = append(said, fmt.Sprintf("its rest costs %s instead of %s", money(x.Currency, x.CostAfter), x.CostBefore))
	}
	return strings.Join(said, "; ")
}
