// Benchruns draws made-up weekends whose truth the planner does not know, plays each with
// the schedule left alone and kept, and prints what came of the promises as a table in
// Markdown.
//
//	go run ./cmd/benchruns -weekends 300
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"slices"

	"rotanex.example/core/rehearsal"
	"rotanex.example/core/replan"
)

func main() {
	number := flag.Int("weekends", 300, "how many weekends are drawn")
	first := flag.Uint64("seed", 1, "seed of the first; the others follow it")
	each := flag.Bool("each", false, "a line for each weekend on standard error")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	done := 0
	all, err := rehearsal.Rehearse(ctx, *first, *number, func(x rehearsal.Weekends) {
		done++
		if !*each {
			fmt.Fprintf(os.Stderr, "\r%d of %d weekends", done, *number)
			return
		}
		off, auto := x.Played[replan.Off], x.Played[replan.Auto]
		fmt.Fprintf(os.Stderr, "%d: promised %.2f (%s, %.2f), knowing %.2f %v; off %.2f %v; auto %.2f %v, %d changes, %d of %d moved\n", x.Weekend.Seed,
			x.Plan.Forecast.Chance, x.Plan.Status, x.Plan.Cost.Float(), x.Knowing.Cost, x.Knowing.Met, off.Cost, off.Met, auto.Cost, auto.Met, auto.Changes, auto.Moved, auto.Frames)
	})
	fmt.Fprintln(os.Stderr)
	rehearsal.Print(os.Stdout, slices.DeleteFunc(all, func(x rehearsal.Weekends) bool { return x.Played == nil }))
	if err != nil {
		fmt.Fprintf(os.Stderr, "benchruns: %v; the table has the %d weekends that were played\n", err, done)
		stop()
		os.Exit(1)
	}
}
