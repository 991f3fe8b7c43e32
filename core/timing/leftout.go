package timing

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
)

// LeftOut is what the model says of an observation that it was not shown.
type LeftOut struct {
	Prediction
	Why string // nothing can be said, or ""
}

// LeaveOut predicts every observation from all the others, each as one frame: the
// honest test of the model on the data at hand. It calls progress, which may be
// nil, with how many are done, from several goroutines. It stops when ctx ends.
func LeaveOut(ctx context.Context, observed []Observation, progress func(int)) ([]LeftOut, error) {
	whole, err := Fit(observed)
	if err != nil {
		return nil, err
	}
	out := make([]LeftOut, len(observed))
	errs := make([]error, len(observed))
	var next, done atomic.Int64
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(observed) && ctx.Err() == nil; i = int(next.Add(1)) - 1 {
				out[i], errs[i] = leaveOut(observed, i, whole)
				if n := int(done.Add(1)); progress != nil {
					progress(n)
				}
			}
		})
	}
	workers.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// manyRows is how many are so many that one more or less says nothing of the spreads.
const manyRows = 100

// anybodysGuess is how many times the low end of an interval its high end may be
// before it says nothing.
const anybodysGuess = 6

func leaveOut(observed []Observation, i int, whole *Model) (LeftOut, error) {
	o := observed[i]
	rest := slices.Delete(slices.Clone(observed), i, i+1)
	if len(rest) == 0 {
		return LeftOut{Why: "there is no other row"}, nil
	}
	rounds := 1 // the spreads are nearly right already
	if len(rest) > manyRows {
		rounds = 0 // and one row among many does not move them
	}
	m, err := fit(rest, whole, rounds)
	if err != nil {
		return LeftOut{}, err
	}
	if why := m.Unknown(o.Subject, o.Place); why != "" {
		return LeftOut{Why: why}, nil
	}
	if len(o.Place.Members) > 1 && !m.KnowsScaling() {
		return LeftOut{Why: m.Scaling(o.Subject)}, nil
	}
	p, err := m.Predict(o.Subject, o.Place, []string{o.Part}, o.Condition, true)
	if err == nil && !p.Certain(anybodysGuess) {
		return LeftOut{Why: fmt.Sprintf("the rest only says from %.3g to %.3g s: too little ties this crew to what was timed", p.Low, p.High)}, nil
	}
	return LeftOut{Prediction: p}, err
}
