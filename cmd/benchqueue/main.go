// Benchqueue measures how frames are leased and handed in, from small runs to a million frames, and holds that against what was
// asked for.
//
//	make bench-queue
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"

	"rotanex.example/bench"
)

func main() {
	c := bench.Config{Out: os.Stderr}
	flag.StringVar(&c.Bin, "bin", "bin", "folder of the binaries")
	flag.IntVar(&c.Frames, "frames", 1_000_000, "frames of the large run")
	flag.IntVar(&c.Ended, "ended", 10_000, "runs that ended before")
	flag.IntVar(&c.Agents, "agents", 192, "agents that render")
	flag.IntVar(&c.Idle, "waiting", 2000, "agents that wait beside them")
	flag.DurationVar(&c.For, "for", 5*time.Second, "how long each thing is measured in a round")
	flag.IntVar(&c.Rounds, "rounds", 5, "how often")
	flag.StringVar(&c.Only, "only", "", "one part alone: sizes, waiting, paced, lists, console or viewers")
	flag.BoolVar(&c.Hold, "hold", false, "of lists: say where the service is, and leave it as it is until Ctrl-C")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	short, err := measure(ctx, c)
	if err != nil {
		fmt.Fprintln(os.Stderr, "benchqueue:", err)
	}
	if err != nil || short {
		stop()
		os.Exit(1)
	}
}

// parts are what can be measured alone.
var parts = []string{"sizes", "waiting", "paced", "lists", "console", "viewers"}

func measure(ctx context.Context, c bench.Config) (short bool, err error) {
	if c.Only != "" && !slices.Contains(parts, c.Only) {
		return false, fmt.Errorf("-only %s: want one of %s", c.Only, strings.Join(parts, ", "))
	}
	if c.Bin, err = filepath.Abs(c.Bin); err != nil {
		return false, err
	}
	if c.State, err = os.MkdirTemp("", "rotanex-bench"); err != nil {
		return false, err
	}
	defer func() { _ = os.RemoveAll(c.State) }()
	if err := os.Chmod(c.State, 0o755); err != nil { // the database's user enters it
		return false, err
	}
	what := bench.Queue
	if slices.Contains(parts[3:], c.Only) {
		what = bench.Lists
	}
	lines, err := what(ctx, c)
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	_, _ = fmt.Fprintln(table, "WHAT\tASKED\tFOUND\t")
	for _, l := range lines {
		mark := ""
		if l.Short {
			mark, short = "missed", true
		}
		_, _ = fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", l.What, l.Asked, l.Found, mark)
	}
	return short, errors.Join(err, table.Flush())
}
