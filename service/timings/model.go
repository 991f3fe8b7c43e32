package timings

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gonum.org/v1/gonum/stat"

	"rotanex.example/core/memory"
	"rotanex.example/core/timing"
	"rotanex.example/service/loops"
	"rotanex.example/service/shots"
)

// Knowledge is the timed frames with the model that was fitted to them. It does not
// change.
type Knowledge struct {
	Model    *timing.Model // nil where nothing was timed
	Rows     []Row
	openings timing.Openings
	asked    atomic.Int64 // nanoseconds for which the model was asked
}

// kept is the last knowledge and what it is of.
type kept struct {
	mu      sync.Mutex
	taken   taken
	all     *Knowledge
	of      fitted
	took    time.Duration // that fitting took
	fitting bool          // it is being fitted anew beside requests
}

// fitted is what knowledge is of.
type fitted struct {
	stock, others  string    // what it rests on beside tries
	tries, ofTrial int       // so many times were taken in by then
	at, wall       time.Time // when it was fitted, by the service's clock and in real time
}

// lag is for how long, by the service's clock, knowledge is used while frames of runs come in: the model is fitted anew no more often
// than that for their sake. In real time it is used for lagTimes as long as it took to learn it and to be asked: so that costs a small part
// of one core, however large the house and however fast the clock.
const lag, lagTimes = 10 * time.Second, 20

// slow is how long a request waits at most for frames of runs to be taken in: where it takes longer it is answered by what was known.
const slow = 200 * time.Millisecond

// longest is how long taking them in may take beside requests.
const longest = 5 * time.Minute

// Know returns what the timed frames say. Frames that were finished since are taken in, and the model is fitted to them at once if
// they are of trials, or else where that was not done only just now: beside the request where it takes long.
func (t *Timings) Know(ctx context.Context) (*Knowledge, error) {
	k := &t.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	stock, others, err := t.state(ctx)
	if err != nil {
		return nil, err
	}
	if k.of.stock != stock || k.taken.groups == nil {
		k.taken, k.of.stock, k.all = newTaken(newest), stock, nil
	}
	if err := t.catchUp(ctx, &k.taken); err != nil {
		return nil, err
	}
	now := fitted{stock, others, k.taken.all, k.taken.trials, t.clock.Now(), t.clock.WallNow()}
	onlyRuns := k.all != nil && k.of.others == others && k.of.ofTrial == now.ofTrial
	age, wallAge := now.at.Sub(k.of.at), now.wall.Sub(k.of.wall)
	if onlyRuns && (k.of.tries == now.tries || age > 0 && age < lag || wallAge > 0 && wallAge < lagTimes*k.cost()) {
		return k.all, nil // of a clock that stands nothing is kept
	}
	if onlyRuns && k.took > slow {
		if !k.fitting {
			k.fitting = true
			go t.takeIn(context.WithoutCancel(ctx), k.all, k.taken.list(), now)
		}
		return k.all, nil
	}
	all, took, err := t.know(ctx, k.all, k.taken.list())
	if err == nil {
		k.all, k.took, k.of = all, took, now
	}
	return all, err
}

// cost is how long it took to learn what is known, and to ask for it so far.
func (k *kept) cost() time.Duration {
	if k.all == nil {
		return 0
	}
	return k.took + time.Duration(k.all.asked.Load())
}

// takeIn fits the model anew beside requests, and keeps it unless something else came meanwhile.
func (t *Timings) takeIn(ctx context.Context, before *Knowledge, rows []Row, of fitted) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	var all *Knowledge
	var took time.Duration
	err := loops.Safely(func() (err error) {
		all, took, err = t.know(ctx, before, rows)
		return err
	})
	k := &t.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	k.fitting = false
	if err != nil {
		slog.ErrorContext(ctx, "timed frames could not be taken in; it is tried again", "error", err)
		return
	}
	if k.all == before {
		k.all, k.took, k.of = all, took, of
	}
}

// know is what timed frames say, with the times that were imported, and how long it took to learn it. What was known before is gone
// on from; nil is nothing.
func (t *Timings) know(ctx context.Context, before *Knowledge, rows []Row) (*Knowledge, time.Duration, error) {
	imported, err := t.imported(ctx, "")
	if err != nil {
		return nil, 0, err
	}
	began := t.clock.WallNow()
	var model *timing.Model
	if before != nil {
		model = before.Model
	}
	rows = append(rows, usable(ctx, imported)...)
	k := &Knowledge{Rows: rows}
	times := make([]timing.Time, len(rows))
	for i, r := range rows {
		times[i] = r.Time
		k.openings.Add(r.Subject(), r.Host, r.Crew(), r.Measured.OpeningS, r.Seconds)
	}
	if observed, _ := timing.Observe(times); len(observed) > 0 {
		// Without a model what was timed is still known; what was not is not predicted.
		err := loops.Safely(func() (err error) {
			k.Model, err = timing.Refit(observed, model)
			return err
		})
		if err != nil {
			k.Model = nil
			slog.ErrorContext(ctx, "the timing model could not be fitted", "error", err)
		}
	}
	return k, t.clock.WallNow().Sub(began), nil
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

// Estimate says what a typical frame of the shot takes at a place, with its part of opening
// the scene, and on what little that rests, if it does; an error says why nothing can be said.
func (k *Knowledge) Estimate(shot shots.Shot, place timing.Place) (timing.Estimate, timing.Prediction, error) {
	if k.Model == nil {
		return timing.Estimate{}, timing.Prediction{}, fmt.Errorf("no frame was timed yet")
	}
	subject := Subject(shot)
	if why := k.Model.Unknown(subject, place); why != "" {
		return timing.Estimate{}, timing.Prediction{}, fmt.Errorf("%s", why)
	}
	began := time.Now()
	p, err := k.Model.Predict(subject, place, k.Model.Parts(subject), "", false)
	k.asked.Add(int64(time.Since(began)))
	if err != nil {
		return timing.Estimate{}, p, err
	}
	e := timing.Estimate{Seconds: p.Seconds, Low: p.Low, High: p.High, Basis: timing.Predicted}
	if slices.ContainsFunc(k.Rows, func(r Row) bool {
		return !r.WarmUp && r.Host == place.Host && r.Crew() == place.Crew && r.Shot == shot.Name && r.Subject() == subject
	}) {
		e.Basis = timing.Measured
	}
	return e.Sharing(k.openings.Of(subject, place.Host, place.Crew, e.Seconds), shot.FrameCount), p, nil
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
