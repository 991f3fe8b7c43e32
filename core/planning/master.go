package planning

import (
	"context"
	"math"
	"slices"

	"rotanex.example/core/planning/simplex"
)

// master is the relaxed problem: choose columns, each a way to use a unit, parts of columns
// allowed, so that all frames are covered at least cost. Its columns come one after
// another, each the best for the prices that the frames have at that moment
// (Dantzig and Wolfe, "Decomposition principle for linear programs", Operations
// Research 8, 1960).
//
// Any prices give a bound: see docs/planning.md.
type master struct {
	m       *model
	lp      *simplex.Program
	pack    packer
	columns []*column // of each column; nil for a column of extra seats
	rhs     []float64
	units   int   // first row that limits a unit's copies
	atMin   []int // of each unit, the row that asks for servers or use; -1 without
	paidLo  []int // of each offer unit, the row that asks for increments; -1 without
	paidHi  []int
	seats   [][]int // of each licence, a row for each stretch
	extra   []int   // of each licence, the row that limits extra seats; the next asks for some
	work    *effort
	soft    []float64 // of each shot, what a frame left out costs at present; nil: its penalty
	near    *duals    // prices that have proved good, to start from; nil: none yet
	pivots  int       // at most how many between two looks for new columns
	most    float64   // more than anything that makes sense costs
	cuts    []cut
	cutLo   []int // of each cut, the row that asks for some
	cutHi   []int
}

// limits are what branching has fixed: of each unit how many servers or whether
// the farm is used, how many increments are paid, and how many extra seats.
type limits struct {
	count, paid, extra [][2]float64
	// seatless is, of each unit, the set of licences that it may not use; seated
	// the set of those for which that is decided the other way.
	seatless, seated []uint
	cuts             [][2]float64 // of the first cuts of the master problem; the others are not limited
}

func (l limits) clone() limits {
	return limits{
		slices.Clone(l.count), slices.Clone(l.paid), slices.Clone(l.extra),
		slices.Clone(l.seatless), slices.Clone(l.seated), slices.Clone(l.cuts),
	}
}

func (m *model) unlimited() limits {
	l := limits{count: make([][2]float64, len(m.units)), paid: make([][2]float64, len(m.units)), extra: make([][2]float64, len(m.Licences))}
	l.seatless, l.seated = make([]uint, len(m.units)), make([]uint, len(m.units))
	for i := range m.units {
		l.count[i][1] = float64(m.units[i].copies)
		l.paid[i][1] = 1e6
	}
	for i := range m.Licences {
		l.extra[i][1] = float64(m.Licences[i].ExtraSeats)
	}
	return l
}

func newMaster(m *model, work *effort) *master {
	r := &master{m: m, pack: packer{m: m}, work: work}
	var rows []simplex.Row
	for i, s := range m.Shots {
		rows = append(rows, simplex.Row{AtLeast: true, RHS: float64(s.Frames), Penalty: m.penalty[i]})
	}
	most := 0.0
	for i := range m.Shots {
		most = max(most, 100*m.penalty[i])
	}
	r.most, r.pivots = most, 20_000
	if len(m.Shots) > manyShots {
		r.pivots = 150
	}
	need := func() int {
		rows = append(rows, simplex.Row{AtLeast: true, Penalty: most})
		return len(rows) - 1
	}
	limit := func(rhs float64) int {
		rows = append(rows, simplex.Row{RHS: rhs})
		return len(rows) - 1
	}
	r.units = len(rows)
	for _, u := range m.units {
		limit(float64(u.copies))
	}
	for i := range m.units {
		u := &m.units[i]
		atMin, lo, hi := -1, -1, -1
		if u.kind == rentedOffer || u.kind == farmTier && u.least > 0 {
			atMin = need()
		}
		if u.kind == rentedOffer && u.whole() {
			lo, hi = need(), limit(1e6)
		}
		r.atMin, r.paidLo, r.paidHi = append(r.atMin, atMin), append(r.paidLo, lo), append(r.paidHi, hi)
	}
	for l, grid := range m.seatGrid {
		var list []int
		for range grid {
			list = append(list, limit(float64(m.Licences[l].Seats)))
		}
		first := -1
		if len(grid) > 0 {
			first = limit(float64(m.Licences[l].ExtraSeats))
			need()
		}
		r.seats, r.extra = append(r.seats, list), append(r.extra, first)
	}
	for _, row := range rows {
		r.rhs = append(r.rhs, row.RHS)
	}
	r.lp = simplex.New(rows)
	r.addExtraSeats()
	return r
}

// addExtraSeats adds a column for the extra seats of each licence that can run short.
func (r *master) addExtraSeats() {
	m := r.m
	for l := range m.seatGrid {
		if r.extra[l] < 0 {
			continue
		}
		c := simplex.Column{Cost: m.Licences[l].ExtraSeatPrice.Float()}
		for _, row := range r.seats[l] {
			c.Rows, c.Values = append(c.Rows, int32(row)), append(c.Values, -1)
		}
		c.Rows, c.Values = append(c.Rows, int32(r.extra[l]), int32(r.extra[l]+1)), append(c.Values, 1, 1)
		r.lp.Add(c)
		r.columns = append(r.columns, nil)
	}
}

// stretch is the length of a stretch of a licence's seat grid.
func (m *model) stretch(l, at int) float64 {
	if at == 0 {
		return float64(max(1, m.seatGrid[l][0]))
	}
	return float64(m.seatGrid[l][at] - m.seatGrid[l][at-1])
}

func (r *master) add(w *column) {
	u := &r.m.units[w.unit]
	c := simplex.Column{Cost: w.cost}
	put := func(row int, v float64) {
		if row >= 0 {
			c.Rows, c.Values = append(c.Rows, int32(row)), append(c.Values, v)
		}
	}
	for _, f := range w.frames {
		put(f.shot, f.frames)
	}
	put(r.units+w.unit, 1)
	put(r.atMin[w.unit], 1)
	if r.paidLo[w.unit] >= 0 {
		_, increments := u.charge(w.runs)
		put(r.paidLo[w.unit], increments)
		put(r.paidHi[w.unit], increments)
	}
	for _, s := range w.seats {
		put(r.seats[s.licence][s.stretch], s.time/r.m.stretch(s.licence, s.stretch))
	}
	for i, x := range r.cuts {
		if v := x.of(w); v != 0 {
			put(r.cutLo[i], v)
			put(r.cutHi[i], v)
		}
	}
	r.lp.Add(c)
	r.columns = append(r.columns, w)
}

// fix sets the rows to the limits.
func (r *master) fix(l limits) {
	set := func(row int, v float64) {
		if row >= 0 && r.rhs[row] != v {
			r.rhs[row] = v
			r.lp.Require(row, v)
		}
	}
	for i := range r.m.units {
		set(r.units+i, l.count[i][1])
		set(r.atMin[i], l.count[i][0])
		set(r.paidLo[i], l.paid[i][0])
		set(r.paidHi[i], l.paid[i][1])
	}
	for i, w := range r.columns {
		if w != nil && len(w.seats) > 0 {
			r.lp.Bar(i, slices.ContainsFunc(w.seats, func(s seatTime) bool { return l.seatless[w.unit]&(1<<s.licence) != 0 }), r.most)
		}
	}
	for i, row := range r.extra {
		if row >= 0 {
			set(row, l.extra[i][1])
			set(row+1, l.extra[i][0])
		}
	}
	for i := range r.cuts {
		b := l.within(i)
		set(r.cutLo[i], b[0])
		set(r.cutHi[i], b[1])
	}
}

// relax solves the master problem within the limits. It returns a cost that no
// plan within them goes below, and whether all frames could be covered. It stops
// early once the bound reaches the cutoff, or is as near to the relaxed problem's
// cost as asked, as a part of it.
//
// The prices at which columns are sought are drawn towards those that gave the best
// bound so far, for the master problem's own swing from one extreme to the next
// (Wentges, "Weighted Dantzig-Wolfe decomposition for linear mixed-integer
// programming", 1997).
func (r *master) relax(ctx context.Context, l limits, cutoff, near float64) (bound float64, covered bool) {
	r.fix(l)
	r.pack.quick = true
	var steady duals
	pull := 0.0
	if len(r.m.Shots) > manyShots {
		pull = 0.85
		if r.near != nil {
			steady = *r.near
		}
	}
	for round := 0; ; round++ {
		pivots := r.lp.Optimise(r.pivots)
		r.work.pivots(pivots, len(r.rhs), len(r.columns))
		w := r.duals()
		cost := r.lp.Cost()
		sought := w
		if steady.frame != nil && pull > 0 {
			sought = w.towards(steady, pull)
		}
		found, b := r.price(&sought, &w, l)
		if len(found) == 0 && r.pack.hurried { // look with patience
			r.pack.quick = false
			found, b = r.price(&sought, &w, l)
			r.pack.quick = true
		}
		r.pack.hurried = false
		if len(found) == 0 && pivots == r.pivots && !r.work.spent() && ctx.Err() == nil {
			if b > bound {
				bound, steady = b, sought
			}
			continue // there is still something to be had from the columns there are
		}
		if len(found) == 0 && pull > 0 && steady.frame != nil {
			pull *= 0.7
			if pull < 0.1 {
				pull = 0
			}
			if b > bound {
				bound, steady = b, sought
			}
			if round < 2000 && cost-bound > near*cost && bound < cutoff && !r.work.spent() && ctx.Err() == nil {
				continue
			}
		}
		if b > bound || steady.frame == nil || round == 0 {
			bound, steady = max(b, bound), sought
			r.near = &steady
		}
		if bound >= cutoff {
			return bound, true
		}
		if r.work.spent() || ctx.Err() != nil {
			break
		}
		if len(found) == 0 || cost-bound <= near*cost+1e-7 {
			if !r.raise() {
				break
			}
		}
		for _, x := range found {
			r.add(x)
		}
	}
	return bound, r.covered()
}

// covered reports whether the present solution leaves nothing out that is asked for.
func (r *master) covered() bool {
	for row := range r.rhs {
		if r.lp.Shortfall(row) >= 1e-4 {
			return false
		}
	}
	return true
}

// soften lets a frame that is left out cost not much more than it did in a plan
// at hand: so that prices do not begin with the wildest swings (the box of Marsten,
// Hogan and Blankenship, "The boxstep method for large-scale optimization",
// Operations Research 23, 1975).
func (r *master) soften(prices []float64) {
	r.soft = make([]float64, len(prices))
	best := math.Inf(-1)
	for _, part := range []float64{0.5, 0.3, 0.2, 0.1, 0.05} {
		w := r.duals()
		for s, v := range prices {
			w.frame[s] = v * part
		}
		if _, bound := r.price(&w, &w, r.m.unlimited()); bound > best {
			best = bound
			r.near = &w
		}
	}
	for s, v := range prices {
		r.soft[s] = min(r.m.penalty[s], v)
		r.lp.Penalise(s, r.soft[s])
	}
}

// raise makes leaving out frames dearer where that was used; false where it was not.
func (r *master) raise() bool {
	raised := false
	for s := range r.soft {
		if r.soft[s] < r.m.penalty[s] && r.lp.Shortfall(s) > 1e-6 {
			r.soft[s] = min(r.m.penalty[s], 4*r.soft[s])
			r.lp.Penalise(s, r.soft[s])
			raised = true
		}
	}
	return raised
}

// duals reads the dual prices of frames and seats off the master problem.
func (r *master) duals() duals {
	w := duals{frame: make([]float64, len(r.m.Shots)), seat: make([][]float64, len(r.seats))}
	for s := range w.frame {
		w.frame[s] = max(0, r.lp.Dual(s))
	}
	for i, rows := range r.seats {
		w.seat[i] = make([]float64, len(rows))
		for k, row := range rows {
			w.seat[i][k] = max(0, -r.lp.Dual(row)) / r.m.stretch(i, k)
		}
	}
	read := func(rows []int, sign float64) []float64 {
		out := make([]float64, len(r.m.units))
		for i, row := range rows {
			if row >= 0 {
				out[i] = sign * max(0, sign*r.lp.Dual(row))
			}
		}
		return out
	}
	w.atMin, w.paidLo, w.paidHi = read(r.atMin, 1), read(r.paidLo, 1), read(r.paidHi, -1)
	w.cuts = r.cuts
	for i := range r.cuts {
		lo, hi := max(0, r.lp.Dual(r.cutLo[i])), min(0, r.lp.Dual(r.cutHi[i]))
		if r.rhs[r.cutHi[i]] == unbounded {
			hi = 0 // whatever rounding says
		}
		w.cutLo, w.cutHi = append(w.cutLo, lo), append(w.cutHi, hi)
	}
	return w
}

// towards mixes two sets of prices: a part of the other, the rest of w.
func (w duals) towards(other duals, part float64) duals {
	mix := func(a, b []float64) []float64 {
		out := make([]float64, len(a))
		for i := range a {
			out[i] = part*b[i] + (1-part)*a[i]
		}
		return out
	}
	out := duals{frame: mix(w.frame, other.frame), atMin: mix(w.atMin, other.atMin), paidLo: mix(w.paidLo, other.paidLo), paidHi: mix(w.paidHi, other.paidHi)}
	for i := range w.seat {
		out.seat = append(out.seat, mix(w.seat[i], other.seat[i]))
	}
	return out
}

// price finds the best column of each unit at the given dual prices of frames and seats,
// and the bound that they prove together: what all frames are worth, less the
// most that each unit can gain on it. Of the columns it returns those that the
// master problem, at its own prices, has a use for.
func (r *master) price(w, own *duals, l limits) ([]*column, float64) {
	var found []*column
	bound := 0.0
	for s, shot := range r.m.Shots {
		bound += w.frame[s] * float64(shot.Frames)
	}
	for i := range r.m.units {
		atMin, lo, hi := w.atMin[i], w.paidLo[i], w.paidHi[i]
		w.count, w.paid = atMin, lo+hi
		x, reduced := r.pack.bestColumn(i, w, l.seatless[i])
		r.work.priced(&r.m.units[i])
		r.work.spend(r.pack.knapsack.steps)
		r.pack.knapsack.steps = 0
		bound += l.count[i][0]*atMin + l.paid[i][0]*lo + l.count[i][1]*reduced
		if hi != 0 {
			bound += l.paid[i][1] * hi
		}
		own.count, own.paid = own.atMin[i], own.paidLo[i]+own.paidHi[i]
		if x != nil && r.gain(x, own) < min(0, r.lp.Dual(r.units+i))-1e-9*(1+math.Abs(x.cost)) {
			found = append(found, x)
		}
	}
	for i := range w.cuts {
		b := l.within(i)
		bound += b[0]*w.cutLo[i] + b[1]*w.cutHi[i]
	}
	for i, rows := range r.seats {
		if len(rows) == 0 {
			continue
		}
		price := r.m.Licences[i].ExtraSeatPrice.Float()
		for k := range rows {
			rent := w.seat[i][k] * r.m.stretch(i, k)
			bound -= rent * float64(r.m.Licences[i].Seats)
			price -= rent
		}
		// Of each extra seat, the bound takes the better of none and as many as are let.
		if price < 0 {
			bound += price * l.extra[i][1]
		} else {
			bound += price * l.extra[i][0]
		}
	}
	return found, bound
}

// gain is the column's cost less what the master problem pays for it.
func (r *master) gain(x *column, w *duals) float64 {
	out := x.cost - w.count
	for _, f := range x.frames {
		out -= f.frames * w.frame[f.shot]
	}
	for _, s := range x.seats {
		out += s.time * w.seat[s.licence][s.stretch]
	}
	if r.paidLo[x.unit] >= 0 {
		_, increments := r.m.units[x.unit].charge(x.runs)
		out -= increments * w.paid
	}
	for i, c := range w.cuts {
		out -= (w.cutLo[i] + w.cutHi[i]) * c.of(x)
	}
	return out
}

// solution is what the relaxed problem takes: columns, and extra seats.
type solution struct {
	parts  []part
	extras []float64 // of each licence, the extra seats hired
	short  []bool    // of each licence, whether its seats limit the solution
}

// taken reads the present solution off the master problem.
func (r *master) taken() solution {
	out := solution{extras: make([]float64, len(r.m.Licences)), short: make([]bool, len(r.m.Licences))}
	r.lp.Each(func(at int, v float64) {
		if r.columns[at] != nil {
			out.parts = append(out.parts, part{r.columns[at], v})
		}
	})
	n := 0
	for l := range out.extras {
		if r.extra[l] >= 0 {
			out.extras[l] = r.lp.Value(n)
			n++
		}
		out.short[l] = slices.ContainsFunc(r.seats[l], func(row int) bool { return r.lp.Dual(row) < -1e-9 })
	}
	return out
}

// part is how much of a column a relaxed solution takes.
type part struct {
	*column
	amount float64
}
