package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// times is the group for times of frames, as data.
func (a *app) times() *cobra.Command {
	return group("times", "Times of frames, in and out: what the timing model rests on", a.importTimes(), a.exportTimes())
}

func (a *app) importTimes() *cobra.Command {
	return &cobra.Command{
		Use: "import FILE.csv", Short: "Take in times that were measured elsewhere", Args: cobra.ExactArgs(1),
		Long: `Columns shot, crew and seconds are needed; host, models, links, backend, frame,
warm_up, condition.NAME and setting.NAME may be there (docs/formats.md). What a row does
not say of the settings is taken to be as the shot has it. The whole file or nothing.`,
		Example: "  rotanex times import times.csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if _, err := readTimes(cmd, args[0]); err != nil {
				return err // the same words as the service's, before anything is sent
			}
			file, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer func() { _ = file.Close() }()
			stored, err := client.Decode[struct {
				Rows int `json:"rows"`
			}](c.ImportTimesWithBody(cmd.Context(), &api.ImportTimesParams{IdempotencyKey: new(newKey())}, "text/csv", file))
			if err != nil {
				return err
			}
			return a.did(cmd, stored, "Stored %s.", several(stored.Rows, "time"))
		}),
	}
}

func (a *app) exportTimes() *cobra.Command {
	return &cobra.Command{
		Use: "export [SHOT]", Short: "Print every timed frame as CSV", Args: cobra.MaximumNArgs(1),
		Example: "  rotanex times export > times.csv\n  rotanex times export stair-030 | rotanex timing -",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			params := api.ExportTimesParams{}
			if len(args) > 0 {
				params.Shot = &args[0]
			}
			answer, err := c.ExportTimes(cmd.Context(), &params)
			if err := client.Check(answer, err); err != nil {
				return err
			}
			defer func() { _ = answer.Body.Close() }()
			_, err = io.Copy(cmd.OutOrStdout(), answer.Body)
			return err
		}),
	}
}

func (a *app) sweep() *cobra.Command {
	budget := 30 * time.Minute
	goal, frames := float32(1.35), 3
	noWait := false
	c := &cobra.Command{
		Use: "sweep SHOT", Short: "Time the crews that tell most, within a time, until all are known well enough", Args: cobra.ExactArgs(1),
		Long: `Times single devices first, one of each model, then one crew large enough to show the
parts that do not shrink, then whatever is still predicted too widely: side by side on
free agents. Stops when the ends of every crew's 90 % interval are less than --goal
apart, or after --budget by the service's clock: trials that still run then are cut off,
and what was timed stays. Crews that cannot be timed in that are named before. Ctrl-C
ends the waiting, not the sweep.`,
		Example: "  rotanex trials sweep stair-030 --budget 40m\n  rotanex trials sweep coda-060 --goal 1.2 --no-wait",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := client.Decode[api.Sweep](c.CreateSweep(cmd.Context(), &api.CreateSweepParams{IdempotencyKey: new(newKey())},
				api.NewSweep{Shot: args[0], BudgetS: float32(budget.Seconds()), Goal: goal, Frames: frames}))
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				for _, b := range s.Beyond {
					fmt.Fprintf(cmd.ErrOrStderr(), "%s cannot be timed in %s: %s\n", b.Crew, seconds(budget.Seconds()), b.Why)
				}
			}
			if noWait {
				return a.did(cmd, s, "Sweep %s of %s begun; rotanex trials list %s shows its trials.", s.Id.String()[:8], s.Shot, s.Shot)
			}
			return a.awaitSweep(cmd, c, s.Id)
		}),
	}
	c.Flags().DurationVar(&budget, "budget", budget, "after which it is over, by the service's clock")
	c.Flags().Float32Var(&goal, "goal", goal, "how many times its low end the high end of an interval may be")
	c.Flags().IntVar(&frames, "frames", frames, "timed frames of each trial")
	c.Flags().BoolVar(&noWait, "no-wait", false, "begin the sweep and do not wait for it")
	return c
}

func (a *app) awaitSweep(cmd *cobra.Command, c *client.Client, id uuid.UUID) error {
	s, err := awaited(a, cmd, "timing frames", "the sweep goes on: rotanex trials list", func() (api.Sweep, bool, error) {
		s, err := client.Decode[api.Sweep](c.GetSweep(cmd.Context(), id))
		return s, s.State != api.SweepStateRunning, err
	})
	if err != nil {
		return err
	}
	return a.showSweep(cmd, s)
}

func (a *app) showSweep(cmd *cobra.Command, s api.Sweep) error {
	l := listing{columns: []string{"crew", "models", "state", "timed", "median|median_s", "why it was timed"}, records: s, empty: "It timed nothing: every crew was known well enough, or none can render the shot (rotanex preflight " + s.Shot + ")."}
	for _, t := range s.Trials {
		l.add(t.Host+"/"+t.Crew, strings.Join(t.Models, " + "), trialState(t), fmt.Sprint(t.Summary.Frames), inSeconds(t.Summary.MedianS), t.Why)
	}
	if err := a.show(cmd, l); err != nil {
		return err
	}
	if a.config.GetString("output") == "table" {
		fmt.Fprintf(cmd.OutOrStdout(), "\nThe sweep is over: %s. Compare the crews: rotanex compare %s\n", s.Why, s.Shot)
	}
	return nil
}
