package cli

import (
	"cmp"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
)

func (a *app) backlog() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the backlog, newest first: what is done of it, and what is not", Args: cobra.NoArgs, Example: "  rotanex backlog list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Run, string, error) {
				page, err := client.Decode[api.RunList](c.ListRuns(cmd.Context(), &api.ListRunsParams{Cursor: some(cursor), Limit: new(500), Priority: new(api.Backlog)}))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{columns: []string{"run", "shot", "state", "done", "failed", "left", "cost so far|cost_so_far,cost_so_far_currency", "added", "ended"}, records: all, empty: "The backlog is empty. Add to it: rotanex backlog add SHOT"}
			for _, r := range all {
				l.add(r.Id.String()[:8], shotsOf(r), string(r.State), strconv.Itoa(r.Counts.Done), strconv.Itoa(r.Counts.Failed), strconv.Itoa(r.Counts.Waiting+r.Counts.Rendering), amount(r.Currency, r.CostSoFar), at(r.Created), at(r.Ended))
			}
			return a.show(cmd, l)
		}),
	}
	return group("backlog", "Shots without a deadline, for crews that would else be idle", a.backlogAdd(), list)
}

// own is the budget of what is rendered on own machines alone: no limit to their power.
const own = "1000000.00"

func (a *app) backlogAdd() *cobra.Command {
	var gpuOnly, fallback bool
	var mayCost string
	c := &cobra.Command{
		Use: "add SHOT…", Short: "Render shots when crews would else be idle", Args: cobra.MinimumNArgs(1),
		Long: `Each shot becomes a run of its own, without a deadline, that comes after every other run on
each host: plans of others take its hosts, and their crews choose first; only frames that
are being rendered for it are finished. A shot that fails does not stop the next. It stays on
own machines unless --may-cost says what it may cost in all, servers and farms included.`,
		Example: "  rotanex backlog add lamp-040 coda-060\n  rotanex backlog add orrery-020 --gpu-only\n  rotanex backlog add orrery-020 --may-cost 5",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if most, err := pricing.ParseMoney(cmp.Or(mayCost, own)); err != nil || most.Cmp(pricing.Money{}) < 0 {
				return fmt.Errorf("--may-cost %q: want an amount of 0 or more, such as 5.00", mayCost)
			}
			ask := api.NewPlan{Priority: api.Backlog, Goal: api.NewPlanGoalFastest, Budget: cmp.Or(mayCost, own), Rented: new(mayCost != "")}
			switch {
			case gpuOnly:
				ask.Devices = api.OnlyGPUs
			case fallback:
				ask.Devices = api.GPUsElseCPUs
			}
			var added []api.Run
			for _, shot := range args {
				run, err := a.addToBacklog(cmd, c, ask, shot)
				if err != nil {
					return fmt.Errorf("%s: %w; %s", shot, err, doneBefore(len(added), "added"))
				}
				added = append(added, run)
			}
			return a.did(cmd, added, "Added %s to the backlog. Look at it: rotanex backlog list", several(len(added), "shot"))
		}),
	}
	f := c.Flags()
	f.BoolVar(&gpuOnly, "gpu-only", false, "not on a CPU alone")
	f.BoolVar(&fallback, "cpu-fallback", false, "on a CPU alone only where no GPU can render the shot; without either flag on all")
	f.StringVar(&mayCost, "may-cost", "", "what it may cost in all, such as 5.00; without it nothing is rented")
	c.MarkFlagsMutuallyExclusive("gpu-only", "cpu-fallback")
	return c
}

// addToBacklog plans one shot as soon as own machines are free, and begins its run.
func (a *app) addToBacklog(cmd *cobra.Command, c *client.Client, ask api.NewPlan, shot string) (run api.Run, err error) {
	ask.Shots = []string{shot}
	stop := a.working(cmd, "planning "+shot)
	plan, err := client.Decode[api.Plan](c.CreatePlan(cmd.Context(), &api.CreatePlanParams{IdempotencyKey: new(newKey())}, ask))
	stop()
	if err != nil {
		return run, err
	}
	if plan.Status != api.PlanStatusMeets {
		return run, fmt.Errorf("the plan %s is %s; rotanex plans show %s says why", plan.Id.String()[:8], plan.Status, plan.Id.String()[:8])
	}
	if rents := *ask.Rented; plan.OutsideCost != "" && !rents {
		return run, fmt.Errorf("it would hire licence seats for %s: say what it may cost with --may-cost", money(plan.Currency, plan.OutsideCost))
	}
	return client.Decode[api.Run](c.StartRun(cmd.Context(), &api.StartRunParams{IdempotencyKey: new(newKey())}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: plan.MaySpend}))
}
