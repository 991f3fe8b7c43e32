package cli

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) compare() *cobra.Command {
	var baseline, sort string
	all := false
	c := &cobra.Command{
		Use: "compare SHOT", Short: "Lay crews side by side, measured and predicted, with advice on dividing hosts", Args: cobra.ExactArgs(1),
		Long: `Seconds a frame with the 90 % interval, speed-up against a baseline, scaling
efficiency, cost and the whole shot, for every crew of which something is known. A
difference is called one only where the interval or rank test named shows it. Then:
the best way to divide each host, what one more of each device would change, and which
stretches of the shot are heavy. Times with other settings are listed, never compared.`,
		Example: "  rotanex compare stair-030\n  rotanex compare stair-030 --baseline bellows/g0 --sort cost\n  rotanex compare stair-030 --output csv",
		RunE: a.with(a.eachPass(func(cmd *cobra.Command, c *client.Client, args []string) error {
			params := api.CompareShotParams{Baseline: some(baseline)}
			if sort != "" {
				by := api.CompareShotParamsSort(sort)
				params.Sort = &by
			}
			x, err := client.Decode[api.Comparison](c.CompareShot(cmd.Context(), args[0], &params))
			if err != nil {
				return err
			}
			l := crewListing(x, all)
			if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
				return err
			}
			advise(cmd.OutOrStdout(), x)
			return nil
		})),
	}
	c.Flags().StringVar(&baseline, "baseline", "", "HOST/CREW to which speed-ups are; without it the slowest measured single GPU")
	c.Flags().StringVar(&sort, "sort", "seconds", "seconds, cost, efficiency, crew or whole")
	c.Flags().BoolVar(&all, "all", false, "list crews too of which nothing is known, with the reason")
	_ = c.RegisterFlagCompletionFunc("sort", cobra.FixedCompletions([]string{"seconds", "cost", "efficiency", "crew", "whole"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func crewListing(x api.Comparison, all bool) listing {
	l := listing{
		columns: []string{"crew", "basis", "a frame|a_frame_s", "90 % interval|low_s,high_s", "opening|opening_s,frames_a_start", "frames/h|frames_h", "samples/s|samples_s", "speed-up", "difference", "efficiency", "use", "peak|peak_gb", "host peak|host_peak_gb", "a frame costs|frame_cost,currency", "whole shot|whole_shot_s", "in time"},
		records: x, empty: "Nothing is known of any crew. Time some frames: rotanex trials sweep " + x.Shot,
	}
	for i, c := range x.Crews {
		if c.Seconds == 0 {
			if all {
				l.add(c.Place+"/"+c.Crew, string(c.Basis), none, c.Note, none, none, none, none, none, none, none, none, none, none, none, none)
			}
			continue
		}
		if c.Timed == 0 && slices.ContainsFunc(x.Crews[:i], func(o api.CrewFigures) bool { return alike(o, c) }) {
			continue
		}
		basis, name := string(c.Basis), c.Place+"/"+c.Crew
		if n := alikeCount(x.Crews[i:], c); c.Timed == 0 && n > 1 {
			name += fmt.Sprintf(" (and %d alike)", n-1)
		}
		if c.Timed > 0 {
			basis += fmt.Sprintf(" (%d)", c.Timed)
		}
		l.add(name, basis, inSeconds(c.Seconds), between(c.LowS, c.HighS), opening(c.OpeningS, c.InStart), figureOf(c.FramesHour, 1), rate(c.SamplesSecond), factor(c.Speedup), differenceText(x, c), shareOf(c.Efficiency), shareOf(c.Use), peak(c.PeakGb), peak(c.HostPeakGb), amount(x.Currency, c.FrameCost), inSeconds(c.WholeS), meetsText(x, c))
	}
	return l
}

// alike reports whether two crews of a place differ only in which of several like
// devices they have.
func alike(a, b api.CrewFigures) bool {
	return a.Place == b.Place && a.Timed == 0 && b.Timed == 0 && a.Basis == b.Basis && slices.Equal(a.Models, b.Models) && math.Abs(a.Seconds/b.Seconds-1) < 0.01
}

func alikeCount(all []api.CrewFigures, c api.CrewFigures) (n int) {
	for _, o := range all {
		if alike(o, c) {
			n++
		}
	}
	return n
}

func times(x float64) string {
	if x == 0 {
		return none
	}
	return fmt.Sprintf("%.2f×", x)
}

func ratio(x float64) string {
	if x == 0 {
		return none
	}
	return fmt.Sprintf("%.0f %%", 100*x)
}

func quantity(x float64) string {
	switch {
	case x == 0:
		return none
	case x >= 1e6:
		return fmt.Sprintf("%.2f M", x/1e6)
	case x >= 1e3:
		return fmt.Sprintf("%.1f k", x/1e3)
	}
	return fmt.Sprintf("%.0f", x)
}

func peakText(n float64) string { return bytesText(int64(n * 1e9)) }

func meetsText(x api.Comparison, c api.CrewFigures) string {
	switch {
	case x.Deadline.IsZero():
		return none
	case c.Meets:
		return "yes"
	}
	return "no"
}

func differenceText(x api.Comparison, c api.CrewFigures) string {
	switch {
	case c.Place+"/"+c.Crew == x.Baseline:
		return "baseline"
	case c.Difference.Method == "":
		return none
	case !c.Difference.Shown:
		return "none shown"
	}
	return fmt.Sprintf("%.2f–%.2f×", c.Difference.Low, c.Difference.High)
}

// advise prints what the table does not hold.
func advise(out io.Writer, x api.Comparison) {
	hidden := 0
	for _, c := range x.Crews {
		if c.Seconds == 0 {
			hidden++
		}
	}
	p := func(format string, args ...any) { _, _ = fmt.Fprintf(out, format+"\n", args...) }
	p("")
	if x.Baseline != "" {
		p("Speed-ups are to %s. %s", x.Baseline, methodOf(x))
	}
	if x.Note != "" {
		p("Note: %s.", strings.TrimSuffix(x.Note, "."))
	}
	for _, c := range cautions(x) {
		p("Caution: %s.", c)
	}
	if hidden > 0 {
		p("%d crews are not shown: blocked, or nothing is known of them; --all says why.", hidden)
	}
	for _, u := range x.Unlike {
		var differs []string
		for _, s := range u.Settings {
			differs = append(differs, fmt.Sprintf("%s %s, now %s", s.Name, orNone(s.Then), orNone(s.Now)))
		}
		p("Not compared: %s/%s took %s with other settings (%s).", u.Place, u.Crew, seconds(u.Seconds), strings.Join(differs, "; "))
	}
	if len(x.Divisions) > 0 {
		p("\nHow to divide each host:")
	}
	for _, d := range x.Divisions {
		p("  %-10s %s", d.Place, d.Best)
		for _, w := range d.Ways[1:min(len(d.Ways), 4)] {
			p("             %s: %.0f%s", strings.Join(w.Crews, " and "), w.FramesHour, limitedText(w.Limited))
		}
		if d.BreakEven.Text != "" {
			p("             %s against %s: %s", d.BreakEven.Large, d.BreakEven.Small, d.BreakEven.Text)
		}
	}
	if len(x.Devices) > 0 {
		p("\nOne more of each, a crew of its own:")
		l := listing{columns: []string{"device", "as on", "frames/h", "saves|saves_s", "frames for 1 " + x.Currency, "price", "frames/h for 1000 " + x.Currency}}
		for _, d := range x.Devices {
			price, each := none, none
			if d.Price != "" {
				price, each = money(x.Currency, d.Price), fmt.Sprintf("%.1f", d.FramesHourPerPrice)
			}
			l.add(d.Model, d.Place, fmt.Sprintf("%.1f", d.FramesHour), inSeconds(d.HoursSaved*3600), quantity(d.FramesPerMoney), price, each)
		}
		printTable(out, l)
	}
	if heavy := heavyText(x.Stretches); heavy != "" {
		p("\n%s", heavy)
	}
}

// cautions says what of the conditions was unlike, once for each kind of it.
func cautions(x api.Comparison) []string {
	var kinds []string
	crews, first := map[string][]string{}, map[string]string{}
	for _, c := range x.Crews {
		for _, text := range c.Cautions {
			kind := strings.Join(strings.Fields(text)[:min(3, len(strings.Fields(text)))], " ")
			if len(crews[kind]) == 0 {
				kinds, first[kind] = append(kinds, kind), text
			}
			crews[kind] = append(crews[kind], c.Place+"/"+c.Crew)
		}
	}
	var out []string
	for _, kind := range kinds {
		if n := len(crews[kind]); n == 1 {
			out = append(out, crews[kind][0]+" was "+first[kind])
		} else {
			out = append(out, fmt.Sprintf("%d crews had unlike conditions (%s); %s was %s", n, strings.Join(crews[kind], ", "), crews[kind][0], first[kind]))
		}
	}
	return out
}

func limitedText(why string) string {
	if why == "" {
		return ""
	}
	return " (" + why + ")"
}

// methodOf names the test or interval by which differences are shown.
func methodOf(x api.Comparison) string {
	for _, c := range x.Crews {
		if c.Difference.Method != "" {
			return "Differences by the " + c.Difference.Method + ", 95 %."
		}
	}
	return ""
}

func heavyText(all []api.Stretch) string {
	var parts []string
	for _, s := range all {
		if s.Frames > 0 {
			parts = append(parts, strconv.Itoa(s.From)+"–"+strconv.Itoa(s.To)+fmt.Sprintf(" ×%.2f", s.Weight))
		}
	}
	if len(parts) < 2 {
		return ""
	}
	return "Work of a frame by stretch of the shot: " + strings.Join(parts, ", ") + "."
}
