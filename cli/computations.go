package cli

import (
	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) computations() *cobra.Command {
	all := false
	list := &cobra.Command{
		Use: "list", Short: "List what the service is computing, for whom, and how far it is", Args: cobra.NoArgs,
		Example: "  rotanex computations list\n  rotanex computations list --all",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			found, err := a.listComputations(cmd, c, !all)
			if err != nil {
				return err
			}
			l := listing{columns: []string{"computation", "kind", "of", "for", "state", "how far", "asked", "ended"}, records: found, empty: "Nothing is being computed."}
			for _, x := range found {
				far := x.Problem
				if x.State == api.ComputationStateComputing {
					far = computingText(x)
				}
				l.add(x.Id.String()[:8], string(x.Kind), x.About, x.AskedBy, string(x.State), orNone(far), at(x.Created), at(x.Ended))
			}
			return a.show(cmd, l)
		}),
	}
	list.Flags().BoolVar(&all, "all", false, "what has ended within a day too")
	cancel := &cobra.Command{
		Use: "cancel COMPUTATION", Short: "End a computation; a viewer's token may end its own", Args: cobra.ExactArgs(1), Example: "  rotanex computations cancel 5e1f20aa",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findComputation(cmd, c, args[0])
			if err != nil {
				return err
			}
			if err := client.Check(c.CancelComputation(cmd.Context(), id)); err != nil {
				return err
			}
			return a.did(cmd, map[string]any{"computation": id, "state": "cancelled"}, "computation %s is cancelled", id)
		}),
	}
	return group("computations", "Plans, forecasts and the like that are being computed", list, cancel)
}

func (a *app) listComputations(cmd *cobra.Command, c *client.Client, open bool) ([]api.Computation, error) {
	return pages(func(cursor string) ([]api.Computation, string, error) {
		page, err := client.Decode[api.ComputationList](c.ListComputations(cmd.Context(), &api.ListComputationsParams{Cursor: some(cursor), Limit: new(500), Open: &open}))
		return page.Items, page.Next, err
	})
}

func (a *app) findComputation(cmd *cobra.Command, c *client.Client, text string) (uuid.UUID, error) {
	if id, err := uuid.Parse(text); err == nil {
		return id, nil
	}
	all, err := a.listComputations(cmd, c, false)
	if err != nil {
		return uuid.Nil, err
	}
	var ids []uuid.UUID
	for _, x := range all {
		ids = append(ids, x.Id)
	}
	return pick("computation", text, ids)
}
