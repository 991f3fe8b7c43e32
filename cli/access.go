package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) tokens() *cobra.Command {
	var role string
	var days int
	create := &cobra.Command{
		Use: "create NAME --role ROLE", Short: "Make a token; it is shown once", Args: cobra.ExactArgs(1), Example: "  rotanex tokens create \"night monitor\" --role viewer --days 30",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return a.makeToken(cmd, c, api.NewToken{Name: args[0], Role: api.Role(role), Days: days})
		}),
	}
	create.Flags().StringVar(&role, "role", "viewer", "viewer, operator or admin")
	create.Flags().IntVar(&days, "days", 0, "until it expires; 0 is never")
	join := &cobra.Command{
		Use: "join HOST", Short: "Make a one-time token with which the agent of a host joins", Args: cobra.ExactArgs(1), Example: "  rotanex tokens join bellows",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return a.makeToken(cmd, c, api.NewToken{Name: "join " + args[0], Role: "agent", Host: args[0]})
		}),
	}
	list := &cobra.Command{
		Use: "list", Short: "List tokens, without their secrets", Args: cobra.NoArgs, Example: "  rotanex tokens list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Token, string, error) {
				page, err := client.Decode[api.TokenList](c.ListTokens(cmd.Context(), &api.ListTokensParams{Cursor: some(cursor), Limit: new(500)}))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{columns: []string{"id", "name", "role", "host", "created", "used", "expires"}, records: all, empty: "No token."}
			for _, t := range all {
				l.add(strconv.FormatInt(t.Id, 10), t.Name, string(t.Role), orNone(t.Host), at(t.Created), at(t.Used), at(t.Expires))
			}
			return a.show(cmd, l)
		}),
	}
	revoke := &cobra.Command{
		Use: "revoke ID", Short: "Make a token worthless", Args: cobra.ExactArgs(1), Example: "  rotanex tokens revoke 7",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := tokenID(args[0])
			if err != nil {
				return err
			}
			return client.Check(c.RevokeToken(cmd.Context(), id))
		}),
	}
	rotate := &cobra.Command{
		Use: "rotate ID", Short: "Give a token another secret; it is shown once, and the one before is worthless", Args: cobra.ExactArgs(1), Example: "  rotanex tokens rotate 7",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := tokenID(args[0])
			if err != nil {
				return err
			}
			made, err := client.Decode[api.MadeToken](c.RotateToken(cmd.Context(), id))
			if err != nil {
				return err
			}
			return a.did(cmd, made, "%s", made.Secret)
		}),
	}
	return group("tokens", "Who may do what", create, join, list, revoke, rotate)
}

func tokenID(word string) (int64, error) {
	id, err := strconv.ParseInt(word, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("token id %q: want a number from rotanex tokens list", word)
	}
	return id, nil
}

func (a *app) makeToken(cmd *cobra.Command, c *client.Client, t api.NewToken) error {
	made, err := client.Decode[api.MadeToken](c.CreateToken(cmd.Context(), t))
	if err != nil {
		return err
	}
	return a.did(cmd, made, "%s", made.Secret)
}

func (a *app) whoami() *cobra.Command {
	return &cobra.Command{
		Use: "whoami", Short: "Say whose token this is, and how the service is set", Args: cobra.NoArgs, Example: "  rotanex whoami",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			s, err := client.Decode[api.Session](c.GetSession(cmd.Context()))
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "json" {
				return printJSON(cmd.OutOrStdout(), s)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s, %s; service %s, %s by its clock", s.Name, s.Role, s.Version, moment(s.Clock.Now))
			if s.Clock.Factor != 1 {
				fmt.Fprintf(cmd.OutOrStdout(), ", which runs %g times as fast as life", s.Clock.Factor)
			}
			fmt.Fprintln(cmd.OutOrStdout())
			if s.Trouble != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "No frame is taken in: %s\n", s.Trouble)
			}
			return nil
		}),
	}
}
