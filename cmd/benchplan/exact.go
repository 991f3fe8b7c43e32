package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// The exact check shares nothing with the planner: each problem is written as a mixed integer programme in the LP format, and solved by
// Debian's coinor-cbc. That is exact for problems in which every machine's crews neither share devices nor want for host memory, without
// licences and inputs, and with either a single shot, or shots that are all ready at the start and need no upload: then each crew
// renders its frames by their deadlines, first those that are due first, and they fit if they do up to each deadline.

// programme is what is written to the solver.
type programme struct {
	objective []string
	rows      []string
	whole     []string
}

func (m *programme) cost(v float64, name string) {
	m.objective = append(m.objective, fmt.Sprintf("+ %.12f %s", v, name))
}

func (m *programme) row(terms []string, is string, rhs float64) {
	if len(terms) > 0 {
		m.rows = append(m.rows, fmt.Sprintf("%s %s %.6f", strings.Join(terms, " "), is, rhs))
	}
}

func term(v float64, name string) string { return fmt.Sprintf("%+.6f %s", v, name) }

// String is the programme in the LP format.
func (m *programme) String() string {
	var b strings.Builder
	b.WriteString("Minimize\n obj: " + strings.Join(m.objective, "\n ") + "\nSubject To\n")
	for i, r := range m.rows {
		fmt.Fprintf(&b, " r%d: %s\n", i, r)
	}
	b.WriteString("General\n " + strings.Join(m.whole, "\n ") + "\nEnd\n")
	return b.String()
}

// seconds are those of a time.
func seconds(m planning.Millis) float64 { return float64(m) / 1000 }

// frames adds what a crew may render between two times, by each deadline, and returns the time that takes.
func (m *programme) frames(p planning.Problem, name string, rows []planning.Timing, start, end planning.Millis, cost func(planning.Timing) float64, source string, by map[string][]string) (time []string, longest float64) {
	type due struct {
		at  planning.Millis
		use string
	}
	var all []due
	for i, t := range rows {
		at := min(end, deadline(p, t.Shot)-p.Delivery(t.Shot, source))
		if at-start < t.Frame {
			continue
		}
		n := fmt.Sprintf("%s_%d", name, i)
		m.whole = append(m.whole, n)
		by[t.Shot] = append(by[t.Shot], "+ "+n)
		if c := cost(t); c > 0 {
			m.cost(c, n)
		}
		all = append(all, due{at, term(seconds(t.Frame), n)})
	}
	slices.SortStableFunc(all, func(a, b due) int { return int(a.at - b.at) })
	for i, d := range all {
		time = append(time, d.use)
		if longest = seconds(d.at - start); i+1 == len(all) || all[i+1].at > d.at {
			m.row(time, "<=", longest)
		}
	}
	return time, longest
}

func deadline(p planning.Problem, shot string) planning.Millis {
	return p.Shots[slices.IndexFunc(p.Shots, func(s planning.Shot) bool { return s.ID == shot })].Deadline
}

// programmeOf writes a problem as a mixed integer programme.
func programmeOf(p planning.Problem) *programme {
	m, by := &programme{}, map[string][]string{}
	rows := func(of planning.Timing) (out []planning.Timing) {
		for _, t := range p.Timings {
			if shot, frame := t.Shot, t.Frame; (planning.Timing{Shot: shot, Host: of.Host, Offer: of.Offer, Farm: of.Farm, Crew: of.Crew, Frame: frame}) == t {
				out = append(out, t)
			}
		}
		return out
	}
	ready := p.Shots[0].Ready // of a single shot; of several it is 0
	for i, h := range p.Hosts {
		for k, c := range h.Crews {
			price := c.BusyPrice.Float() / 3600
			for w, open := range h.Windows {
				m.frames(p, fmt.Sprintf("h%d_%d_%d", i, k, w), rows(planning.Timing{Host: h.ID, Crew: c.ID}), max(open[0], ready), open[1], func(t planning.Timing) float64 { return price * seconds(t.Frame) }, "", by)
			}
		}
	}
	for i, o := range p.Offers {
		for n := range o.MaxServers {
			m.server(p, o, fmt.Sprintf("s%d_%d", i, n), max(o.Lead, ready+upload(p, o.Source)), rows, by)
			if n > 0 { // servers of an offer are alike
				m.row([]string{fmt.Sprintf("+ s%d_%db - s%d_%db", i, n-1, i, n)}, ">=", 0)
			}
		}
	}
	for i, f := range p.Farms {
		for k, t := range rows(planning.Timing{Farm: f.ID}) {
			room := deadline(p, t.Shot) - p.Delivery(t.Shot, f.Source) - max(f.Lead, ready+upload(p, f.Source))
			if room < t.Frame {
				continue
			}
			n, used, charge := fmt.Sprintf("f%d_%d", i, k), fmt.Sprintf("f%d_%du", i, k), fmt.Sprintf("f%d_%dy", i, k)
			m.whole = append(m.whole, n, used)
			by[t.Shot] = append(by[t.Shot], "+ "+n)
			m.row([]string{"+ " + n, term(-float64(f.Nodes)*float64(room/t.Frame), used)}, "<=", 0)
			m.row([]string{"+ " + used}, "<=", 1)
			m.cost(1, charge)
			each := f.NodePrice.Float()*seconds(t.Frame)/3600 + f.FramePrice.Float()
			m.row([]string{"+ " + charge, fmt.Sprintf("- %.12f %s", each, n)}, ">=", 0)
			m.row([]string{"+ " + charge, term(-f.MinimumCharge.Float(), used)}, ">=", 0)
		}
	}
	for _, s := range p.Shots {
		m.row(by[s.ID], "=", float64(s.Frames))
	}
	return m
}

// server adds one server: whether it is let, and for how many increments.
func (m *programme) server(p planning.Problem, o planning.Offer, name string, start planning.Millis, rows func(planning.Timing) []planning.Timing, by map[string][]string) {
	let, increments, bill, step := name+"u", name+"b", name+"y", 1.0
	if o.Increment != nil {
		step = seconds(*o.Increment)
	}
	m.whole = append(m.whole, let, increments)
	m.row([]string{"+ " + let}, "<=", 1)
	m.cost(o.Fee.Float(), let)
	m.cost(o.Price.Float()/3600, bill)
	m.row([]string{"+ " + bill, term(-step, increments)}, ">=", 0)
	m.row([]string{"+ " + bill, term(-seconds(o.Minimum), let)}, ">=", 0)
	for k, c := range o.Crews {
		time, longest := m.frames(p, fmt.Sprintf("%s_%d", name, k), rows(planning.Timing{Offer: o.ID, Crew: c.ID}), start, math.MaxInt64/4, func(planning.Timing) float64 { return 0 }, o.Source, by)
		if len(time) == 0 {
			continue
		}
		m.row(append(slices.Clone(time), term(-longest, let)), "<=", 0)
		m.row(append(time, term(seconds(o.Lead+o.Wrap), let), term(-step, increments)), "<=", 0)
	}
}

// upload is how long a single shot takes to a source; of several none takes any time.
func upload(p planning.Problem, source string) (longest planning.Millis) {
	for _, t := range p.Transfers {
		if t.Source == source {
			longest = max(longest, t.Upload)
		}
	}
	return longest
}

// patience is how many seconds the solver may take for a problem.
const patience = 20

// What the solver may say.
var (
	errCannot = errors.New("no plan is in time")
	errNever  = errors.New("not settled in time")
)

// exactly is what the cheapest plan costs, to the cent, as the solver finds it.
func exactly(ctx context.Context, folder string, p planning.Problem) (pricing.Money, error) {
	file, answer := filepath.Join(folder, "problem.lp"), filepath.Join(folder, "answer.txt")
	if err := os.WriteFile(file, []byte(programmeOf(p).String()), 0o600); err != nil {
		return pricing.Money{}, err
	}
	_ = os.Remove(answer)
	if out, err := exec.CommandContext(ctx, "cbc", file, "sec", fmt.Sprint(patience), "allow", "0.0005", "solve", "solution", answer).CombinedOutput(); err != nil {
		return pricing.Money{}, fmt.Errorf("cbc: %w: %.300s", err, out)
	}
	data, err := os.ReadFile(answer)
	if err != nil {
		return pricing.Money{}, err
	}
	said, _, _ := bytes.Cut(data, []byte("\n"))
	fields := strings.Fields(string(said))
	switch {
	case len(fields) < 2:
		return pricing.Money{}, fmt.Errorf("cbc says %q", said)
	case strings.HasPrefix(string(said), "Optimal"):
		v, err := strconv.ParseFloat(fields[len(fields)-1], 64)
		if err != nil {
			return pricing.Money{}, err
		}
		cost, err := pricing.ParseMoney(fmt.Sprintf("%.6f", v))
		return cost.Rounded(), err
	case strings.Contains(strings.ToLower(string(said)), "infeasible"):
		return pricing.Money{}, errCannot
	case strings.HasPrefix(string(said), "Stopped"):
		return pricing.Money{}, errNever
	}
	return pricing.Money{}, fmt.Errorf("cbc says %q", said)
}

// beside solves drawn problems and has the exact solver solve them.
func beside(number int) error {
	if _, err := exec.LookPath("cbc"); err != nil {
		fmt.Println("\nNo exact solver is at hand: apt-get install coinor-cbc.")
		return nil
	}
	return inFolder(func(folder string) error { return besideIn(folder, number) })
}

func besideIn(folder string, number int) error {
	fmt.Println("\n| drawn | settled by the solver | answered alike | cost equal | mean | worst | proven | gap, mean | worst | bounds too high | seconds, median | worst | of the solver's time, median |\n|---|---:|---:|---:|---:|---:|---:|---:|---:|---:|---:|---:|---:|")
	for _, class := range []struct {
		name  string
		shots int
	}{{"single shots", 1}, {"two or three shots", 3}} {
		t, r := tally{}, rand.New(rand.NewPCG(uint64(class.shots), 17))
		for range number {
			if err := t.add(folder, drawn(r, class.shots)); err != nil {
				return err
			}
		}
		fmt.Printf("| %d %s | %s |\n", number, class.name, t)
	}
	return nil
}

// tally is what came of problems.
type tally struct {
	number, settled, alike, equal, proven, high int
	ratios, gaps, took, parts                   []float64
}

func (t *tally) add(folder string, p planning.Problem) error {
	t.number++
	begun := time.Now()
	plan, err := planning.Solve(context.Background(), p, planning.Options{})
	took := time.Since(begun)
	if err != nil {
		return err
	}
	begun = time.Now()
	best, err := exactly(context.Background(), folder, p)
	theirs := time.Since(begun)
	if errors.Is(err, errNever) {
		return nil
	}
	t.settled++
	if cannot := errors.Is(err, errCannot); err != nil && !cannot {
		return err
	} else if cannot == (plan.Status != planning.Meets) {
		t.alike++
	}
	if err != nil || plan.Status != planning.Meets {
		return nil
	}
	t.took, t.parts = append(t.took, took.Seconds()), append(t.parts, took.Seconds()/theirs.Seconds())
	t.ratios, t.gaps = append(t.ratios, plan.Cost.Float()/best.Float()), append(t.gaps, 1-plan.CostBound.Float()/plan.Cost.Float())
	if plan.Cost.Cmp(best) == 0 {
		t.equal++
	}
	if plan.CostBound.Cmp(plan.Cost) == 0 {
		t.proven++
	}
	if plan.CostBound.Cmp(best) > 0 || plan.Cost.Cmp(best) < 0 {
		t.high++
		fmt.Fprintf(os.Stderr, "benchplan: cost %s, bound %s, but the solver's is %s\n", plan.Cost, plan.CostBound, best)
	}
	return nil
}

func (t tally) String() string {
	n := float64(len(t.ratios))
	sum := func(list []float64) (out float64) {
		for _, v := range list {
			out += v
		}
		return out
	}
	middle := func(list []float64) float64 {
		list = slices.Sorted(slices.Values(list))
		return list[len(list)/2]
	}
	return fmt.Sprintf("%d | %d | %.0f %% | %.5f | %.4f | %.0f %% | %.2f %% | %.2f %% | %d | %.2f | %.2f | %.2f", t.settled, t.alike, 100*float64(t.equal)/n, sum(t.ratios)/n, slices.Max(t.ratios),
		100*float64(t.proven)/n, 100*sum(t.gaps)/n, 100*slices.Max(t.gaps), t.high, middle(t.took), slices.Max(t.took), middle(t.parts))
}
