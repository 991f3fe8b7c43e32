package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/forecast"
)

// runsSchedule are the commands by which a run is planned anew while it runs.
func (a *app) runsSchedule() []*cobra.Command {
	return []*cobra.Command{a.runsPolicy(), a.runsDeadline(), a.runsChanges(), a.runsDecide("accept", true), a.runsDecide("decline", false), a.runsUndo()}
}

// onRun is a command on the run that its first argument names; do is given the others.
func (a *app) onRun(do func(cmd *cobra.Command, c *client.Client, id uuid.UUID, args []string) error) func(*cobra.Command, []string) error {
	return a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
		id, err := a.findRun(cmd.Context(), c, args[0])
		if err != nil {
			return err
		}
		return do(cmd, c, id, args[1:])
	})
}

func (a *app) runsPolicy() *cobra.Command {
	return &cobra.Command{
		Use: "policy RUN auto|ask|off", Short: "Say how far a run is planned anew by itself", Args: cobra.ExactArgs(2),
		Long: `A run is looked at every few minutes, and as soon as something has changed that bears on
it. Where it is not sure enough any more to be in time, what is left is planned anew:
  auto  within what the run may cost; what takes more is proposed
  ask   proposed only: rotanex runs changes RUN shows it, rotanex runs accept RUN takes it
  off   not at all`,
		Example: "  rotanex runs policy latest ask\n  rotanex runs policy 3f2a off",
		RunE: a.onRun(func(cmd *cobra.Command, c *client.Client, id uuid.UUID, args []string) error {
			p := api.Policy(args[0])
			if !p.Valid() {
				return fmt.Errorf("policy %q: want auto, ask or off", args[0])
			}
			r, err := client.Decode[api.Run](c.SetRunPolicy(cmd.Context(), id, api.SetRunPolicyJSONRequestBody{Policy: p}))
			if err != nil {
				return err
			}
			return a.did(cmd, r, "Run %s: %s", id.String()[:8], policyText(p))
		}),
	}
}

func (a *app) runsDeadline() *cobra.Command {
	return &cobra.Command{
		Use: "deadline RUN TIME", Short: "Move the deadline of a run", Args: cobra.ExactArgs(2),
		Long: `Moves the deadline of all shots of the run, to an earlier or a later time. What is left is
looked at within a minute or so, and planned anew for it by the run's policy. TIME is as of
rotanex plan --by.`,
		Example: "  rotanex runs deadline latest +2h\n  rotanex runs deadline 3f2a 'tomorrow 9:00'",
		RunE: a.onRun(func(cmd *cobra.Command, c *client.Client, id uuid.UUID, args []string) error {
			session, err := client.Decode[api.Session](c.GetSession(cmd.Context()))
			if err != nil {
				return err
			}
			by, err := parseTime(args[0], session.Clock.Now)
			if err != nil {
				return err
			}
			r, err := client.Decode[api.Run](c.SetRunDeadline(cmd.Context(), id, api.SetRunDeadlineJSONRequestBody{Deadline: by}))
			if err != nil {
				return err
			}
			return a.did(cmd, r, "Run %s is due %s now; %s", id.String()[:8], moment(r.Deadline), policyText(r.Policy))
		}),
	}
}

// schedule lists what every crew still has to do.
func (a *app) schedule() *cobra.Command {
	return &cobra.Command{
		Use: "schedule", Short: "Show what every crew still has to do in all open runs, and when", Args: cobra.NoArgs,
		Long: `Shows what every crew still has to do in all open runs, and when, as things stand: by the
times that are expected of it, one piece after another. What is rendered now comes first.`,
		Example: "  rotanex schedule\n  rotanex schedule -o csv > schedule.csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			x, err := client.Decode[api.Schedule](c.GetSchedule(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"place", "crew", "run", "shot", "frames", "from", "until", "note"}, records: x.Bookings, empty: "No open run has work left."}
			for _, b := range x.Bookings {
				said := ""
				switch {
				case b.Rendering:
					said = "renders now"
				case b.Lost != "":
					said = "its machine " + b.Lost
				}
				l.add(b.Place, b.Crew, b.Run.String()[:8], b.Shot, strconv.Itoa(b.Frames), atMinute(b.Start), atMinute(b.End), said)
			}
			return a.show(cmd, l)
		}),
	}
}

func policyText(p api.Policy) string {
	switch p {
	case api.PolicyAsk:
		return "a new schedule is proposed, and nothing changed unless somebody accepts it."
	case api.PolicyOff:
		return "it is not planned anew unless somebody does."
	}
	return "it is planned anew by itself, within what it may cost."
}

func (a *app) runsChanges() *cobra.Command {
	return &cobra.Command{
		Use: "changes RUN", Short: "Show how a run was planned anew, and what is proposed", Args: cobra.ExactArgs(1), Example: "  rotanex runs changes latest",
		RunE: a.onRun(func(cmd *cobra.Command, c *client.Client, id uuid.UUID, _ []string) error {
			all, err := changesOf(cmd.Context(), c, id)
			if err != nil {
				return err
			}
			l := listing{
				columns: []string{"change", "at", "state", "gain", "why", "in time|chance_before,chance_after", "rest costs|cost_before,cost_after,cost_currency", "over the cap|more,more_currency", "moved", "frames", "by"},
				records: all, empty: "Run " + id.String()[:8] + " was not planned anew, and nothing is proposed.",
			}
			for _, x := range all {
				l.add(x.Id.String()[:8], at(x.At), string(x.State), x.Gain, cell{clip(x.Cause, 64), []string{x.Cause}},
					cell{forecast.Percent(x.ChanceBefore) + " → " + forecast.Percent(x.ChanceAfter), []string{number(x.ChanceBefore, 3), number(x.ChanceAfter, 3)}},
					cell{money(x.Currency, x.CostBefore) + " → " + x.CostAfter, []string{x.CostBefore, x.CostAfter, x.Currency}},
					amount(x.Currency, x.More), strconv.Itoa(x.Moved), strconv.Itoa(x.Frames), x.DecidedBy)
			}
			return a.show(cmd, l)
		}),
	}
}

func (a *app) runsDecide(verb string, accept bool) *cobra.Command {
	short := "Let a run go by what is proposed for it, and spend what that takes"
	if !accept {
		short = "Leave a run as it is, whatever is proposed for it"
	}
	return &cobra.Command{
		Use: verb + " RUN [CHANGE]", Short: short, Args: cobra.RangeArgs(1, 2),
		Long:    short + ".\nCHANGE is the change's id or the first letters of it; without it, the proposal that stands.",
		Example: "  rotanex runs " + verb + " latest\n  rotanex runs " + verb + " 3f2a 91c0",
		RunE: a.onRun(func(cmd *cobra.Command, c *client.Client, id uuid.UUID, args []string) error {
			all, err := changesOf(cmd.Context(), c, id)
			if err != nil {
				return err
			}
			which, err := proposal(all, id, args)
			if err != nil {
				return err
			}
			x, err := client.Decode[api.ScheduleChange](c.DecideScheduleChange(cmd.Context(), id, which, api.DecideScheduleChangeJSONRequestBody{Accept: accept}))
			if err != nil {
				return err
			}
			if !accept {
				return a.did(cmd, x, "Run %s stays as it is: %s was declined.", id.String()[:8], x.Gain)
			}
			return a.did(cmd, x, "Run %s goes by plan %s now: %s.", id.String()[:8], x.Plan.String()[:8], x.Gain)
		}),
	}
}

func (a *app) runsUndo() *cobra.Command {
	return &cobra.Command{
		Use: "undo RUN", Short: "Let a run go by the schedule again that it had before it was planned anew", Args: cobra.ExactArgs(1),
		Long: `Undoes the last change that was made of a run's schedule: what is left goes to the crews
that had it before, in the same proportions. It is not planned anew for an hour then, unless
something happens; rotanex runs policy RUN ask or off keeps it so.`,
		Example: "  rotanex runs undo latest",
		RunE: a.onRun(func(cmd *cobra.Command, c *client.Client, id uuid.UUID, _ []string) error {
			all, err := changesOf(cmd.Context(), c, id)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(x api.ScheduleChange) bool { return x.State == api.ChangeMade })
			if i < 0 {
				return fmt.Errorf("run %s was not planned anew: there is nothing to undo", id.String()[:8])
			}
			x, err := client.Decode[api.ScheduleChange](c.DecideScheduleChange(cmd.Context(), id, all[i].Id, api.DecideScheduleChangeJSONRequestBody{Accept: false}))
			if err != nil {
				return err
			}
			return a.did(cmd, x, "Run %s goes by the schedule again that it had before %s.", id.String()[:8], moment(x.At))
		}),
	}
}

func changesOf(ctx context.Context, c *client.Client, run uuid.UUID) ([]api.ScheduleChange, error) {
	list, err := client.Decode[struct{ Items []api.ScheduleChange }](c.ListScheduleChanges(ctx, run))
	return list.Items, err
}

// proposal is the change that a person names, or the one that waits for a person.
func proposal(all []api.ScheduleChange, run uuid.UUID, named []string) (uuid.UUID, error) {
	for _, x := range all {
		if len(named) == 0 && x.State == api.ChangeProposed || len(named) > 0 && strings.HasPrefix(x.Id.String(), named[0]) {
			return x.Id, nil
		}
	}
	if len(named) > 0 {
		return uuid.Nil, fmt.Errorf("run %s has no change %q; rotanex runs changes %s lists them", run.String()[:8], named[0], run.String()[:8])
	}
	return uuid.Nil, fmt.Errorf("nothing is proposed for run %s; rotanex runs changes %s lists how it was planned anew", run.String()[:8], run.String()[:8])
}

// outlookText says how sure a run is to be in time, and how far it is planned anew by itself.
func outlookText(r api.Run) string {
	o := r.Outlook
	if over(r) || o.At.IsZero() {
		return ""
	}
	said := "no frame waits any more"
	if o.Chance != nil {
		said = forecast.Percent(*o.Chance)
		if o.MayLet != "" {
			said += fmt.Sprintf(", with up to %s %s for servers on the way", r.Currency, o.MayLet)
		}
	}
	said += ", as of " + moment(o.At)
	switch r.Policy {
	case api.PolicyAsk:
		said += "; a new schedule is proposed where this is too little"
	case api.PolicyAuto:
		said += "; planned anew by itself"
	}
	return said
}
