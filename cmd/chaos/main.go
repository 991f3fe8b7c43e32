// Chaos plays runs while everything dies, stands still and comes back in turn, and prints what was found and how long it took
// until work went on.
//
//	make chaos FAULTS=200
package main

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"rotanex.example/chaos"
)

func main() {
	c := chaos.Config{Out: os.Stderr}
	flag.StringVar(&c.Bin, "bin", "bin", "folder of the binaries")
	flag.Uint64Var(&c.Seed, "seed", 1, "seed of what happens")
	flag.IntVar(&c.Faults, "faults", 1000, "how much happens in all, over as many runs as it takes")
	flag.IntVar(&c.Frames, "frames", 240, "frames of a run")
	keep := flag.Bool("keep", false, "keep the folder of everything, with the logs")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := play(ctx, c, *keep); err != nil {
		fmt.Fprintln(os.Stderr, "chaos:", err)
		stop()
		os.Exit(1)
	}
}

func play(ctx context.Context, c chaos.Config, keep bool) (err error) {
	if c.Bin, err = filepath.Abs(c.Bin); err != nil {
		return err
	}
	if c.State, err = os.MkdirTemp("", "rotanex-chaos"); err != nil {
		return err
	}
	if err := os.Chmod(c.State, 0o755); err != nil { // the database's user enters it
		return err
	}
	if keep {
		fmt.Fprintln(os.Stderr, "everything is in", c.State)
	} else {
		defer func() { _ = os.RemoveAll(c.State) }()
	}
	report, err := chaos.Play(ctx, c)
	show(report)
	if err == nil && len(report.Findings) > 0 {
		err = fmt.Errorf("%d findings", len(report.Findings))
	}
	return err
}

func show(r chaos.Report) {
	sum := 0
	for _, what := range slices.Sorted(maps.Keys(r.Faults)) {
		fmt.Printf("%4d  %s\n", r.Faults[what], what)
		sum += r.Faults[what]
	}
	fmt.Printf("%4d  in all, in %d runs\n", sum, r.Runs)
	if slices.Sort(r.Waits); len(r.Waits) > 0 {
		at := func(part float64) time.Duration {
			return r.Waits[int(part*float64(len(r.Waits)-1))].Round(100 * time.Millisecond)
		}
		fmt.Printf("until the next frame was done: %s in the middle, %s of 95 in 100, %s at most\n", at(0.5), at(0.95), at(1))
	}
	for _, f := range r.Findings {
		fmt.Println("FOUND", f)
	}
}
