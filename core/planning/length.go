package planning

import "container/heap"

// stretch is a range of lengths of a server's time to render: longer than low, no longer than high.
type stretch struct {
	low, high Millis
	least     float64 // no length in it comes to less
}

type stretches []stretch

func (s stretches) Len() int           { return len(s) }
func (s stretches) Less(a, b int) bool { return s[a].least < s[b].least }
func (s stretches) Swap(a, b int)      { s[a], s[b] = s[b], s[a] }
func (s *stretches) Push(x any)        { *s = append(*s, x.(stretch)) }
func (s *stretches) Pop() any {
	old := *s
	x := old[len(old)-1]
	*s = old[:len(old)-1]
	return x
}

// lengthSearch finds for how long a server of several shots is held best, in whole frames. What it renders is worth ever more the
// longer it is held, so a range of lengths comes to no less than its cheapest with what its longest is worth: the range that
// promises most is halved, until nothing promises more than what was found.
type lengthSearch struct {
	p     *packer
	w     *duals
	t     *timeline
	open  stretches
	least float64 // of what was found
	best  *column
}

// mostLengths is how many lengths are looked at, at most; nearLength is how much less than what was found is not looked for.
const (
	mostLengths = 150
	quickly     = 8 // where any column that gains is good enough
	nearLength  = 5e-4
)

// run returns the best column, nil where nothing is to be gained, and what none comes to less than.
func (s *lengthSearch) run() (*column, float64) {
	least := s.search()
	if s.best != nil && s.best.uses == nil {
		s.p.spendAll(s.best, s.t.chosen)
	}
	return s.best, least
}

func (s *lengthSearch) search() float64 {
	s.look(0, s.t.edges[len(s.t.edges)-1]-s.t.edges[0])
	for n := 0; len(s.open) > 0 && s.open[0].least < s.least-nearLength; n++ {
		x := heap.Pop(&s.open).(stretch)
		middle := s.ending(x.low + (x.high-x.low)/2)
		if middle >= x.high {
			middle = s.ending(x.low + 1)
		}
		if middle >= x.high {
			continue // the shortest that is longer than low is as long as the longest, which is known
		}
		if hurried := n == quickly && s.p.quick; hurried || n == mostLengths {
			s.p.hurried = s.p.hurried || hurried
			return min(s.least-nearLength, x.least)
		}
		s.look(x.low, middle)
		s.look(middle, x.high)
	}
	if len(s.open) > 0 {
		return min(s.least-nearLength, s.open[0].least)
	}
	return s.least - nearLength
}

// ending is the longest that a server may render that is paid for no longer than one that renders for so long.
func (s *lengthSearch) ending(work Millis) Millis { return s.p.u.ending(work+s.hold()) - s.hold() }

// hold is for how long a server is held and renders nothing.
func (s *lengthSearch) hold() Millis { return s.p.u.rent.lead + s.p.u.rent.wrap }

// cost is what a server costs that renders for so long, less what branching pays for it.
func (s *lengthSearch) cost(work Millis) float64 {
	runs := s.p.u.ending(work + s.hold())
	cost, paid := s.p.u.charge(runs)
	return cost - s.w.count - s.w.paid*paid - s.p.stepPrice(runs)
}

// look keeps the longest of a range, if it is the best so far, and the range, if a shorter one may be better still.
func (s *lengthSearch) look(low, high Millis) {
	worth, from := s.t.most(high)
	least := min(s.cost(low+1), s.cost(high))
	for _, x := range s.p.steps {
		for _, runs := range [2]Millis{x.runs, s.p.u.below(x.runs)} {
			if work := runs - s.hold(); low < work && work < high {
				least = min(least, s.cost(work))
			}
		}
	}
	if least-worth >= s.least-nearLength {
		return
	}
	uses := []use(nil)
	start := s.t.edges[0]
	if whole, list, exact := s.p.inWhole(start, start+high, s.w); whole < worth {
		if worth = whole; exact {
			from, uses = start, append([]use{}, list...) // none is not nil: nothing is worth its time
		}
	}
	if r := s.cost(high) - worth; r < s.least {
		runs := s.p.u.ending(high + s.hold())
		cost, _ := s.p.u.charge(runs)
		s.least, s.best = r, &column{cost: cost, runs: runs, from: from, uses: uses}
	}
	if least -= worth; least < s.least-nearLength {
		heap.Push(&s.open, stretch{low, high, least})
	}
}
