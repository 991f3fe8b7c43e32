package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) preflight() *cobra.Command {
	var on string
	c := &cobra.Command{
		Use: "preflight SHOT [--on WHERE]", Short: "Say what would stop a shot on each crew, before anything is spent", Args: cobra.ExactArgs(1),
		Long: `For every crew, blockers, what nobody has looked at yet, and warnings: the source,
renderer and plugins, backend, memory, input files or the shot's package, features that
a device mode lacks, licence, output folder, deadline. Every line says how to fix it.
Plans go by the same verdicts: nothing is spent on what is blocked or not known. Exit
status: 5 where no crew can be given the shot.`,
		Example: "  rotanex preflight storm-050\n  rotanex preflight lamp-040 --on eddy\n  rotanex preflight coda-060 --on tern --output json",
		RunE: a.with(a.eachPass(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := client.Decode[api.Preflight](c.CheckShot(cmd.Context(), args[0], &api.CheckShotParams{On: some(on)}))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"where", "verdict", "about", "what", "fix"}, records: p, empty: "There is no crew. Store hosts: rotanex hosts import FILE"}
			for _, g := range sameFindings(p.Crews) {
				if len(g.findings) == 0 {
					l.add(g.where, string(g.verdict), none, none, none)
				}
				for i, f := range g.findings {
					where, verdict := g.where, string(f.Level)
					if i > 0 {
						where = ""
					}
					l.add(where, verdict, f.Check, f.Text, f.Fix)
				}
			}
			if err := a.show(cmd, l); err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintf(cmd.OutOrStdout(), "\n%s clear, %d with warnings, %d not known yet, %d blocked.\n", several(p.Clear, "crew"), p.Warned, p.NotKnown, p.Blocked)
			}
			if len(p.Crews) > 0 && p.Blocked+p.NotKnown == len(p.Crews) {
				return exit{ExitImpossible, ""}
			}
			return nil
		})),
	}
	c.Flags().StringVar(&on, "on", "", "a host, offer or source, or HOST/CREW; without it all")
	return c
}

// about is what a command does that is asked of one shot, its first argument.
type about func(cmd *cobra.Command, c *client.Client, args []string) error

// eachPass does it for each of the passes of a shot that has any, in tables, one after another; else the service says what to ask for.
// A pass that is impossible does not keep the others from being told.
func (a *app) eachPass(do about) about {
	return func(cmd *cobra.Command, c *client.Client, args []string) error {
		shot, err := client.Decode[api.Shot](c.GetShot(cmd.Context(), args[0]))
		if err != nil || len(shot.Spec.Passes) == 0 || a.config.GetString("output") != "table" {
			return do(cmd, c, args)
		}
		var impossible error
		for i, p := range shot.Spec.Passes {
			if i > 0 {
				fmt.Fprintln(cmd.OutOrStdout())
			}
			name := args[0] + "." + p.Name
			fmt.Fprintln(cmd.OutOrStdout(), text.Colors{text.Bold}.Sprint(name))
			switch err := do(cmd, c, append([]string{name}, args[1:]...)); {
			case errors.As(err, &exit{}):
				impossible = err
			case err != nil:
				return err
			}
		}
		return impossible
	}
}

type findings struct {
	where    string
	verdict  api.PreflightCrewVerdict
	findings []api.Finding
}

// sameFindings puts crews of a place that have the same to say into one line.
func sameFindings(crews []api.PreflightCrew) []findings {
	var out []findings
	place := ""
	var names []string
	for _, c := range crews {
		last := len(out) - 1
		if last >= 0 && place == c.Place && fmt.Sprint(out[last].findings) == fmt.Sprint(c.Findings) {
			names = append(names, c.Crew)
			out[last].where = place + "/" + shortList(names)
			continue
		}
		place, names = c.Place, []string{c.Crew}
		out = append(out, findings{c.Place + "/" + c.Crew, c.Verdict, c.Findings})
	}
	return out
}

func shortList(names []string) string {
	const most = 3
	if len(names) > most {
		return fmt.Sprintf("%s, … (%d)", strings.Join(names[:most-1], ", "), len(names))
	}
	return strings.Join(names, ", ")
}

func gb(x float64) string { return fmt.Sprintf("%.1f GB", x) }

func (a *app) memory() *cobra.Command {
	return &cobra.Command{
		Use: "memory SHOT", Short: "Say whether a shot fits the memory of each crew, with the numbers", Args: cobra.ExactArgs(1),
		Example: "  rotanex memory lamp-040",
		RunE: a.with(a.eachPass(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := client.Decode[api.ShotFit](c.GetFit(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintf(cmd.OutOrStdout(), "%s needs %s on each device (%s), %s of host memory for each renderer.\n\n", f.Shot, gb(f.NeedGb), needText(f), gb(f.HostGb))
			}
			l := listing{columns: []string{"crew", "verdict", "needs|needs_gb", "limit|limit_gb", "head-room|head_room_gb", "limited by", "without it", "renderers", "why"}, records: f, empty: "There is no crew."}
			for _, x := range alikeFits(f.Fits) {
				without := none
				if x.Without.Device != "" {
					without = fmt.Sprintf("%s, %s", gb(x.Without.LimitGb), x.Without.Verdict)
				}
				need, limit, room := measuredGB(x.NeedGb), measuredGB(x.LimitGb), measuredGB(x.HeadRoomGb)
				if x.Limiting == "" {
					need, limit, room = measuredGB(x.HostNeedGb), measuredGB(x.HostLimitGb), measuredGB(x.HostLimitGb-x.HostNeedGb)
				}
				l.add(x.Place+"/"+x.Crew, verdictText(x), need, limit, room, orNone(x.Limiting), without, renderersText(x.Renderers), whyText(x))
			}
			return a.show(cmd, l)
		})),
	}
}

func needText(f api.ShotFit) string {
	switch {
	case f.AtLeast:
		return fmt.Sprintf("it ran out at %s; declared %s", gb(f.ObservedGb), gb(f.DeclaredGb))
	case f.ObservedGb > 0:
		return fmt.Sprintf("observed; declared %s", gb(f.DeclaredGb))
	}
	return "declared"
}

func renderersText(n int) string {
	if n > 999 {
		return "many"
	}
	return strconv.Itoa(n)
}

func (a *app) licences() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the licence pools", Args: cobra.NoArgs, Example: "  rotanex licences list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []api.Licence }](c.ListLicences(cmd.Context()))
			l := listing{columns: []string{"pool", "kind", "seats", "held by", "extra seats", "each"}, records: all.Items, empty: "No licence pool. Store one: rotanex licences put POOL --seats N"}
			if err != nil {
				return err
			}
			held, err := client.Decode[struct{ Items []api.Seat }](c.ListSeats(cmd.Context()))
			if err != nil {
				return err
			}
			for _, p := range all.Items {
				var by []string
				for _, s := range held.Items {
					if s.Pool == p.Pool {
						by = append(by, s.Host)
					}
				}
				l.add(p.Pool, string(p.Kind), strconv.Itoa(p.Seats), orNone(strings.Join(by, ", ")), strconv.Itoa(p.ExtraSeats), orNone(p.ExtraSeatPrice))
			}
			return a.show(cmd, l)
		}),
	}
	var seats, extra int
	price := "0"
	kind := "floating"
	put := &cobra.Command{
		Use: "put POOL --seats N", Short: "Store a pool of licence seats", Args: cobra.ExactArgs(1), Example: "  rotanex licences put fathom --kind floating --seats 4",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := client.Decode[api.Licence](c.PutLicence(cmd.Context(), args[0], api.Licence{Pool: args[0], Kind: api.LicenceKind(kind), Seats: seats, ExtraSeats: extra, ExtraSeatPrice: price}))
			if err != nil {
				return err
			}
			return a.did(cmd, l, "%s: %d %s seats.", l.Pool, l.Seats, l.Kind)
		}),
	}
	put.Flags().IntVar(&seats, "seats", 1, "how many hosts may render at once")
	put.Flags().IntVar(&extra, "extra-seats", 0, "more that could be hired for a run")
	put.Flags().StringVar(&price, "extra-seat-price", price, "what each of these costs")
	put.Flags().StringVar(&kind, "kind", kind, "floating, named-user or node-locked")
	return group("licences", "Licence pools and their seats", list, put)
}

func verdictText(x api.Fit) string {
	text := string(x.Verdict)
	if x.Tight {
		text += ", tight"
	}
	if x.Slowdown > 1 {
		text += fmt.Sprintf(", ×%.2f slower", x.Slowdown)
	}
	return text
}

func whyText(x api.Fit) string {
	if x.Blocked == "" {
		return x.Why
	}
	return x.Why + "; blocked: " + x.Blocked
}

// alikeFits puts crews of a place of which the same is to be said into one line.
func alikeFits(all []api.Fit) []api.Fit {
	var out []api.Fit
	var names []string
	for _, x := range all {
		if last := len(out) - 1; last >= 0 && out[last].Place == x.Place && whyText(out[last]) == whyText(x) && out[last].Verdict == x.Verdict && out[last].Without == x.Without {
			names = append(names, x.Crew)
			out[last].Crew = shortList(names)
			continue
		}
		names = []string{x.Crew}
		out = append(out, x)
	}
	return out
}
