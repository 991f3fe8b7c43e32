package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
)

func (a *app) curve() *cobra.Command {
	var alone, to string
	c := &cobra.Command{
		Use: "curve PLAN", Short: "What an earlier finish costs: the trade-off curve", Args: cobra.ExactArgs(1),
		Long: `Finds the cheapest plan for each of several finish times, between the fastest and
the cheapest, for what PLAN is for. Every point is a plan of its own, which can be
looked at and started.`,
		Example: "  rotanex curve latest\n  rotanex curve latest --alone bellows\n  rotanex curve latest --to curve.svg",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			stop := a.working(cmd, "planning for each finish time")
			curve, err := client.Decode[api.Curve](c.DrawCurve(cmd.Context(), id, &api.DrawCurveParams{Alone: some(alone)}))
			stop()
			if err != nil {
				return err
			}
			if to != "" {
				of := api.ExportPlanParamsOfCurve
				return a.export(cmd, c, api.ExportPlanParams{Of: &of}, id, to)
			}
			l := listing{columns: []string{"finish", "cost|cost,cost_currency", "", "plan"}, records: curve}
			for _, p := range curve.Points {
				l.add(at(p.Finish), amount(curve.Currency, p.Cost), string(p.Mark), p.Plan.String()[:8])
			}
			if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
				return err
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "\nBalanced is %s.\n", curve.Rule)
			if curve.Alone.Host != "" {
				saved := none
				cheapest := slices.IndexFunc(curve.Points, func(p api.CurvePoint) bool { return p.Mark == api.CurvePointMarkCheapest })
				if cheapest >= 0 {
					whole, err := pricing.ParseMoney(curve.Alone.Cost)
					if err != nil {
						return err
					}
					part, err := pricing.ParseMoney(curve.Points[cheapest].Cost)
					if err != nil {
						return err
					}
					d, word := whole.Minus(part), "less"
					if d.Cmp(pricing.Money{}) < 0 {
						d, word = part.Minus(whole), "more"
					}
					earlier := curve.Alone.Finish.Sub(curve.Points[cheapest].Finish)
					saved = fmt.Sprintf("the cheapest costs %s %s and is done %s sooner", money(curve.Currency, d.String()), word, seconds(earlier.Seconds()))
				}
				fmt.Fprintf(out, "All on %s alone: %s, finish %s; %s.\n", curve.Alone.Host, money(curve.Currency, curve.Alone.Cost), moment(curve.Alone.Finish), saved)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&alone, "alone", "", "an owned host, to tell what is saved against doing it all there")
	c.Flags().StringVar(&to, "to", "", "draw it to this file, .svg or .png")
	return c
}

func (a *app) exportPlan() *cobra.Command {
	var to, host string
	c := &cobra.Command{
		Use: "export PLAN --to FILE", Short: "Write a plan as a picture, table or calendar", Args: cobra.ExactArgs(1),
		Long: `Writes a plan to a file, whose ending says what: .svg or .png a picture of who
renders what, when; .csv its bookings; .ics a calendar of when each owned host is
wanted; .json the plan file (docs/formats.md).`,
		Example: "  rotanex plans export latest --to plan.svg\n  rotanex plans export latest --to desk-ada.ics --host desk-ada",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			return a.export(cmd, c, api.ExportPlanParams{Host: some(host)}, id, to)
		}),
	}
	c.Flags().StringVar(&to, "to", "", "the file: .svg, .png, .csv, .ics or .json")
	c.Flags().StringVar(&host, "host", "", "only this host's calendar")
	_ = c.MarkFlagRequired("to")
	return c
}

// export fetches a plan in the form that the file's ending asks for.
func (a *app) export(cmd *cobra.Command, c *client.Client, params api.ExportPlanParams, id uuid.UUID, to string) error {
	params.Format = api.ExportPlanParamsFormat(strings.TrimPrefix(filepath.Ext(to), "."))
	if !params.Format.Valid() {
		return fmt.Errorf("--to %q: want a file that ends in .svg, .png, .csv, .ics or .json", to)
	}
	answer, err := c.ExportPlan(cmd.Context(), id, &params)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	if answer.StatusCode >= 300 {
		_, err := client.Decode[api.Plan](answer, nil)
		return err
	}
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	if err := writeWhole(to, data); err != nil {
		return err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "Wrote %s.\n", to)
	return nil
}
