// Benchtiming makes series of frame times whose truth is known and not of the timing model's
// family, and prints how the model's predictions go, and what its sweeps are worth, as tables in
// Markdown.
//
//	go run ./cmd/benchtiming -each 20
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"

	"rotanex.example/core/timing/timingtest"
)

// sweeps is what the table of policies is asked for by.
const sweeps = "sweeps: how the next trial is chosen"

func main() {
	each := flag.Int("each", 20, "how many series of each kind are made")
	only := flag.String("only", "", "ask only questions with these words in them")
	seed := flag.Uint64("seed", 1, "seed of what is drawn")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	err := run(ctx, *seed, *each, *only)
	stop()
	if err != nil {
		fmt.Fprintf(os.Stderr, "benchtiming: %v\n", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, seed uint64, each int, only string) error {
	said := func(done, all int) { fmt.Fprintf(os.Stderr, "\r%d of %d", done, all) }
	ask := slices.DeleteFunc(slices.Clone(timingtest.Questions), func(q timingtest.Question) bool { return !strings.Contains(string(q), only) })
	if len(ask) > 0 {
		results, err := timingtest.Measure(ctx, seed, each, ask, said)
		if err != nil {
			return err
		}
		results.Print(os.Stdout)
	}
	if !strings.Contains(sweeps, only) {
		return nil
	}
	losses, err := timingtest.Sweep(ctx, seed, each, said)
	if err != nil {
		return err
	}
	losses.Print(os.Stdout)
	return nil
}
