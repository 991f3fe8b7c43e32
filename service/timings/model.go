package timings

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
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
}

// kept is the last knowledge and what it is of.
type kept struct {
	mu    sync.Mutex
	taken taken
	all   *Knowledge

	stock, others   string    // what it rests on beside tries
	ofAll, ofTrials int       // so many times were taken in by then
	at              time.Time // when it was fitted, by the service's clock
}

// lag is for how long, by the service's clock, knowledge is used while frames of runs come in: the model is fitted anew no more often
// than that for their sake.
const lag = 10 * time.Second

// Know returns what the timed frames say. Frames that were finished since are taken in, and the model is fitted to them at once if
// they are of trials, or else where that was not done only just now.
func (t *Timings) Know(ctx context.Context) (*Knowledge, error) {
	k := &t.kept
	k.mu.Lock()
	defer k.mu.Unlock()
	stock, others, err := t.state(ctx)
	if err != nil {
		return nil, err
	}
	if k.stock != stock || k.taken.groups == nil {
		k.taken, k.stock, k.all = newTaken(newest), stock, nil
	}
	if err := t.catchUp(ctx, &k.taken); err != nil {
		return nil, err
	}
	now := t.clock.Now()
	if age := now.Sub(k.at); k.all != nil && k.others == others && k.ofTrials == k.taken.trials && (k.ofAll == k.taken.all || age > 0 && age < lag) {
		return k.all, nil // of a clock that stands nothing is kept
	}
	all, err := t.know(ctx, k.taken.list())
	if err == nil {
		k.all, k.others, k.ofAll, k.ofTrials, k.at = all, others, k.taken.all, k.taken.trials, now
	}
	return all, err
}

// know is what timed frames say, with the times that were imported.
func (t *Timings) know(ctx context.Context, rows []Row) (*Knowledge, error) {
	imported, err := t.imported(ctx, "")
	if err != nil {
		return nil, err
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
			k.Model, err = timing.Fit(observed)
			return err
		})
		if err != nil {
			k.Model = nil
			slog.ErrorContext(ctx, "the timing model could not be fitted", "error", err)
		}
	}
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
