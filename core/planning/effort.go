package planning

// effort is how much more work the planner may do, in steps of roughly a
// nanosecond. It is counted, not timed, so that a problem gets the same plan on
// every machine.
type effort struct{ left int64 }

func (e *effort) spend(steps int64) { e.left -= steps }
func (e *effort) spent() bool       { return e.left <= 0 }

// pivots counts simplex pivots of a master problem of the given size.
func (e *effort) pivots(n, rows, columns int) {
	e.spend(int64(n+1) * int64(rows*rows/2+8*columns+500))
}

// priced counts looking for the best way to use a unit.
func (e *effort) priced(u *unit) {
	e.spend(int64(500 + len(u.segments)*(4*len(u.options)+40)))
}

// allowance is the effort for a problem where no time limit is given.
func allowance(p Problem) int64 {
	size := int64(len(p.Timings)) * int64(len(p.Shots)+len(p.Hosts)+4*len(p.Offers))
	return min(600_000_000+size*500, 12_000_000_000)
}
