package main

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"rotanex.example/agent"
	"rotanex.example/agent/desk"
)

// deskFlags adds the options of a machine that somebody works at. Any of them but --desk
// wants --desk.
func deskFlags(cmd *cobra.Command, c *agent.Config) {
	d := agent.Desk{}
	on := false
	f := cmd.Flags()
	f.BoolVar(&on, "desk", false, "somebody works at this machine: it is lent while nobody has touched it for a while, and theirs again at once")
	f.DurationVar(&d.Idle, "desk-idle", desk.DefaultIdle, "for how long nobody has touched it when it is lent")
	f.StringVar(&d.Command, "desk-idle-command", "", "command that prints for how many seconds nobody has touched it; default: the login manager is asked over D-Bus")
	f.StringVar((*string)(&d.Return), "desk-return", string(agent.GiveBack), "what becomes of frames in hand when somebody comes back: give-back (others render them), finish (behind whoever works), pause (until they leave, half an hour at most)")
	f.StringVar(&d.Owner, "desk-owner", "", "user who may lend it and take it back here; default: who runs the agent")
	f.BoolVar(&d.Beside, "desk-beside", false, "go on beside whoever works here, with what is not kept back, behind everything else")
	f.IntVar(&d.KeepCores, "desk-keep-cores", 0, "cores that are kept back beside whoever works here")
	f.StringSliceVar(&d.KeepDevices, "desk-keep-device", nil, "devices that are kept back beside whoever works here, such as g0; default: those with a display")
	before := cmd.PreRunE
	cmd.PreRunE = func(cmd *cobra.Command, args []string) error {
		if on {
			c.Desk = &d
		} else {
			for _, name := range []string{"desk-idle", "desk-idle-command", "desk-return", "desk-owner", "desk-beside", "desk-keep-cores", "desk-keep-device"} {
				if f.Changed(name) {
					return fmt.Errorf("--%s is for a machine that somebody works at: it wants --desk", name)
				}
			}
		}
		if before != nil {
			return before(cmd, args)
		}
		return nil
	}
}

// deskCommands are what a desk's owner says on the machine itself.
func deskCommands(state *string) []*cobra.Command {
	var until, output string
	command := func(use, short, long, example string, said desk.State) *cobra.Command {
		cmd := &cobra.Command{
			Use: use, Short: short, Long: long, Example: example, Args: cobra.NoArgs,
			RunE: func(cmd *cobra.Command, _ []string) error {
				if output != "text" && output != "json" {
					return fmt.Errorf("--output %q: want text or json", output)
				}
				at, err := parseUntil(until, time.Now())
				if err != nil {
					return err
				}
				var s desk.Status
				if said == "" {
					s, err = desk.Ask(cmd.Context(), *state)
				} else {
					s, err = desk.Tell(cmd.Context(), *state, said, at)
				}
				if err != nil {
					return err
				}
				return show(cmd.OutOrStdout(), s, output)
			},
		}
		cmd.Flags().StringVarP(&output, "output", "o", "text", "text or json")
		if said != "" {
			cmd.Flags().StringVar(&until, "until", "", "until then, such as 08:00 here, 90m or 2031-03-08T08:00:00Z")
		}
		return cmd
	}
	return []*cobra.Command{
		command("lend", "Lend this machine at once", `Lends this machine to whoever has to render, at once and also outside its hours. It is yours again
when you touch it, a minute after you lent it at the earliest, so that you can leave. Outside its hours
and without --until others count on it for an hour from now, again and again while it is lent.`, "  rotanex-agent lend\n  rotanex-agent lend --until 13:30", desk.Lent),
		command("take-back", "Take this machine back at once", `Takes this machine back: what it renders is given back, finished behind you or paused, as its agent was
started. It stays yours until you lend it, or until the time that you say.`, "  rotanex-agent take-back\n  rotanex-agent take-back --until 18:00", desk.TakenBack),
		command("status", "Say whether this machine is lent", "Says whether this machine is lent, since when and why.", "  rotanex-agent status\n  rotanex-agent status --output json", ""),
	}
}

// parseUntil reads a time of day here, which is the next one, a length of time from now, or
// a time; zero for "".
func parseUntil(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if clock, err := time.Parse("15:04", text); err == nil {
		at := time.Date(now.Year(), now.Month(), now.Day(), clock.Hour(), clock.Minute(), 0, 0, now.Location())
		if !at.After(now) {
			at = at.AddDate(0, 0, 1)
		}
		return at, nil
	}
	if length, err := time.ParseDuration(text); err == nil && length > 0 {
		return now.Add(length), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil || !at.After(now) {
		return at, fmt.Errorf("--until %q: want a time to come, such as 08:00, 90m or %s", text, now.Add(8*time.Hour).UTC().Truncate(time.Minute).Format(time.RFC3339))
	}
	return at, nil
}

// show prints how a desk stands, and what its owner may say next.
func show(w io.Writer, s desk.Status, output string) error {
	if output == "json" {
		return json.NewEncoder(w).Encode(s)
	}
	const at = "Mon 15:04"
	state := map[desk.State]string{desk.Lent: "lent", desk.InUse: "in use", desk.TakenBack: "taken back"}[s.State]
	until := ""
	if !s.Until.IsZero() {
		until = " until " + s.Until.Local().Format(at)
	}
	next := "Lend it at once: rotanex-agent lend"
	if s.State == desk.Lent {
		next = "Take it back at once: rotanex-agent take-back, or touch it."
	}
	_, err := fmt.Fprintf(w, "%s since %s%s: %s.\n%s\n", state, s.Since.Local().Format(at), until, s.Why, next)
	return err
}
