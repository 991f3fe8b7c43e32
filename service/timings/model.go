package timings

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"

	"gonum.org/v1/gonum/stat"

	"rotanex.example/core/memory"
	"rotanex.example/core/timing"
	"rotanex.example/service/loops"
	"rotanex.example/service/shots"
)

// Knowledge is the timed frames with the model that was fitted to them. It does not
// change.
type Knowledge struct {
	Model *timing.Model // nil where nothing was timed
	Rows  []Row
}

// kept is the last knowledge and what it is of.
type kept struct {
	mu  sync.Mutex
	of  string
	all *Knowledge
}

// Know returns what the timed frames say. It is fitted anew only when there are new
// ones.
func (t *Timings) Know(ctx context.Context) (*Knowledge, error) {
	t.kept.mu.Lock()
	defer t.kept.mu.Unlock()
	of, err := t.state(ctx)
	if err != nil || t.kept.all != nil && t.kept.of == of {
		return t.kept.all, err
	}
	rows, err := t.Rows(ctx, "")
	if err != nil {
		return nil, err
	}
	k := &Knowledge{Rows: rows}
	times := make([]timing.Time, len(rows))
	for i, r := range rows {
		times[i] = r.Time
	}
	if observed, _ := timing.Observe(times); len(observed) > 0 {
		// Without a model what was timed is still known; what was not is not predicted.
		err := loops.Safely(func() (err error) {
			k.Model, err = timing.Fit(observed)
			return err
		})
		if err != nil {
			k.Model = nil
			slog.ErrorContext(ctx, "the timing model could not be fitted", "error", err)
		}
	}
	t.kept.of, t.kept.all = of, k
	return k, nil
}

// Subject is the name under which a shot, with its settings as they are now, stands in
// the model.
func Subject(shot shots.Shot) string {
	return timing.Time{Shot: shot.Name, Settings: shots.Settings(shot.Spec)}.Subject()
}

// Of returns the rows of a shot with its settings as they are now, warm-ups left out.
func (k *Knowledge) Of(shot shots.Shot) []Row {
	subject := Subject(shot)
	var out []Row
	for _, r := range k.Rows {
		if !r.WarmUp && r.Shot == shot.Name && r.Subject() == subject {
			out = append(out, r)
		}
	}
	return out
}

// Estimate says what a typical frame of the shot takes at a place, and on what little
// that rests, if it does; an error says why nothing can be said.
func (k *Knowledge) Estimate(shot shots.Shot, place timing.Place) (timing.Estimate, timing.Prediction, error) {
	if k.Model == nil {
		return timing.Estimate{}, timing.Prediction{}, fmt.Errorf("no frame was timed yet")
	}
	subject := Subject(shot)
	if why := k.Model.Unknown(subject, place); why != "" {
		return timing.Estimate{}, timing.Prediction{}, fmt.Errorf("%s", why)
	}
	p, err := k.Model.Predict(subject, place, k.Model.Parts(subject), "", false)
	if err != nil {
		return timing.Estimate{}, p, err
	}
	e := timing.Estimate{Seconds: p.Seconds, Low: p.Low, High: p.High, Basis: timing.Predicted}
	if slices.ContainsFunc(k.Rows, func(r Row) bool {
		return !r.WarmUp && r.Host == place.Host && r.Crew() == place.Crew && r.Shot == shot.Name && r.Subject() == subject
	}) {
		e.Basis = timing.Measured
	}
	return e, p, nil
}

// Need returns what the shot's frames need of memory: as declared, corrected by what
// was observed with its settings as they are now.
func (t *Timings) Need(ctx context.Context, shot shots.Shot) (memory.Need, error) {
	n := shots.Need(shot.Spec)
	seen, err := t.peaks(ctx, shot.Name)
	if err != nil {
		return n, err
	}
	now := shots.Settings(shot.Spec)
	var ranOut memory.Bytes
	for _, s := range seen {
		if !sameSettings(shots.Settings(s.Spec), now) {
			continue
		}
		peak := memory.Bytes(s.Device)
		switch {
		case s.Outcome == "done":
			n.HostObserved = max(n.HostObserved, memory.Bytes(s.Host))
			n.Observed = max(n.Observed, peak)
		default:
			ranOut = max(ranOut, peak)
		}
	}
	if ranOut > n.Observed {
		n.Observed, n.AtLeast = ranOut, true
	}
	return n, nil
}

func sameSettings(a, b map[string]string) bool {
	return timing.Time{Settings: a}.Subject() == timing.Time{Settings: b}.Subject()
}

// Ratios returns the times of a shot's frames, each as a part of what is usual on
// its crew: of how single frames differ, wherever they were rendered. A crew on
// which fewer than three frames were timed says nothing of that.
func (k *Knowledge) Ratios(shot string) []float64 {
	if k == nil {
		return nil
	}
	byCrew := map[string][]float64{}
	var order []string
	for _, r := range k.Rows {
		if r.Shot != shot || r.Warm || r.WarmUp || r.Seconds <= 0 {
			continue
		}
		key := r.Host + "/" + strings.Join(r.Devices, "+") + fmt.Sprint(r.Settings)
		if byCrew[key] == nil {
			order = append(order, key)
		}
		byCrew[key] = append(byCrew[key], r.Seconds)
	}
	var out []float64
	for _, key := range order {
		list := byCrew[key]
		if len(list) < 3 {
			continue
		}
		mean := stat.Mean(list, nil)
		for _, s := range list {
			out = append(out, s/mean)
		}
	}
	return out
}
