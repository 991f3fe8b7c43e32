package bench

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Line is one thing that was asked for, and what was found.
type Line struct {
	What  string
	Asked string
	Found string
	Short bool // missed by more than rounds differ among themselves
}

// atLeast and atMost make lines of what was found in several rounds.
func atLeast(what string, asked float64, found []float64) Line {
	mid, off := median(found), spread(found)
	return Line{what, fmt.Sprintf("at least %.2f", asked), fmt.Sprintf("%.2f ± %.2f", mid, off), mid+off < asked}
}

func atMost(what, unit string, asked float64, found []float64) Line {
	mid, off := median(found), spread(found)
	return Line{what, strings.TrimSpace("at most " + short(asked) + " " + unit), strings.TrimSpace(short(mid) + " ± " + short(off) + " " + unit), mid-off > asked}
}

// short writes a number with three digits, or whole.
func short(x float64) string {
	if x >= 100 {
		return strconv.FormatFloat(x, 'f', 0, 64)
	}
	return strconv.FormatFloat(x, 'g', 3, 64)
}

// spread is half of what rounds differ by.
func spread(all []float64) float64 { return (quantile(all, 1) - quantile(all, 0)) / 2 }

// Queue measures how frames are leased and handed in.
func Queue(ctx context.Context, c Config) (lines []Line, err error) {
	w, err := open(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	for _, part := range []struct {
		name    string
		measure func(context.Context) ([]Line, error)
	}{{"sizes", w.sizes}, {"waiting", w.waiting}, {"paced", w.paced}} {
		if c.Only != "" && c.Only != part.name {
			continue
		}
		found, err := part.measure(ctx)
		lines = append(lines, found...)
		if err != nil {
			return lines, err
		}
	}
	return lines, nil
}

// made starts a service over a database with a run.
func (w *world) made(ctx context.Context, name string, variables map[string]any) (*house, error) {
	h, err := w.start(ctx, name)
	if err != nil {
		return nil, err
	}
	return h, h.fill(ctx, variables)
}

// speed is how many frames a second the rendering hosts hand in that take no time to render them.
func (h *house) speed(ctx context.Context) (float64, error) {
	g, err := h.gather(ctx, 1, h.Agents, 0)
	if err != nil {
		return 0, err
	}
	rest(ctx, 3*time.Second) // until it runs evenly
	service, database := h.used()
	before, began := g.frames.Load(), time.Now()
	rest(ctx, h.For)
	took := time.Since(began).Seconds()
	speed := float64(g.frames.Load()-before) / took
	s, d := h.used()
	err = g.end()
	h.say("  %s: %.0f frames/s, with %.2f cores of the service and %.2f of PostgreSQL", h.name, speed, (s-service)/took, (d-database)/took)
	return speed, err
}

// sizes compares runs of several sizes, each in turn in every round.
func (w *world) sizes(ctx context.Context) ([]Line, error) {
	w.say("frames a second by %d agents whose frames take no time", w.Agents)
	small := min(w.Frames, 6000*max(1, int(w.For.Seconds())*w.Rounds*400/6000+1))
	var houses []*house
	for _, one := range []struct {
		name      string
		variables map[string]any
	}{
		{"small", map[string]any{"frames": small}},
		{"large", nil},
		{"behind", map[string]any{"frames": small, "ended": w.Ended}},
		{"helpers", map[string]any{"booked": 0}},
	} {
		h, err := w.made(ctx, one.name, one.variables)
		if err != nil {
			return nil, err
		}
		houses = append(houses, h)
	}
	speeds := make([][]float64, len(houses)+1)
	for round := range w.Rounds {
		w.say("round %d of %d", round+1, w.Rounds)
		for i, h := range houses {
			speed, err := h.speed(ctx)
			if err != nil {
				return nil, err
			}
			speeds[i] = append(speeds[i], speed)
		}
		alone, err := houses[1].alone(ctx)
		if err != nil {
			return nil, err
		}
		speeds[len(houses)] = append(speeds[len(houses)], alone)
	}
	return []Line{
		atLeast(fmt.Sprintf("frames/s in a run of %d / of %d", w.Frames, small), 0.9, ratios(speeds[1], speeds[0])),
		atLeast(fmt.Sprintf("with %d ended runs behind it / without", w.Ended), 0.9, ratios(speeds[2], speeds[0])),
		atLeast("every crew past its own booking / booked", 0.9, ratios(speeds[3], speeds[1])),
		atLeast(fmt.Sprintf("against pgbench with the same statements, at %d frames", w.Frames), 0.6, ratios(speeds[1], speeds[4])),
	}, nil
}

func ratios(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] / b[i]
	}
	return out
}

// cores is how many the service and PostgreSQL use now.
func (h *house) cores(ctx context.Context) [2]float64 {
	service, database := h.used()
	began := time.Now()
	rest(ctx, h.For)
	took := time.Since(began).Seconds()
	s, d := h.used()
	return [2]float64{(s - service) / took, (d - database) / took}
}

// waiting compares the rendering agents alone with the same and many beside them that wait.
func (w *world) waiting(ctx context.Context) ([]Line, error) {
	w.say("%d agents that wait beside %d that render", w.Idle, w.Agents)
	h, err := w.made(ctx, "waiting", nil)
	if err != nil {
		return nil, err
	}
	var ratio, cores []float64
	for range w.Rounds {
		before, err := h.speed(ctx)
		if err != nil {
			return nil, err
		}
		// What the service does after frames were done, such as small pictures, is no cost of those that wait.
		rest(ctx, 2*beats)
		alone := h.cores(ctx)
		idle, err := h.gather(ctx, h.Agents+1, h.Agents+h.Idle, 0)
		if err != nil {
			return nil, err
		}
		rest(ctx, 2*beats)
		with := h.cores(ctx)
		cores = append(cores, with[0]+with[1]-alone[0]-alone[1])
		h.say("  waiting: %.2f cores of the service and %.2f of PostgreSQL; without them %.2f and %.2f", with[0], with[1], alone[0], alone[1])
		after, err := h.speed(ctx)
		if err != nil {
			return nil, err
		}
		if err := idle.end(); err != nil {
			return nil, err
		}
		ratio = append(ratio, after/before)
	}
	return []Line{
		atLeast(fmt.Sprintf("frames/s with %d agents waiting / alone", w.Idle), 0.8, ratio),
		atMost(fmt.Sprintf("%d agents waiting cost", w.Idle), "cores", 0.25, cores),
	}, nil
}

// paced has crews render frames of ten seconds.
func (w *world) paced(ctx context.Context) ([]Line, error) {
	crews := min(330, w.Agents+w.Idle)
	w.say("%d crews with frames of 10 s", crews)
	h, err := w.made(ctx, "paced", map[string]any{"rendering": crews})
	if err != nil {
		return nil, err
	}
	g, err := h.gather(ctx, 1, crews, 10*time.Second)
	if err != nil {
		return nil, err
	}
	rest(ctx, max(20*time.Second, 2*h.For))
	if err := g.end(); err != nil {
		return nil, err
	}
	idle := 0.0
	for _, i := range g.idle {
		idle += i / float64(len(g.idle))
	}
	return []Line{
		atMost("from a frame rendered until its crew has the next, median", "ms", 20, []float64{1000 * median(g.idle)}),
		atMost("the same, 99 in 100", "ms", 150, []float64{1000 * quantile(g.idle, 0.99)}),
		atMost("a crew idle between frames of 10 s", "%", 1, []float64{100 * idle / 10}),
	}, nil
}

//go:embed frame.sql
var statements string // of one frame's life, as the service says them

var tps = regexp.MustCompile(`tps = ([0-9.]+)`)

// alone is how many frames' worth of statements PostgreSQL does in a second by itself, on the same database, with as many
// connections as the service has.
func (h *house) alone(ctx context.Context) (float64, error) {
	run, err := sql(ctx, h.database, "SELECT id FROM runs WHERE state = 'running';", nil)
	if err != nil {
		return 0, err
	}
	script := filepath.Join(h.State, "frame.sql")
	if err := os.WriteFile(script, []byte(statements), 0o600); err != nil {
		return 0, err
	}
	said, err := program(ctx, nil, "pgbench", "-n", "-M", "prepared", "-c", "24", "-j", "2", "-T", strconv.Itoa(max(1, int(h.For.Seconds()))),
		"-D", "run="+run[:36], "-D", "agents="+strconv.Itoa(h.Agents/24*24), "-f", script, h.database)
	if err != nil {
		return 0, err
	}
	m := tps.FindStringSubmatch(said)
	if m == nil {
		return 0, fmt.Errorf("pgbench said %q", said)
	}
	speed, err := strconv.ParseFloat(m[1], 64)
	h.say("  PostgreSQL alone: %.0f frames/s", speed)
	return speed, err
}
