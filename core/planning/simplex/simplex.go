// Package simplex solves linear programmes whose columns come one after another:
// the master problems of a column generation, with few rows and many columns.
//
//	minimise c·x  subject to  a row of x ≥ or ≤ its right-hand side, x ≥ 0
//
// It is the revised primal simplex method with an explicit inverse of the basis
// (Dantzig, Linear Programming and Extensions, 1963, chapter 9). A row that asks
// for at least something can always be met by paying its penalty, so that every
// programme here has a solution; what of it is paid is told by Shortfall.
package simplex

import (
	"cmp"
	"math"
	"slices"
)

const (
	tolerance = 1e-9
	// smallest is the least entry that is pivoted on.
	smallest = 1e-7
	// refresh is after how many pivots the inverse is computed anew.
	refresh = 400
)

// Row is one condition.
type Row struct {
	AtLeast bool    // ≥, else ≤
	RHS     float64 // right-hand side, 0 or more
	Penalty float64 // of an AtLeast row, what a unit not met costs
}

// Column is one variable: its cost and its entries, by row.
type Column struct {
	Cost   float64
	Rows   []int32
	Values []float64
}

// Program is a linear programme and its present basis.
type Program struct {
	rows     []Row
	columns  []Column // of these, the first len(rows) are slacks or surpluses, the next penalties
	basis    []int    // of each row, the column that is basic in it
	basic    []bool   // of each column
	inverse  []float64
	value    []float64 // of each row, the value of its basic column
	dual     []float64
	pivots   int
	work     []float64
	excluded []bool // of each column, whether it may not be used
	list     []int  // columns that were worth bringing in
	places   []int  // where a row of the inverse is not 0
	touched  bool   // rows changed: start anew
	stale    bool   // costs changed: the duals are to be computed anew
}

// New returns a programme of the rows without columns.
func New(rows []Row) *Program {
	m := len(rows)
	p := &Program{
		rows: rows, basis: make([]int, m), value: make([]float64, m), dual: make([]float64, m),
		inverse: make([]float64, m*m), work: make([]float64, m), touched: true,
	}
	for i, r := range rows {
		sign := 1.0
		if r.AtLeast {
			sign = -1
		}
		p.columns = append(p.columns, Column{0, []int32{int32(i)}, []float64{sign}})
	}
	for i, r := range rows {
		p.columns = append(p.columns, Column{r.Penalty, []int32{int32(i)}, []float64{1}})
	}
	p.basic, p.excluded = make([]bool, len(p.columns)), make([]bool, len(p.columns))
	return p
}

// Add adds a column and returns its number, counted from 0.
func (p *Program) Add(c Column) int {
	p.columns = append(p.columns, c)
	p.basic, p.excluded = append(p.basic, false), append(p.excluded, false)
	return len(p.columns) - 1 - 2*len(p.rows)
}

// AddRow adds a row, of which each column has the entry that is given for its number, and returns its own number.
// The solution starts anew.
func (p *Program) AddRow(r Row, entry func(n int) float64) int {
	m := len(p.rows)
	sign := 1.0
	if r.AtLeast {
		sign = -1
	}
	for n := range p.columns[2*m:] {
		if v := entry(n); v != 0 {
			c := &p.columns[2*m+n]
			c.Rows, c.Values = append(c.Rows, int32(m)), append(c.Values, v)
		}
	}
	p.columns = slices.Insert(p.columns, 2*m, Column{r.Penalty, []int32{int32(m)}, []float64{1}})
	p.columns = slices.Insert(p.columns, m, Column{0, []int32{int32(m)}, []float64{sign}})
	p.excluded = slices.Insert(slices.Insert(p.excluded, 2*m, false), m, false)
	p.basic = make([]bool, len(p.columns))
	p.rows, p.list = append(p.rows, r), p.list[:0]
	m++
	p.basis, p.value, p.dual = make([]int, m), make([]float64, m), make([]float64, m)
	p.inverse, p.work, p.touched = make([]float64, m*m), make([]float64, m), true
	return m - 1
}

// Require changes a row's right-hand side.
func (p *Program) Require(row int, rhs float64) {
	p.rows[row].RHS = rhs
	p.touched = true
}

// Bar forbids column n, or permits it again: while it is excluded each unit of it
// costs the penalty more.
func (p *Program) Bar(n int, bar bool, penalty float64) {
	j := n + 2*len(p.rows)
	if p.excluded[j] == bar {
		return
	}
	p.excluded[j] = bar
	if !bar {
		penalty = -penalty
	}
	p.columns[j].Cost += penalty
	p.list = p.list[:0]
	p.stale = p.stale || p.basic[j]
}

// Penalise changes what a unit not met of an AtLeast row costs.
func (p *Program) Penalise(row int, penalty float64) {
	p.columns[len(p.rows)+row].Cost = penalty
	p.stale = true
}

func (p *Program) start() {
	m := len(p.rows)
	clear(p.inverse)
	clear(p.basic)
	for i, r := range p.rows {
		p.inverse[i*m+i] = 1
		p.basis[i] = i
		p.value[i] = p.rhs(i)
		switch {
		case r.AtLeast && r.RHS > 0:
			p.basis[i] = m + i
		case r.AtLeast:
			p.inverse[i*m+i] = -1
			p.value[i] = -p.rhs(i)
		}
		p.basic[p.basis[i]] = true
		p.dual[i] = p.columns[p.basis[i]].Cost
	}
	p.touched, p.stale = false, false
}

// rhs is the right-hand side, moved by so little that no two bases tie: without
// it the method can go round in circles (Charnes, 1952).
func (p *Program) rhs(i int) float64 {
	little := 1e-8 * float64(1+(i*7919)%101)
	if r := p.rows[i]; r.AtLeast && r.RHS <= 0 {
		return -little
	}
	return p.rows[i].RHS + little
}

// Optimise pivots until no column improves, or the limit of pivots is reached,
// and returns how many it did.
func (p *Program) Optimise(limit int) int {
	if p.touched {
		p.start()
	}
	if p.stale {
		p.price()
	}
	done, checked := 0, -1
	for ; done < limit; done++ {
		enter := p.entering()
		if enter < 0 && done > checked {
			// The duals have drifted a little with every pivot: look again with true ones.
			checked = done
			p.price()
			enter = p.entering()
		}
		if enter < 0 {
			break
		}
		if !p.pivot(enter) {
			break
		}
		if p.pivots++; p.pivots%refresh == 0 {
			p.invert()
		}
	}
	return done
}

// entering returns the column to bring in: the best of a short list of those that
// were good when all were last looked at; all again once the list is used up.
func (p *Program) entering() int {
	best, at := -tolerance, -1
	kept := p.list[:0]
	for _, j := range p.list {
		if p.basic[j] {
			continue
		}
		if d := p.reduced(j); d < -tolerance {
			kept = append(kept, j)
			if d < best {
				best, at = d, j
			}
		}
	}
	p.list = kept
	if at >= 0 {
		return at
	}
	p.list = p.list[:0]
	for j := range p.columns {
		if p.basic[j] || p.excluded[j] {
			continue
		}
		if d := p.reduced(j); d < -tolerance {
			p.list = append(p.list, j)
			if d < best {
				best, at = d, j
			}
		}
	}
	return at
}

func (p *Program) reduced(j int) float64 {
	c := &p.columns[j]
	d := c.Cost
	for k, i := range c.Rows {
		d -= p.dual[i] * c.Values[k]
	}
	return d
}

// pivot brings column j into the basis; false where nothing stops it growing,
// which no programme with costs of 0 or more should show.
func (p *Program) pivot(j int) bool {
	m := len(p.rows)
	alpha := p.work
	p.transform(j, alpha)
	leave, least := -1, math.Inf(1)
	for i, a := range alpha {
		if a <= smallest {
			continue
		}
		ratio := math.Max(0, p.value[i]) / a
		if ratio < least-1e-12 || (ratio <= least+1e-12 && a > alpha[leave]) {
			leave, least = i, ratio
		}
	}
	if leave < 0 {
		return false
	}
	d := p.reduced(j)
	p.eliminate(leave, alpha)
	for i, a := range alpha {
		p.value[i] -= a * least
	}
	p.value[leave] = least
	for k, v := range p.inverse[leave*m : (leave+1)*m] {
		p.dual[k] += d * v
	}
	p.basic[p.basis[leave]] = false
	p.basis[leave] = j
	p.basic[j] = true
	return true
}

// invert computes the inverse, the values and the duals anew from the columns in
// the basis, to shed what rounding has added up. Columns are brought in one after
// another, those with few entries first, each in the row where it is greatest.
func (p *Program) invert() {
	m := len(p.rows)
	columns := slices.Clone(p.basis)
	slices.SortFunc(columns, func(a, b int) int {
		return cmp.Or(len(p.columns[a].Rows)-len(p.columns[b].Rows), a-b)
	})
	clear(p.inverse)
	for i := range m {
		p.inverse[i*m+i] = 1
	}
	settled := make([]bool, m)
	alpha := make([]float64, m)
	for _, j := range columns {
		p.transform(j, alpha)
		at := -1
		for i, a := range alpha {
			if !settled[i] && (at < 0 || math.Abs(a) > math.Abs(alpha[at])) {
				at = i
			}
		}
		if at < 0 || math.Abs(alpha[at]) < 1e-11 {
			p.start() // rounding has made the basis singular
			return
		}
		p.eliminate(at, alpha)
		settled[at] = true
		p.basis[at] = j
	}
	for i := range m {
		sum := 0.0
		for k, v := range p.inverse[i*m : (i+1)*m] {
			sum += v * p.rhs(k)
		}
		p.value[i] = sum
	}
	p.price()
}

// transform computes a column in terms of the basis.
func (p *Program) transform(j int, alpha []float64) {
	m, c := len(p.rows), &p.columns[j]
	for i := range m {
		row, sum := p.inverse[i*m:(i+1)*m], 0.0
		for k, at := range c.Rows {
			sum += row[at] * c.Values[k]
		}
		alpha[i] = sum
	}
}

// eliminate makes the column whose entries are alpha the one that is basic in a row.
func (p *Program) eliminate(at int, alpha []float64) {
	m := len(p.rows)
	pivotRow := p.inverse[at*m : (at+1)*m]
	scale := 1 / alpha[at]
	p.places = p.places[:0]
	for k := range pivotRow {
		if pivotRow[k] != 0 {
			pivotRow[k] *= scale
			p.places = append(p.places, k)
		}
	}
	sparse := len(p.places) < m/3
	for i, a := range alpha {
		if i == at || a == 0 {
			continue
		}
		row := p.inverse[i*m : (i+1)*m]
		if sparse {
			for _, k := range p.places {
				row[k] -= a * pivotRow[k]
			}
			continue
		}
		for k, v := range pivotRow {
			row[k] -= a * v
		}
	}
}

// price computes the duals from the basis.
func (p *Program) price() {
	m := len(p.rows)
	clear(p.dual)
	for i, j := range p.basis {
		if cost := p.columns[j].Cost; cost != 0 {
			for k, v := range p.inverse[i*m : (i+1)*m] {
				p.dual[k] += cost * v
			}
		}
	}
	p.stale = false
}

// Dual returns what one more unit of the row's right-hand side would cost.
func (p *Program) Dual(row int) float64 { return p.dual[row] }

// Value returns how much of column n the solution takes.
func (p *Program) Value(n int) float64 {
	j := n + 2*len(p.rows)
	if !p.basic[j] {
		return 0
	}
	for i, b := range p.basis {
		if b == j {
			return math.Max(0, p.value[i])
		}
	}
	return 0
}

// Each calls f for every column that the solution takes any of.
func (p *Program) Each(f func(column int, value float64)) {
	m := len(p.rows)
	for i, j := range p.basis {
		if j >= 2*m && p.value[i] > 1e-7 {
			f(j-2*m, p.value[i])
		}
	}
}

// Shortfall returns how much of an AtLeast row is not met but paid for.
func (p *Program) Shortfall(row int) float64 {
	j := len(p.rows) + row
	if p.basic[j] {
		for i, b := range p.basis {
			if b == j {
				return math.Max(0, p.value[i])
			}
		}
	}
	return 0
}

// Cost returns what the solution costs, penalties included.
func (p *Program) Cost() float64 {
	total := 0.0
	for i, j := range p.basis {
		total += p.columns[j].Cost * p.value[i]
	}
	return total
}
