package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"rotanex.example/core/planning"
)

// again solves a made-up weekend, takes a host away or adds a shot, and says how soon there is an answer that starts from the plan.
func again() error {
	fmt.Println("\n| change | first answer, of the first solve's time | cost | with a tenth of the work, of its time | cost | solved anew |\n|---|---:|---:|---:|---:|---:|")
	before := weekend(60, 40, 200)
	begun := time.Now()
	plan, err := planning.Solve(context.Background(), before, planning.Options{})
	if err != nil {
		return err
	}
	first := time.Since(begun).Seconds()
	lost := before
	gone := lost.Hosts[0].ID
	lost.Hosts = lost.Hosts[1:]
	lost.Timings = slices.DeleteFunc(slices.Clone(before.Timings), func(t planning.Timing) bool { return t.Host == gone })
	more := before
	extra := before.Shots[0]
	extra.ID = "one more"
	more.Shots, more.Timings = append(slices.Clone(before.Shots), extra), slices.Clone(before.Timings)
	for _, t := range before.Timings {
		if t.Shot == before.Shots[0].ID {
			t.Shot = extra.ID
			more.Timings = append(more.Timings, t)
		}
	}
	for _, c := range []struct {
		what string
		p    planning.Problem
	}{{"a host is lost", lost}, {"a shot more", more}} {
		begun = time.Now()
		repaired, ok := planning.Repair(c.p, plan)
		took := time.Since(begun).Seconds()
		if !ok {
			return fmt.Errorf("%s: there is no first answer", c.what)
		}
		begun = time.Now()
		better, err := planning.Solve(context.Background(), c.p, planning.Options{From: &plan, Effort: 0.1})
		tenth := time.Since(begun).Seconds()
		if err != nil {
			return err
		}
		anew, err := planning.Solve(context.Background(), c.p, planning.Options{})
		if err != nil {
			return err
		}
		fmt.Printf("| %s | %.3f | %s | %.3f | %s | %s |\n", c.what, took/first, repaired.Cost, tenth/first, better.Cost, anew.Cost)
	}
	return nil
}
