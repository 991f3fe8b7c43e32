package cli

import (
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/framefiles"
	"rotanex.example/core/paths"
	"rotanex.example/core/results"
	"rotanex.example/core/stock"
)

func (a *app) sources() *cobra.Command {
	imports := &cobra.Command{
		Use: "import FILE…", Short: "Store the sources, their offers and farms of YAML files", Args: cobra.MinimumNArgs(1),
		Long:    "A source's secret is not in the file: give it with rotanex sources secret SOURCE.",
		Example: "  rotanex sources import stock.yaml",
		RunE:    a.with(a.importStock),
	}
	freeFlag(imports)
	list := &cobra.Command{
		Use: "list", Short: "List where hosts come from that are not your own, and what was spent there", Args: cobra.NoArgs, Example: "  rotanex sources list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []api.Source }](c.ListSources(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"source", "kind", "prices in", "today", "charged|charged,charged_currency", "committed|committed,committed_currency", "cap|cap,cap_currency", "usable", "begins after|begins_after_s,begins_after_longest_s", "declared|declared_s,declared_longest_s", "state"}, records: all.Items, empty: "No source yet. Store some: rotanex sources import FILE"}
			for _, s := range all.Items {
				l.add(s.Spec.Name, string(s.Spec.Kind), s.Spec.Card.Currency, factorText(s), amount(s.Currency, s.Charged), amount(s.Currency, s.Committed), amount(s.Currency, s.Spec.Cap), shareOf(s.UsableShare), wait(s, func(w api.Wait) float64 { return w.TypicalS }), wait(s, func(w api.Wait) float64 { return w.DeclaredS }), sourceState(s))
			}
			return a.show(cmd, l)
		}),
	}
	var file string
	secret := &cobra.Command{
		Use: "secret SOURCE --file FILE", Short: "Store the token or private key of a source; it is kept encrypted and never shown", Args: cobra.ExactArgs(1),
		Example: "  rotanex sources secret tern --file tern.token\n  rotanex sources secret attic --file ~/.ssh/id_ed25519",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			data, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			all, err := client.Decode[struct{ Items []api.Source }](c.ListSources(cmd.Context()))
			for _, s := range all.Items {
				if err == nil && s.Spec.Name == args[0] {
					text := string(data)
					if !strings.Contains(text, "PRIVATE KEY") {
						text = strings.TrimSpace(text)
					}
					stored, err := client.Decode[api.Source](c.PutSource(cmd.Context(), args[0], api.NewSource{Spec: s.Spec, Secret: &text}))
					if err != nil {
						return err
					}
					return a.did(cmd, stored, "The secret of %s is stored.", args[0])
				}
			}
			if err != nil {
				return err
			}
			return fmt.Errorf("there is no source %q; rotanex sources list shows them", args[0])
		}),
	}
	secret.Flags().StringVar(&file, "file", "", "file that holds it")
	_ = secret.MarkFlagRequired("file")
	return group("sources", "Rented servers and farms: what they cost and how they do", imports, list, secret, a.compareSources(), a.sourcesDelete())
}

func factorText(s api.Source) string {
	if s.FactorFault != "" {
		return "no rate"
	}
	return "× " + strings.TrimRight(strings.TrimRight(s.Factor, "0"), ".")
}

// waitText is from the shortest to the longest wait of a source's offers and tiers.
func waitText(s api.Source, of func(api.Wait) float64) string {
	if len(s.Waits) == 0 {
		return none
	}
	low, high := of(s.Waits[0]), of(s.Waits[0])
	for _, w := range s.Waits {
		low, high = min(low, of(w)), max(high, of(w))
	}
	text := func(s float64) string { return seconds(60 * math.Round(s/60)) }
	if text(low) == text(high) {
		return text(low)
	}
	return text(low) + " to " + text(high)
}

func sourceState(s api.Source) string {
	switch {
	case s.FactorFault != "":
		return s.FactorFault
	case s.Fault != "":
		return s.Fault
	case s.Spec.Address == "":
		return "has no address"
	case !s.Asked:
		return "not asked yet"
	}
	return "reached"
}

func (a *app) compareSources() *cobra.Command {
	var by, baseline, run string
	c := &cobra.Command{
		Use: "compare [SHOT]", Short: "The same work on each source and on the best mix; after a run, what each came to", Args: cobra.MaximumNArgs(1),
		Example: "  rotanex sources compare orrery-020 --by \"Mon 09:00\"\n  rotanex sources compare --run latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if (run == "") == (len(args) == 0) {
				return errors.New("name a shot, to compare before a run, or a run with --run")
			}
			if run != "" {
				id, err := a.findRun(cmd.Context(), c, run)
				if err != nil {
					return err
				}
				out, err := client.Decode[api.SourceComparison](c.CompareRunSources(cmd.Context(), id))
				if err != nil {
					return err
				}
				return a.showSources(cmd, out)
			}
			params := api.CompareSourcesParams{Baseline: some(baseline)}
			if by != "" {
				session, err := client.Decode[api.Session](c.GetSession(cmd.Context()))
				if err != nil {
					return err
				}
				at, err := parseTime(by, session.Clock.Now)
				if err != nil {
					return err
				}
				params.By = &at
			}
			out, err := client.Decode[api.SourceComparison](c.CompareSources(cmd.Context(), args[0], &params))
			if err != nil {
				return err
			}
			return a.showSources(cmd, out)
		}),
	}
	c.Flags().StringVar(&by, "by", "", "deadline, such as \"Mon 09:00\" or +12h; default the shot's own")
	c.Flags().StringVar(&baseline, "baseline", "", "source or host that savings are against; default your own")
	c.Flags().StringVar(&run, "run", "", "compare what a run came to, from its ledger")
	return c
}

func (a *app) showSources(cmd *cobra.Command, x api.SourceComparison) error {
	charged := x.Basis == api.SourceComparisonBasisCharged
	l := listing{columns: []string{"source", "", "cost|cost,cost_currency", "estimated|estimated,estimated_currency", "saves|saves,saves_currency", "elapsed|elapsed_s", "rendering|rendering_s", "frames", "failed", "a frame|a_frame,a_frame_currency", "unused|unused,unused_currency", "measured"}, records: x, empty: "No source can be compared."}
	for _, r := range x.Rows {
		if r.Status == api.SourceRowStatusImpossible {
			l.add(r.Source, "cannot render it", none, none, none, none, none, "0", "0", none, none, none)
			continue
		}
		marks := make([]string, len(r.Marks))
		for i, m := range r.Marks {
			marks[i] = string(m)
		}
		if r.Status == api.SourceRowStatusLate {
			marks = append(marks, "late")
		}
		l.add(r.Source, strings.Join(marks, ", "), amount(x.Currency, r.Cost), amount(x.Currency, r.Estimated), amount(x.Currency, r.Saving), inSeconds(r.ElapsedS), inSeconds(r.RenderedS), strconv.Itoa(r.Usable), strconv.Itoa(r.Failed), amount(x.Currency, r.FrameCost), amount(x.Currency, r.UnusedCost), shareOf(r.MeasuredShare))
	}
	if !charged {
		l = l.without("estimated", "failed")
	} else {
		l = l.without("saves", "measured")
	}
	if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
		return err
	}
	for _, r := range x.Rows {
		for i, u := range r.Unsupported {
			if i == 3 {
				fmt.Fprintf(cmd.OutOrStdout(), "   and %d more on %s\n", len(r.Unsupported)-3, r.Source)
				break
			}
			fmt.Fprintf(cmd.OutOrStdout(), " · %s: %s\n", r.Source, u)
		}
	}
	return nil
}

// without leaves columns out.
func (l listing) without(names ...string) listing {
	out := l
	out.columns, out.rows = nil, make([][]cell, len(l.rows))
	for i, c := range l.columns {
		skip := false
		for _, n := range names {
			shown, _ := column(c)
			skip = skip || shown == n
		}
		if skip {
			continue
		}
		out.columns = append(out.columns, c)
		for r := range l.rows {
			out.rows[r] = append(out.rows[r], l.rows[r][i])
		}
	}
	return out
}

func (a *app) exchangeRates() *cobra.Command {
	imports := &cobra.Command{
		Use: "import FILE.csv", Short: "Take in exchange rates: date,from,to,rate", Args: cobra.ExactArgs(1), Example: "  rotanex exchange-rates import rates.csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			file, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer func() { _ = file.Close() }()
			all, err := client.Decode[struct{ Items []api.ExchangeRate }](c.ImportRatesWithBody(cmd.Context(), "text/csv", file))
			if err != nil {
				return err
			}
			return a.did(cmd, all.Items, "There are %d exchange rates now.", len(all.Items))
		}),
	}
	list := &cobra.Command{
		Use: "list", Short: "List the exchange rates", Args: cobra.NoArgs, Example: "  rotanex exchange-rates list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []api.ExchangeRate }](c.ListRates(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"date", "from", "to", "rate"}, records: all.Items, empty: "No exchange rate. Take some in: rotanex exchange-rates import FILE.csv"}
			for _, r := range all.Items {
				l.add(r.Day.String(), r.From, r.To, r.Rate)
			}
			return a.show(cmd, l)
		}),
	}
	return group("exchange-rates", "Exchange rates, as you gave them", imports, list)
}

func (a *app) farms() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the tiers of farms", Args: cobra.NoArgs, Example: "  rotanex farms list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []stock.Farm }](c.ListFarms(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"farm", "source", "nodes", "node", "node-hour", "frame", "minimum charge", "lead|lead_s", "renders"}, records: all.Items, empty: "No farm. Store some: rotanex sources import FILE"}
			for _, f := range all.Items {
				l.add(f.Name, f.Source, strconv.Itoa(f.Nodes), nodeText(f), f.HourPrice().String(), f.Work.Frame.String(), f.Work.MinimumCharge.String(), inSeconds(float64(f.LeadS)), strings.Join(f.Launchers, ", "))
			}
			return a.show(cmd, l)
		}),
	}
	jobs := &cobra.Command{
		Use: "jobs RUN", Short: "List a run's jobs at farms", Args: cobra.ExactArgs(1), Example: "  rotanex farms jobs latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			all, currency, err := a.farmJobs(cmd, c, args[0])
			if err != nil {
				return err
			}
			l := listing{columns: []string{"job", "farm", "shot", "state", "frames", "done", "failed tries", "summed|summed_s", "elapsed|elapsed_s", "expected|expected,expected_currency", "charged|charged,charged_currency", "note"}, records: all, empty: "The run uses no farm."}
			for _, j := range all {
				note := j.Trouble
				if note == "" && len(j.Findings) > 0 {
					note = j.Findings[0]
				}
				if j.State == api.FarmJobStateHeld {
					note = fmt.Sprintf("look at its proof frames: rotanex farms proofs %s --to FOLDER", j.Id.String()[:8])
				}
				l.add(j.Id.String()[:8], j.Farm, j.Shot, string(j.State), strconv.Itoa(j.Frames), strconv.Itoa(j.Done), strconv.Itoa(j.Failed), inSeconds(j.RenderedS), inSeconds(j.ElapsedS), amount(currency, j.Committed), amount(currency, j.Charge), note)
			}
			return a.show(cmd, l)
		}),
	}
	return group("farms", "Render farms: tiers, jobs and proof frames", list, jobs, a.proofs())
}

func nodeText(f stock.Farm) string {
	out := several(f.CPU.Cores, "core")
	for _, d := range f.Devices {
		out += " + " + d.Model
	}
	return out
}

func (a *app) farmJobs(cmd *cobra.Command, c *client.Client, run string) ([]api.FarmJob, string, error) {
	id, err := a.findRun(cmd.Context(), c, run)
	if err != nil {
		return nil, "", err
	}
	r, err := client.Decode[api.Run](c.GetRun(cmd.Context(), id))
	return r.FarmJobs, r.Currency, err
}

func (a *app) proofs() *cobra.Command {
	var accept, refuse bool
	var run, to string
	c := &cobra.Command{
		Use: "proofs JOB", Short: "Fetch a job's proof frames to look at, accept or refuse them", Args: cobra.ExactArgs(1),
		Long: `A farm renders the first, the middle and the last frame of a job and waits. Look at
them beside your own, then accept, which releases the rest, or refuse, which ends the
job: its frames are rendered elsewhere.`,
		Example: "  rotanex farms proofs 3f2a91c0 --to proofs\n  rotanex farms proofs 3f2a91c0 --accept",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if accept && refuse {
				return errors.New("--accept and --refuse do not go together")
			}
			all, _, err := a.farmJobs(cmd, c, run)
			if err != nil {
				return err
			}
			for _, j := range all {
				if !strings.HasPrefix(j.Id.String(), args[0]) {
					continue
				}
				if to != "" {
					if err := a.fetchProofs(cmd, c, j, to); err != nil {
						return err
					}
				}
				if !accept && !refuse {
					if to == "" {
						return errors.New("say what to do: --to FOLDER to look at them, --accept or --refuse")
					}
					return nil
				}
				judged, err := client.Decode[api.FarmJob](c.JudgeProofs(cmd.Context(), j.Id, api.JudgeProofsJSONRequestBody{Accept: accept}))
				if err != nil {
					return err
				}
				said := "refused: the job is ended and its frames are rendered elsewhere"
				if accept {
					said = "accepted: the rest is released"
				}
				return a.did(cmd, judged, "The proof frames of %s at %s are %s.", j.Shot, j.Farm, said)
			}
			return fmt.Errorf("run %s has no job %q at a farm; rotanex farms jobs %s shows them", run, args[0], run)
		}),
	}
	c.Flags().StringVar(&run, "run", latest, "the run")
	c.Flags().StringVar(&to, "to", "", "folder to put the pictures into")
	c.Flags().BoolVar(&accept, "accept", false, "release the rest")
	c.Flags().BoolVar(&refuse, "refuse", false, "end the job")
	return c
}

func (a *app) fetchProofs(cmd *cobra.Command, c *client.Client, j api.FarmJob, to string) error {
	var proofs []api.Frame
	for _, n := range j.Proofs {
		d, err := client.Decode[api.FrameDetail](c.GetFrame(cmd.Context(), j.Run, j.Shot, n))
		if err != nil {
			return err
		}
		proofs = append(proofs, d.Frame)
	}
	named, err := paths.ParseTemplate(proofName, results.Holes...)
	if err != nil {
		return err
	}
	work, err := results.Name(finished(proofs, nil), named, results.Wanted{framefiles.Main})
	if err != nil {
		return err
	}
	root, err := openFolder(to)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	copied := []string{}
	for _, f := range work {
		if err := fetch(cmd.Context(), c, j.Run, f, root, f.Path); err != nil {
			return fmt.Errorf("proof frame %d: %w", f.Number, err)
		}
		copied = append(copied, filepath.Join(to, f.Path))
	}
	return a.did(cmd, copied, "%s", strings.Join(copied, "\n"))
}
