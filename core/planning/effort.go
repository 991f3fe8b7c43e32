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
	steps := int64(500 + len(u.segments)*(4*len(u.options)+40))
	if u.solo && u.kind == rentedOffer {
		steps += 20 * int64(len(u.options)) * int64((u.options[0].due-u.options[0].release)/u.options[0].frame)
	}
	e.spend(steps)
}

// allowance is the effort for a problem where no time limit is given.
func allowance(p Problem) int64 {
	rows := int64(len(p.Timings))
	return min(600_000_000, 20_000_000+20_000_000*rows) + min(300_000*max(0, rows-300), 6_000_000_000)
}
