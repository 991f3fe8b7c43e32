package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"time"

	openapi "github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
)

func (a *app) entries() *cobra.Command {
	var source, shot, host, day string
	c := &cobra.Command{
		Use: "entries [RUN]", Short: "The ledger by entry: what, where, estimated, charged, and why they differ", Args: cobra.MaximumNArgs(1),
		Example: "  rotanex entries latest\n  rotanex entries --source tern --day 2031-03-07 --output csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			params := api.ListEntriesParams{Source: some(source), Shot: some(shot), Host: some(host)}
			if len(args) > 0 {
				id, err := a.findRun(cmd.Context(), c, args[0])
				if err != nil {
					return err
				}
				params.Run = &id
			}
			if day != "" {
				at, err := time.Parse(time.DateOnly, day)
				if err != nil {
					return fmt.Errorf("--day %q: want one such as 2031-03-07", day)
				}
				params.Day = &openapi.Date{Time: at}
			}
			out, err := allEntries(cmd, c, params)
			if err != nil {
				return err
			}
			cur := " " + out.Currency
			l := listing{columns: []string{"day", "where", "shot", "for", "frames", "time|time_s", "of it opening|opening_time_s", "estimated" + cur + "|estimated,estimated_currency", "charged" + cur + "|charged,charged_currency", "meter", "why they differ"}, records: out, empty: "Nothing was used yet."}
			for _, e := range out.Items {
				where := e.Place
				if e.Crew != "" {
					where += "/" + e.Crew
				}
				l.add(e.Day.String(), where, orNone(e.Shot), string(e.Kind), strconv.Itoa(e.Frames), inSeconds(e.Seconds), inSeconds(e.OpeningS), bare(out.Currency, e.Estimated), bare(out.Currency, e.Charged), orNone(e.Metered), e.Why)
			}
			if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" || len(out.Items) == 0 {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "\n%s for %s, estimated %s.", several(out.Frames, "frame"), money(out.Currency, out.Charged), money(out.Currency, out.Estimated))
			if out.FrameCost != "" {
				fmt.Fprintf(cmd.OutOrStdout(), " A usable frame cost %s.", money(out.Currency, out.FrameCost))
			}
			fmt.Fprintf(cmd.OutOrStdout(), "\nFailed tries cost %s, paid time in which nothing was rendered %s.\n", money(out.Currency, out.FailedCost), money(out.Currency, out.UnusedCost))
			if out.BudgetLeft != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "%s of what may be spent outside is left.\n", money(out.Currency, out.BudgetLeft))
			}
			return nil
		}),
	}
	c.Flags().StringVar(&source, "source", "", "only of this source")
	c.Flags().StringVar(&shot, "shot", "", "only of this shot")
	c.Flags().StringVar(&host, "host", "", "only of this host, server or farm")
	c.Flags().StringVar(&day, "day", "", "only of this day, such as 2031-03-07, in UTC")
	return c
}

// allEntries gathers the pages of entries, and adds up what they add up to.
func allEntries(cmd *cobra.Command, c *client.Client, params api.ListEntriesParams) (all api.EntryList, err error) {
	read := 0
	all.Items, err = pages(func(cursor string) ([]api.Entry, string, error) {
		params.Cursor = some(cursor)
		page, err := client.Decode[api.EntryList](c.ListEntries(cmd.Context(), &params))
		if err == nil {
			read++
			page.Frames += all.Frames
			for _, sum := range []struct{ so, now *string }{{&all.Estimated, &page.Estimated}, {&all.Charged, &page.Charged}, {&all.FailedCost, &page.FailedCost}, {&all.UnusedCost, &page.UnusedCost}} {
				*sum.now = plus(*sum.so, *sum.now)
			}
			all = page
		}
		return page.Items, page.Next, err
	})
	all.Next = ""
	if charged, bad := pricing.ParseMoney(all.Charged); read > 1 && bad == nil && all.Frames > 0 {
		all.FrameCost = charged.EachOf(all.Frames)
	}
	return all, err
}

// plus adds two amounts; none is nothing.
func plus(a, b string) string {
	x, _ := pricing.ParseMoney(cmp.Or(a, "0"))
	y, _ := pricing.ParseMoney(cmp.Or(b, "0"))
	return x.Plus(y).String()
}
