package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) waiting() *cobra.Command {
	return &cobra.Command{
		Use: "waiting", Short: "Say what waits for a person in all open runs, and what to type", Args: cobra.NoArgs,
		Example: "  rotanex waiting\n  rotanex waiting -o json",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []api.Waiting }](c.ListWaiting(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"run", "what", "shot", "what to type"}, records: all.Items, empty: "Nothing waits for a person."}
			for _, x := range all.Items {
				l.add(x.Run.String()[:8], string(x.What), orNone(x.Shot), nextStep(x))
			}
			return a.show(cmd, l)
		}),
	}
}

// nextStep says what to type for what waits for a person, and what that does.
func nextStep(x api.Waiting) string {
	run := x.Run.String()[:8]
	switch x.What {
	case api.WaitingProofs:
		return fmt.Sprintf("rotanex farms proofs %s --run %s --to FOLDER  looks at the proof frames of %s at %s", x.Job.String()[:8], run, x.Shot, x.Farm)
	case api.WaitingProposal:
		return fmt.Sprintf("rotanex runs accept %s  takes the schedule that is proposed; runs changes shows it", run)
	default:
		return fmt.Sprintf("rotanex replan %s --apply  for nobody is left to render %d frames of %s: %s", run, x.Frames, x.Shot, x.Why)
	}
}
