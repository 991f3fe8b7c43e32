package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
)

func (a *app) start() *cobra.Command {
	tries := 3
	var spend, policy string
	var yes, accept bool
	c := &cobra.Command{
		Use: "start PLAN", Short: "Carry a plan out; PLAN is its id, the first letters of it, or latest", Args: cobra.ExactArgs(1),
		Long: `Carries a plan out. Where the plan rents servers, hires seats or uses farms it first
says what that costs and asks; --yes answers for scripts, --spend says more than the
plan needs, to leave room for a server that has to be replaced. Nothing exceeds it.`,
		Example: "  rotanex start latest\n  rotanex start latest --spend 40 --yes\n  rotanex start latest --policy ask",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if policy != "" && !api.Policy(policy).Valid() {
				return fmt.Errorf("--policy %q: want auto, ask or off", policy)
			}
			id, err := a.findPlan(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			p, err := client.Decode[api.Plan](c.GetPlan(cmd.Context(), id))
			if err != nil {
				return err
			}
			most, err := a.mayspend(cmd, p, spend, yes)
			if err != nil {
				return err
			}
			r, err := client.Decode[api.Run](c.StartRun(cmd.Context(), &api.StartRunParams{IdempotencyKey: new(newKey())}, api.StartRunJSONRequestBody{Plan: id, Tries: tries, Spend: most, AcceptProofs: accept, Policy: api.Policy(policy)}))
			if err != nil {
				return err
			}
			return a.did(cmd, r, "Run %s: %s, planned to finish %s; plan: %s\nWatch it: rotanex watch %s", r.Id, several(r.Counts.Waiting+r.Counts.Rendering, "frame"), moment(r.PlannedFinish), statusText(p), r.Id.String()[:8])
		}),
	}
	c.Flags().IntVar(&tries, "tries", tries, "how often a frame may fail before it is given up")
	c.Flags().StringVar(&spend, "spend", "", "what servers, seats and farms may cost at most; default what the plan says, and its contingency")
	c.Flags().BoolVarP(&yes, "yes", "y", false, "spend it without asking")
	c.Flags().StringVar(&policy, "policy", "", "how far it is planned anew by itself: auto (within what it may cost), ask or off; default what the service says")
	c.Flags().BoolVar(&accept, "accept-proofs", false, "accept farms' proof frames that are whole, of the right size, not blank, and look as those rendered elsewhere")
	return c
}

// mayspend says what the run may spend outside, after asking where nobody has said so.
func (a *app) mayspend(cmd *cobra.Command, p api.Plan, spend string, yes bool) (string, error) {
	if p.MaySpend == "" {
		return spend, nil
	}
	return a.askToSpend(cmd, p, cmp.Or(spend, p.MaySpend), yes)
}

// mayspendMore says what a run may spend outside that changes over to another plan:
// nothing new where its cap has room for it.
func (a *app) mayspendMore(cmd *cobra.Command, c *client.Client, run, plan uuid.UUID, spend string, yes bool) (string, error) {
	p, err := client.Decode[api.Plan](c.GetPlan(cmd.Context(), plan))
	if err != nil || p.OutsideCost == "" {
		return spend, err
	}
	r, err := client.Decode[api.Run](c.GetRun(cmd.Context(), run))
	if err != nil {
		return "", err
	}
	var sum pricing.Money
	for _, text := range []string{r.OutsideCost, p.OutsideCost} {
		m, err := pricing.ParseMoney(cmp.Or(text, "0"))
		if err != nil {
			return "", err
		}
		sum = sum.Plus(m)
	}
	if limit, err := pricing.ParseMoney(r.Cap); err == nil && spend == "" && sum.Cmp(limit) <= 0 {
		return "", nil
	}
	return a.askToSpend(cmd, p, cmp.Or(spend, sum.String()), yes)
}

// askToSpend asks whether a plan's money may be spent, where that is not said already.
func (a *app) askToSpend(cmd *cobra.Command, p api.Plan, most string, yes bool) (string, error) {
	if yes {
		return most, nil
	}
	question := fmt.Sprintf("The plan spends %s on servers, farms and seats; at most %s may be spent. Go on?", money(p.Currency, cmp.Or(p.OutsideCost, "0.00")), money(p.Currency, most))
	return most, a.sure(cmd, question, "spend it", "nothing was started")
}

func (a *app) setState(use, state string) *cobra.Command {
	does := map[string]string{
		"pause":  "Let a run finish what it renders and take nothing new",
		"resume": "Let a paused run go on, or try an incomplete one's failed frames again",
		"cancel": "End a run; what is being rendered for it is given up",
	}[use]
	return &cobra.Command{
		Use: use + " RUN", Short: does, Args: cobra.ExactArgs(1), Example: "  rotanex " + use + " latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			r, err := client.Decode[api.Run](c.SetRunState(cmd.Context(), id, api.SetRunStateJSONRequestBody{State: api.SetRunStateJSONBodyState(state)}))
			if err != nil {
				return err
			}
			return a.did(cmd, r, "Run %s is %s: %s done, %d left.", r.Id.String()[:8], r.State, several(r.Counts.Done, "frame"), r.Counts.Waiting+r.Counts.Rendering)
		}),
	}
}

func (a *app) runs() *cobra.Command {
	show := &cobra.Command{
		Use: "show RUN", Short: "Show how a run stands: frames, crews, money, and what waits for a person", Args: cobra.ExactArgs(1), Example: "  rotanex runs show latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			r, err := client.Decode[api.Run](c.GetRun(cmd.Context(), id))
			if err != nil || a.config.GetString("output") != "table" {
				return errors.Join(err, a.show(cmd, runCrews(r)))
			}
			frames, err := client.Decode[api.FrameMap](c.GetFrameMap(cmd.Context(), id))
			if err == nil {
				drawRun(cmd.OutOrStdout(), r, frames, 100, 200)
			}
			return err
		}),
	}
	return group("runs", "Look at runs, say which comes first and how far they are planned anew", append([]*cobra.Command{show, a.runsList(), a.runsPriority(), a.runsArchive(), a.runsDelete()}, a.runsSchedule()...)...)
}

func (a *app) runsList() *cobra.Command {
	var archived bool
	cmd := &cobra.Command{
		Use: "list", Short: "List runs, newest first", Args: cobra.NoArgs, Example: "  rotanex runs list\n  rotanex runs list --archived",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Run, string, error) {
				page, err := client.Decode[api.RunList](c.ListRuns(cmd.Context(), &api.ListRunsParams{Cursor: some(cursor), Limit: new(500), Archived: archived}))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{columns: []string{"run", "shots", "state", "priority", "done", "failed", "left", "cost so far|cost_so_far,cost_so_far_currency", "planned|planned,planned_currency", "began", "planned finish", "ended"}, records: all, empty: "No run yet. Carry a plan out: rotanex start PLAN"}
			for _, r := range all {
				l.add(r.Id.String()[:8], shotsOf(r), string(r.State), string(r.Priority), strconv.Itoa(r.Counts.Done), strconv.Itoa(r.Counts.Failed), strconv.Itoa(r.Counts.Waiting+r.Counts.Rendering), amount(r.Currency, r.CostSoFar), amount(r.Currency, r.PlannedCost), at(r.Created), at(r.PlannedFinish), at(r.Ended))
			}
			return a.show(cmd, l)
		}),
	}
	cmd.Flags().BoolVar(&archived, "archived", false, "those that were archived as well")
	return cmd
}

// shotsOf are the names of a run's shots.
func shotsOf(r api.Run) string {
	names := make([]string, len(r.Shots))
	for i, s := range r.Shots {
		names[i] = s.Shot
	}
	return strings.Join(names, ", ")
}

func (a *app) runsPriority() *cobra.Command {
	var now bool
	cmd := &cobra.Command{
		Use: "priority RUN urgent|normal|low|backlog", Short: "Let a run come before others on its hosts, or after them", Args: cobra.ExactArgs(2),
		Long: `The crews of a more urgent run choose first, from their next frame on: frames that are
being rendered are finished, unless --now is given: then those of less urgent runs that its
crews need the devices of are given back, and wait again. New plans take the hosts of runs that are less urgent than they
are; rotanex plan --priority says so of a plan.`,
		Example: "  rotanex runs priority latest urgent --now\n  rotanex runs priority 3f2a low",
		RunE: a.onRun(func(cmd *cobra.Command, c *client.Client, id uuid.UUID, args []string) error {
			p := api.Priority(args[0])
			if !p.Valid() {
				return fmt.Errorf("priority %q: want urgent, normal, low or backlog", args[0])
			}
			r, err := client.Decode[api.Run](c.SetRunPriority(cmd.Context(), id, api.SetRunPriorityJSONRequestBody{Priority: p, Now: now}))
			if err != nil {
				return err
			}
			first := "frames that are being rendered are finished first"
			if now {
				first = "what less urgent runs rendered in its way waits again"
			}
			return a.did(cmd, r, "Run %s is %s now: %s.", id.String()[:8], p, first)
		}),
	}
	cmd.Flags().BoolVar(&now, "now", false, "give back what less urgent runs render on its devices; what was rendered of those frames is lost")
	return cmd
}

// runCrews lists what each crew of a run does; as JSON it is the whole run.
func runCrews(r api.Run) listing {
	l := listing{columns: []string{"crew", "source", "booked", "done", "a frame|a_frame_s", "state", "shot", "frame|frame,more_in_start"}, records: r, empty: "The run has no crew."}
	for _, x := range r.Crews {
		l.add(x.Host+"/"+x.Crew, x.Source, strconv.Itoa(x.Booked), strconv.Itoa(x.Done), inSeconds(x.MeanS), string(x.State), x.Shot, cell{frameInStart(x), []string{strconv.Itoa(x.Frame), strconv.Itoa(x.MoreInStart)}})
	}
	return l
}

// frameInStart is the frame that a crew renders, and how many more its renderer was started for.
func frameInStart(c api.RunCrew) string {
	if c.MoreInStart == 0 {
		return strconv.Itoa(c.Frame)
	}
	return fmt.Sprintf("%d, then %d", c.Frame, c.MoreInStart)
}

func (a *app) frames() *cobra.Command {
	var shot, state string
	var limit int
	list := &cobra.Command{
		Use: "list RUN", Short: "List a run's frames", Args: cobra.ExactArgs(1), Example: "  rotanex frames list latest --state failed\n  rotanex frames list latest --limit 0 --output csv > frames.csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			l := listing{columns: []string{"shot", "frame", "state", "crew", "time|time_s", "failed tries", "last cause", "size|size_bytes"}, empty: "No such frame."}
			row := func(l *listing, f api.Frame) {
				place := none
				if f.Host != "" {
					place = f.Host + "/" + f.Crew
				}
				state := cellOf(string(f.State))
				if !f.Begins.IsZero() {
					state.text += ", from " + moment(f.Begins)
				}
				l.add(f.Shot, strconv.Itoa(f.Frame), state, place, inSeconds(f.Seconds), strconv.Itoa(f.Failures), orNone(f.Cause), inBytes(f.Bytes))
			}
			if !cmd.Flags().Changed("limit") && a.config.GetString("output") != "table" {
				limit = 0 // a program reads it
			}
			return stream(a, cmd, l, limit, row, func(cursor string, most int) ([]api.Frame, string, error) {
				page, err := client.Decode[api.FrameList](c.ListFrames(cmd.Context(), id, &api.ListFramesParams{Shot: some(shot), State: some(api.FrameState(state)), Cursor: some(cursor), Limit: new(most)}))
				return page.Items, page.Next, err
			})
		}),
	}
	list.Flags().IntVar(&limit, "limit", tableOf, "list at most so many, 0 for all; of CSV and JSON all unless this is given")
	list.Flags().StringVar(&shot, "shot", "", "only of this shot")
	list.Flags().StringVar(&state, "state", "", "only in this state: waiting, rendering, done or failed")
	show := &cobra.Command{
		Use: "show RUN SHOT FRAME", Short: "Show every try of a frame, with the renderer's last words", Args: cobra.ExactArgs(3), Example: "  rotanex frames show latest orrery-020 57",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(args[2])
			if err != nil {
				return fmt.Errorf("frame %q: want a number", args[2])
			}
			d, err := client.Decode[api.FrameDetail](c.GetFrame(cmd.Context(), id, args[1], n))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"try", "crew", "outcome", "cause", "time|time_s", "peak memory|peak_memory_bytes", "began", "ended"}, records: d, empty: "It has not been tried yet."}
			for _, t := range d.Tries {
				l.add(strconv.FormatInt(t.Fence, 10), t.Host+"/"+t.Crew, string(t.Outcome), orNone(t.Cause), inSeconds(t.Measured.Seconds), inBytes(t.Measured.PeakMemoryBytes), at(t.Started), at(t.Ended))
			}
			if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
				return err
			}
			if f := d.Frame; f.NotFinite > 0 {
				fmt.Fprintf(cmd.OutOrStdout(), "\n%s of its pixels are no number or infinite.\n", several(f.NotFinite, "value"))
			}
			if f := d.Frame.Flicker; f.Kind != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "\nLook at it: %s, by %.1f %%.\n", causeInWords("flicker-"+string(f.Kind)), 100*f.Amount)
			}
			if layers := d.Frame.Layers; len(layers) > 1 {
				fmt.Fprintf(cmd.OutOrStdout(), "\nIts layers: %s.\n", strings.Join(inNames(layers), ", "))
			}
			if len(d.Frame.Files) > 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "\nBeside its picture:")
			}
			for _, x := range d.Frame.Files {
				fmt.Fprintf(cmd.OutOrStdout(), "  %-16s %s\n", x.Name+"."+x.Ending, bytesText(x.Bytes))
			}
			for _, t := range d.Tries {
				if t.LogTail != "" {
					fmt.Fprintf(cmd.OutOrStdout(), "\ntry %d on %s/%s said at last:\n  %s\n", t.Fence, t.Host, t.Crew, strings.ReplaceAll(t.LogTail, "\n", "\n  "))
				}
			}
			return nil
		}),
	}
	return group("frames", "Look at a run's frames", list, show, a.frameLog(), a.frameWhy())
}

// inNames names layers, of which the main one has none.
func inNames(layers []string) []string {
	out := make([]string, len(layers))
	for i, l := range layers {
		out[i] = cmp.Or(l, "main")
	}
	return out
}

func (a *app) ledger() *cobra.Command {
	return &cobra.Command{
		Use: "ledger RUN", Short: "Time and money of a run, planned and real", Args: cobra.ExactArgs(1), Example: "  rotanex ledger latest --output csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			led, err := client.Decode[api.Ledger](c.GetLedger(cmd.Context(), id))
			if err != nil {
				return err
			}
			cur := " " + led.Currency
			l := listing{columns: []string{"where", "crew", "booked", "done", "failed", "planned time|planned_time_s", "busy time|busy_time_s", "of it opening|opening_time_s", "paid time|paid_time_s", "planned" + cur + "|planned_cost,planned_currency", "real" + cur + "|cost,currency", "a frame" + cur + "|frame_cost,frame_currency"}, records: led, empty: "Nothing was used yet."}
			for _, r := range led.Rows {
				l.add(r.Place, r.Crew, strconv.Itoa(r.FramesPlanned), strconv.Itoa(r.FramesDone), strconv.Itoa(r.Failed), inSeconds(r.PlannedS), inSeconds(r.BusyS), inSeconds(r.OpeningS), inSeconds(r.PaidS), bare(led.Currency, r.PlannedCost), bare(led.Currency, r.Cost), bare(led.Currency, r.FrameCost))
			}
			if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
				return err
			}
			bound := ""
			if least, err := pricing.ParseMoney(led.CostBound); err == nil && !least.IsZero() { // a late plan has none
				bound = ", and no plan costs less than " + money(led.Currency, led.CostBound)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "\n%s for %s; planned %s%s.\n", several(led.FramesDone, "frame"), money(led.Currency, led.Cost), money(led.Currency, led.PlannedCost), bound)
			if led.FrameCost != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "A frame cost %s.\n", money(led.Currency, led.FrameCost))
			}
			return nil
		}),
	}
}
