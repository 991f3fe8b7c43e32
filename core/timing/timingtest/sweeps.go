package timingtest

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"rotanex.example/core/timing"
)

// Policy is how the next trial of a new shot is chosen.
type Policy string

// Policies that are compared.
const (
	Worth  Policy = "by what it is worth"
	Widest Policy = "the widest interval"
	Random Policy = "at random"
)

// Policies lists them.
var Policies = []Policy{Worth, Widest, Random}

// After is after how many trials it is looked at what comes of it.
var After = []int{1, 2, 4, 8}

// Losses are, by policy and number of trials, how many times as much a frame costs by the crews that are chosen then as by those that
// one chooses who knows everything.
type Losses map[Policy]map[int][]float64

// Sweep makes so many new shots of each kind on hosts where three others are known, and times each as every policy has it.
func Sweep(ctx context.Context, seed uint64, each int, said func(done, all int)) (Losses, error) {
	out, done := Losses{}, 0
	for _, p := range Policies {
		out[p] = map[int][]float64{}
	}
	var one sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for n := range len(Kinds) * each {
		group.Go(func() error {
			for _, policy := range Policies {
				r := rand.New(rand.NewPCG(seed, uint64(n)))
				losses, err := sweep(ctx, r, Kinds[n%len(Kinds)], n, policy)
				if err != nil {
					return err
				}
				one.Lock()
				for after, loss := range losses {
					out[policy][after] = append(out[policy][after], loss)
				}
				one.Unlock()
			}
			one.Lock()
			defer one.Unlock()
			done++
			said(done, len(Kinds)*each)
			return nil
		})
	}
	return out, group.Wait()
}

func sweep(ctx context.Context, r *rand.Rand, kind Kind, n int, policy Policy) (map[int]float64, error) {
	s, known := Known(r, kind, n, 2+r.IntN(3))
	shot, backend := s.Shots[0], s.Every[0].Backend
	atOnce := []int{1, 2, 9}[r.IntN(3)] // as its memory has it
	var all []timing.Candidate
	for _, p := range s.Every {
		if p.Backend == backend || p.Crew == "cpu" {
			all = append(all, timing.Candidate{Place: p, Seconds: float64(len(p.Members)), AtOnce: atOnce})
		}
	}
	out, timed := map[int]float64{}, map[string]bool{}
	rows, next := known, all[slices.IndexFunc(all, func(c timing.Candidate) bool { return c.Place.Crew == "g0" })].Place
	var m *timing.Model
	for trials := 1; trials <= After[len(After)-1]; trials++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if next.Crew != "" {
			timed[next.Crew] = true
			rows = append(rows, s.Time(r, shot, next), s.Time(r, shot, next))
			var err error
			if m, err = timing.Refit(rows, m); err != nil {
				return nil, err
			}
		}
		if slices.Contains(After, trials) {
			out[trials] = s.best(all, func(p timing.Place) float64 { return s.Truth(shot, p) }, nil) / s.best(all, func(p timing.Place) float64 {
				x, err := m.Predict(shot, p, nil, "", false)
				if err != nil {
					return math.Inf(1)
				}
				return x.Seconds
			}, func(p timing.Place) float64 { return s.Truth(shot, p) })
		}
		for i, c := range all {
			if x, err := m.Predict(shot, c.Place, nil, "", false); err == nil {
				all[i].Seconds = x.Seconds
			}
		}
		next = policy.next(r, m, shot, all, timed)
	}
	return out, nil
}

// next is the next crew to time; none where a policy needs no more.
func (p Policy) next(r *rand.Rand, m *timing.Model, shot string, all []timing.Candidate, timed map[string]bool) timing.Place {
	if p == Worth {
		if found := timing.Next(m, shot, all, func(x timing.Place) bool { return timed[x.Crew] }, 1.001); len(found) > 0 {
			return found[0].Place
		}
		return timing.Place{}
	}
	left := slices.DeleteFunc(slices.Clone(all), func(c timing.Candidate) bool { return timed[c.Place.Crew] })
	if len(left) == 0 {
		return timing.Place{}
	}
	if p == Random {
		return left[r.IntN(len(left))].Place
	}
	width := func(c timing.Candidate) float64 {
		x, err := m.Predict(shot, c.Place, nil, "", false)
		if err != nil {
			return math.Inf(1)
		}
		return x.High / x.Low
	}
	return slices.MaxFunc(left, func(a, b timing.Candidate) int { return cmp.Compare(width(a), width(b)) }).Place
}

// best is how many frames an hour the crews render that divide the host best by what they are thought to take; they take what is
// true, if that is given.
func (s Series) best(all []timing.Candidate, thought, is func(timing.Place) float64) (sum float64) {
	var options []timing.Option
	var ids []string
	for _, c := range all {
		devices := strings.Split(c.Place.Crew, "+")
		if len(devices) == 1 {
			ids = append(ids, devices[0])
		}
		if t := thought(c.Place); !math.IsInf(t, 1) {
			options = append(options, timing.Option{Crew: c.Place.Crew, Devices: devices, Parts: timing.Parts{Work: t}})
		}
	}
	ways := timing.Divide(options, ids, func(id string) string { return id }, timing.Limits{Renderers: all[0].AtOnce, Cores: 999}, 1)
	if is == nil {
		is = thought
	}
	for _, crew := range ways[0].Crews {
		at := slices.IndexFunc(all, func(c timing.Candidate) bool { return c.Place.Crew == crew })
		sum += 1 / is(all[at].Place)
	}
	return sum
}

// Print prints a table in Markdown.
func (l Losses) Print(w io.Writer) {
	_, _ = fmt.Fprint(w, "\n| a frame costs, over what it does for one who knows everything |")
	for _, n := range After {
		_, _ = fmt.Fprintf(w, " after %d: mean, worst of twenty |", n)
	}
	_, _ = fmt.Fprint(w, "\n|---|---:|---:|---:|---:|\n")
	for _, p := range Policies {
		_, _ = fmt.Fprintf(w, "| %s |", p)
		for _, n := range After {
			all, sum := slices.Sorted(slices.Values(l[p][n])), 0.0
			for _, x := range all {
				sum += x / float64(len(all))
			}
			_, _ = fmt.Fprintf(w, " %.3f, %.2f |", sum, all[len(all)*19/20])
		}
		_, _ = fmt.Fprintln(w)
	}
}
