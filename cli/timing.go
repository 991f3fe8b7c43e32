package cli

import (
	"fmt"
	"math"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"rotanex.example/core/timing"
)

// timing works on a file alone: without a service or a database.
func (a *app) timing() *cobra.Command {
	crews := 64
	c := &cobra.Command{
		Use: "timing TIMES.csv", Short: "Fit the timing model to a file of times and predict the crews not timed", Args: cobra.ExactArgs(1),
		Long: `Needs no service. Columns shot, crew (device names joined with +, as g0+g1+cpu) and
seconds are needed; host, models, links, backend, frame, warm_up, condition.NAME and
setting.NAME may be there. Prints for every measured row what the model says with it
and without it, and for every other crew that the devices could form what it would
take. Each figure comes with its 90 % interval. A dash for the file reads standard input.`,
		Example: "  rotanex timing times.csv\n  rotanex timing times.csv --output json\n  rotanex times export --output csv | rotanex timing -",
		RunE: func(cmd *cobra.Command, args []string) error {
			if crews < 0 {
				return fmt.Errorf("--crews %d: want 0 or more", crews)
			}
			times, err := readTimes(cmd, args[0])
			if err != nil {
				return err
			}
			bar := newBar(cmd, "leaving each row out", len(times))
			lines, err := timing.Report(cmd.Context(), times, crews, bar.set)
			bar.clear()
			if err != nil {
				return err
			}
			return a.showTiming(cmd, lines, len(times))
		},
	}
	c.Flags().IntVar(&crews, "crews", crews, "the most crews to predict for each shot and host")
	return c
}

func readTimes(cmd *cobra.Command, path string) ([]timing.Time, error) {
	in := cmd.InOrStdin()
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer func() { _ = f.Close() }()
		in = f
	}
	times, err := timing.ReadTimes(in)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return times, nil
}

func (a *app) showTiming(cmd *cobra.Command, lines []timing.Line, rows int) error {
	l := listing{
		columns: []string{"shot", "host", "crew", "backend", "basis", "measured|measured_s", "predicted|predicted_s", "from|low_s", "to|high_s", "left out|left_out_s", "from|left_out_low_s", "to|left_out_high_s", "off by|off_by"},
		records: lines,
	}
	figure := func(s *float64) cell {
		if s == nil {
			return cellOf(none)
		}
		return inSeconds(*s)
	}

	var off []float64
	outside, measured := 0, 0
	notes := map[string]int{}
	var order []string
	note := func(why string) {
		if why != "" {
			if notes[why] == 0 {
				order = append(order, why)
			}
			notes[why]++
		}
	}
	for _, x := range lines {
		basis, missed := string(timing.Predicted), cellOf(none)
		if x.Measured != nil {
			basis = string(timing.Measured)
			measured++
		}
		if x.LeftOut != nil {
			d := *x.LeftOut / *x.Measured - 1
			off = append(off, math.Abs(d))
			missed = cell{fmt.Sprintf("%+.1f %%", 100*d), []string{number(d, 4)}}
			if *x.Measured < *x.LeftOutLow || *x.Measured > *x.LeftOutHigh {
				outside++
			}
		}
		note(x.Note)
		if x.LeftOutWhy != "" {
			note("left out: " + x.LeftOutWhy)
		}
		l.add(x.Shot, orNone(x.Host), x.Crew, orNone(x.Backend), basis, figure(x.Measured), figure(x.Predicted), figure(x.Low), figure(x.High), figure(x.LeftOut), figure(x.LeftOutLow), figure(x.LeftOutHigh), missed)
	}
	if err := a.show(cmd, l); err != nil || a.config.GetString("output") != "table" {
		return err
	}
	out := cmd.OutOrStdout()
	_, _ = fmt.Fprintf(out, "\n%s measured", several(measured, "row"))
	if rows > measured {
		_, _ = fmt.Fprintf(out, ", %d warm-ups left aside", rows-measured)
	}
	if len(off) > 0 {
		slices.Sort(off)
		_, _ = fmt.Fprintf(out, "; left out, half are off by less than %.1f %%, %d of %d lie outside their 90 %% interval", 100*off[len(off)/2], outside, len(off))
	}
	_, _ = fmt.Fprintln(out, ".")
	for _, why := range order {
		_, _ = fmt.Fprintf(out, "%d × %s.\n", notes[why], why)
	}
	return nil
}
