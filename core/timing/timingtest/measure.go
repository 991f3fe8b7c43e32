package timingtest

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"rotanex.example/core/timing"
)

// Tally is how predictions went.
type Tally struct {
	All, Held int       // that were made, and whose interval holds what is true
	FarSure   int       // off by more than 30 %, and outside their interval
	Silent    int       // where nothing was said
	Off       []float64 // by which share each is off
	Width     []float64 // high over low, of each
}

func (t *Tally) add(p timing.Prediction, is float64) {
	off := math.Abs(p.Seconds/is - 1)
	held := p.Low <= is && is <= p.High
	t.All++
	t.Off, t.Width = append(t.Off, off), append(t.Width, p.High/p.Low)
	if held {
		t.Held++
	} else if off > 0.3 {
		t.FarSure++
	}
}

// Plus adds another one.
func (t *Tally) Plus(o Tally) {
	t.All, t.Held, t.FarSure, t.Silent = t.All+o.All, t.Held+o.Held, t.FarSure+o.FarSure, t.Silent+o.Silent
	t.Off, t.Width = append(t.Off, o.Off...), append(t.Width, o.Width...)
}

// Coverage is the part of the intervals that hold what is true.
func (t Tally) Coverage() float64 { return float64(t.Held) / float64(max(1, t.All)) }

// Median is the middle of values; 0 without any.
func Median(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	s := slices.Sorted(slices.Values(values))
	return s[len(s)/2]
}

// Results are tallies by what was asked and the kind of scene that it was asked of.
type Results map[Question]map[Kind]Tally

// Question is what was asked of the model.
type Question string

// What is asked.
const (
	LeftOut       Question = "each row left out, the series alone"
	LeftOutOfAll  Question = "each row left out, all series together"
	OneTimed      Question = "a new shot, one GPU timed, others known"
	OneTimedAlone Question = "a new shot, one GPU timed, nothing else known"
	TwoTimed      Question = "a new shot, one GPU and all GPUs timed, others known"
)

// Questions lists them.
var Questions = []Question{LeftOut, LeftOutOfAll, OneTimedAlone, OneTimed, TwoTimed}

// Measure makes so many series of each kind and asks some questions of them.
func Measure(ctx context.Context, seed uint64, each int, ask []Question, said func(done, all int)) (Results, error) {
	out, done := Results{}, 0
	for _, q := range ask {
		out[q] = map[Kind]Tally{}
	}
	var one sync.Mutex
	add := func(q Question, k Kind, t Tally) {
		one.Lock()
		defer one.Unlock()
		sum := out[q][k]
		sum.Plus(t)
		out[q][k] = sum
	}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	histories := make([]history, (len(Kinds)*each+5)/6)
	for n := range len(Kinds) * each {
		kind := Kinds[n%len(Kinds)]
		r := rand.New(rand.NewPCG(seed, uint64(n)))
		series := Make(r, fmt.Sprint("s", n), kind, 1+n/len(Kinds)%4, n/len(Kinds)%3)
		rows := series.timed(r, 0.35)
		histories[n/6].add(series, rows)
		group.Go(func() error {
			if slices.Contains(ask, LeftOut) {
				if err := leftOut(within, series, rows, func(k Kind, t Tally) { add(LeftOut, k, t) }); err != nil {
					return err
				}
			}
			if err := newShot(r, kind, n, ask, add); err != nil {
				return err
			}
			one.Lock()
			defer one.Unlock()
			done++
			said(done, len(Kinds)*each)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return out, err
	}
	for _, h := range histories {
		if !slices.Contains(ask, LeftOutOfAll) {
			break
		}
		if err := h.leftOut(ctx, func(k Kind, t Tally) { add(LeftOutOfAll, k, t) }); err != nil {
			return out, err
		}
	}
	return out, nil
}

// timed times every shot on crews, of which some are left out.
func (s Series) timed(r *rand.Rand, holes float64) (out []timing.Observation) {
	for _, shot := range s.Shots {
		for _, p := range s.Every {
			if r.Float64() >= holes {
				out = append(out, s.Time(r, shot, p))
			}
		}
	}
	return out
}

func leftOut(ctx context.Context, s Series, rows []timing.Observation, add func(Kind, Tally)) error {
	h := history{}
	h.add(s, rows)
	return h.leftOut(ctx, add)
}

// history is several series that one model learns from.
type history struct {
	rows  []timing.Observation
	kinds []Kind
}

func (h *history) add(s Series, rows []timing.Observation) {
	for _, o := range rows {
		h.rows, h.kinds = append(h.rows, o), append(h.kinds, s.truth[o.Subject].kind)
	}
}

func (h *history) leftOut(ctx context.Context, add func(Kind, Tally)) error {
	if len(h.rows) == 0 {
		return nil
	}
	all, err := timing.LeaveOut(ctx, h.rows, nil)
	if err != nil {
		return err
	}
	for i, l := range all {
		t := Tally{}
		if l.Why != "" {
			t.Silent++
		} else {
			t.add(l.Prediction, h.rows[i].Seconds)
		}
		add(h.kinds[i], t)
	}
	return nil
}

// Known makes a new shot on a host where three others of any kind were timed, on crews of which some are left out.
func Known(r *rand.Rand, kind Kind, n, gpus int) (fresh Series, known []timing.Observation) {
	fresh = Make(r, fmt.Sprint("new", n), kind, gpus, 0)
	others := fresh
	others.Shots, others.truth = []string{"known-1", "known-2", "known-3"}, map[string]scene{}
	for _, shot := range others.Shots {
		others.truth[shot] = makeScene(r, Kinds[r.IntN(len(Kinds))], fresh.rig)
	}
	return fresh, others.timed(r, 0.4)
}

// newShot asks for every crew of a shot of which one or two were timed, where three others of any kind were, or nothing else.
func newShot(r *rand.Rand, kind Kind, n int, ask []Question, add func(Question, Kind, Tally)) error {
	gpus := 2 + r.IntN(3)
	s, known := Known(r, kind, n, gpus)
	backend := s.Every[0].Backend
	var single, all timing.Place
	for _, p := range s.Every {
		n, cpu := 0, false
		for _, m := range p.Members {
			if m.CPU {
				cpu = true
			} else {
				n++
			}
		}
		if p.Backend == backend && !cpu && n == 1 && p.Crew == "g0" {
			single = p
		}
		if p.Backend == backend && !cpu && n == gpus {
			all = p
		}
	}
	shot := s.Shots[0]
	first, second := s.Time(r, shot, single), s.Time(r, shot, all)
	for q, rows := range map[Question][]timing.Observation{OneTimedAlone: {first}, OneTimed: append(slices.Clone(known), first), TwoTimed: append(slices.Clone(known), first, second)} {
		if !slices.Contains(ask, q) {
			continue
		}
		m, err := timing.Fit(rows)
		if err != nil {
			return err
		}
		t := Tally{}
		for _, p := range s.Every {
			if slices.ContainsFunc(rows, func(o timing.Observation) bool {
				return o.Subject == shot && o.Place.Crew == p.Crew && o.Place.Backend == p.Backend
			}) || m.Unknown(shot, p) != "" {
				continue
			}
			prediction, err := m.Predict(shot, p, nil, "", false)
			if err != nil {
				return err
			}
			t.add(prediction, s.Truth(shot, p))
		}
		add(q, kind, t)
	}
	return nil
}

// Print prints a table for each question, in Markdown.
func (r Results) Print(w io.Writer) {
	for _, q := range Questions {
		if r[q] == nil {
			continue
		}
		_, _ = fmt.Fprintf(w, "\n| %s | predictions | interval holds | off by, median | 9 of 10 | interval, high over low | off by more than 30 %% and sure | nothing said |\n|---|---:|---:|---:|---:|---:|---:|---:|\n", q)
		var all Tally
		line := func(name string, t Tally) {
			s := slices.Sorted(slices.Values(t.Off))
			nine := 0.0
			if len(s) > 0 {
				nine = s[len(s)*9/10]
			}
			_, _ = fmt.Fprintf(w, "| %s | %d | %.1f %% | %.1f %% | %.1f %% | %.2f | %d | %d |\n", name, t.All, 100*t.Coverage(), 100*Median(t.Off), 100*nine, Median(t.Width), t.FarSure, t.Silent)
		}
		for _, k := range Kinds {
			line(string(k), r[q][k])
			all.Plus(r[q][k])
		}
		line("**all**", all)
	}
}
