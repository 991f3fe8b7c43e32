package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// removal is a command that deletes something by name, after asking.
func (a *app) removal(kind, stays string, do func(ctx context.Context, c *client.Client, name string) (*http.Response, error)) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "delete " + strings.ToUpper(kind), Short: "Delete a " + kind + " that nothing rests on; " + stays, Args: cobra.ExactArgs(1), Example: fmt.Sprintf("  rotanex %ss delete %s", kind, map[string]string{"run": "84996235", "shot": "coda-060", "host": "punt", "source": "tern"}[kind]),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			name := args[0]
			if kind == "run" {
				id, err := a.findRun(cmd.Context(), c, name)
				if err != nil {
					return err
				}
				name = id.String()
			}
			if !yes {
				if err := a.sure(cmd, fmt.Sprintf("Delete %s %s? %s.", kind, args[0], strings.ToUpper(stays[:1])+stays[1:]), "delete it", "nothing was deleted"); err != nil {
					return err
				}
			}
			if _, err := client.Decode[struct{}](do(cmd.Context(), c, name)); err != nil {
				return err
			}
			return a.did(cmd, map[string]string{kind: name, "state": "deleted"}, "%s is deleted.", args[0])
		}),
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "delete it without asking")
	return cmd
}

// sure asks whether something is to be done; an error says what was not.
func (a *app) sure(cmd *cobra.Command, question, does, undone string) error {
	fmt.Fprint(cmd.ErrOrStderr(), question, " [y/N] ")
	line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if answer := strings.ToLower(strings.TrimSpace(line)); answer == "y" || answer == "yes" {
		return nil
	}
	fmt.Fprintln(cmd.ErrOrStderr())
	if err != nil && line == "" {
		return fmt.Errorf("nobody answered: pass --yes to %s without being asked; %s", does, undone)
	}
	return errors.New(undone)
}

func (a *app) runsDelete() *cobra.Command {
	return a.removal("run", "what it cost stays with its sources", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
		return c.DeleteRun(ctx, uuid.MustParse(name)) // it was found
	})
}

func (a *app) shotsDelete() *cobra.Command {
	return a.removal("shot", "its times and the runs that it was in stay", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
		return c.DeleteShot(ctx, name)
	})
}

func (a *app) hostsDelete() *cobra.Command {
	return a.removal("host", "its agent's credential is worthless then", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
		return c.DeleteHost(ctx, name)
	})
}

func (a *app) sourcesDelete() *cobra.Command {
	return a.removal("source", "what was charged there stays", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
		return c.DeleteSource(ctx, name)
	})
}

func (a *app) runsArchive() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{
		Use: "archive RUN", Short: "Take a run that is over out of lists", Args: cobra.ExactArgs(1), Example: "  rotanex runs archive latest\n  rotanex runs archive 84996235-6676-505f-bf54-fbb33990d8cc --undo",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if _, err := client.Decode[struct{}](c.ArchiveRun(cmd.Context(), id, api.ArchiveRunJSONRequestBody{Archived: !undo})); err != nil {
				return err
			}
			if undo {
				return a.did(cmd, map[string]any{"run": id, "archived": false}, "Run %s is in lists again.", id.String()[:8])
			}
			return a.did(cmd, map[string]any{"run": id, "archived": true}, "Run %s is archived: rotanex runs list --archived shows it.", id.String()[:8])
		}),
	}
	cmd.Flags().BoolVar(&undo, "undo", false, "put it back")
	return cmd
}
