package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) storage() *cobra.Command {
	c := &cobra.Command{
		Use: "storage", Short: "Say what is kept, for how long, and how much there is of it", Args: cobra.NoArgs,
		Long: `What grows is kept for a stated time and then deleted in small steps. What money and frames
rest on (runs, tries, charges, times, pictures of done frames) is kept.`,
		Example: "  rotanex storage\n  rotanex storage keep logs 30d",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []api.Kept }](c.ListStorage(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"kind", "kept for|days", "number|number", "on the disk|bytes", "deleted so far|pruned", "last deleted|pruned_at", "what"}, records: all.Items}
			for _, k := range all.Items {
				number, bytes := cell{none, []string{""}}, cell{none, []string{""}}
				if k.Rows != nil {
					number, bytes = cellOf(int(*k.Rows)), inBytes(*k.Bytes)
				}
				l.add(k.Name, cell{several(k.Days, "day"), []string{strconv.Itoa(k.Days)}}, number, bytes, int(k.Pruned), at(k.PrunedAt), k.What)
			}
			return a.show(cmd, l)
		}),
	}
	c.AddCommand(a.keep())
	return c
}

func (a *app) keep() *cobra.Command {
	return &cobra.Command{
		Use: "keep KIND DAYS", Short: "Keep a kind for so many days from now on; what is older is deleted within the hour", Args: cobra.ExactArgs(2), Example: "  rotanex storage keep logs 30d",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			days, err := strconv.Atoi(strings.TrimSuffix(args[1], "d"))
			if err != nil {
				return fmt.Errorf("%q: want a number of days, such as 30d", args[1])
			}
			k, err := client.Decode[api.Kept](c.Keep(cmd.Context(), args[0], api.KeepJSONRequestBody{Days: days}))
			if err != nil {
				return err
			}
			return a.did(cmd, k, "%s: kept for %s.", k.Name, several(k.Days, "day"))
		}),
	}
}
