package planning

import (
	"cmp"
	"math"
	"slices"
)

// What a crew can render of several shots in a stretch of time, in whole frames: those that are due first come first, and they
// fit if they do up to each due time. The most that is worth is a knapsack with nested limits. It is found by a dynamic programme
// over the shots that keeps only what may still lead to the best (after Martello and Toth, "Knapsack problems", 1990, chapter 3:
// dominance, and the fractional problem as the bound).

// item is a shot in a knapsack.
type item struct {
	option int32
	frame  Millis
	worth  float64 // of a frame, net of its cost
	limit  Millis  // of all frames that are due by then, from the start of the stretch
}

// filled is a choice of frames of the items looked at so far.
type filled struct {
	time   Millis
	worth  float64
	before int // among all; -1: none
	frames int // of the last item
}

// knapsack finds the best whole frames. It keeps its scratch memory.
type knapsack struct {
	items  []item
	rates  []float64 // of each item, the most that a millisecond of it or one due later is worth
	all    []filled
	counts []int // of each item, in the best choice
	steps  int64 // of work done so far, see effort
}

// mostFilled is how many choices are kept at most; with more of them the fractional bound is taken, and the choice too where that is
// nearly worth it. Little is what rounding may come to.
const (
	mostFilled = 400
	nearly     = 1e-4
	little     = 1e-7
)

// fill returns the most that whole frames of the items, in the order of their limits, are worth; or where that takes too long, more,
// and that the choice is worth less.
func (k *knapsack) fill(items []item) (worth float64, exact bool) {
	k.items, k.all, k.counts = items, k.all[:0], slices.Grow(k.counts[:0], len(items))[:len(items)]
	clear(k.counts)
	k.rates = slices.Grow(k.rates[:0], len(items))[:len(items)]
	most := 0.0
	for i, x := range slices.Backward(items) {
		most = max(most, x.worth/float64(x.frame))
		k.rates[i] = most
	}
	k.all = append(k.all, filled{before: -1})
	front, best, bestAt := []int{0}, 0.0, 0
	for i := range items {
		next, all := k.extend(front, i, &best)
		if !all {
			bound := 0.0
			for _, at := range front {
				bound = max(bound, k.all[at].worth+k.rest(i, k.all[at].time))
			}
			k.follow(bestAt)
			return bound, bound-k.all[bestAt].worth < nearly
		}
		for _, at := range next {
			if x := k.all[at]; x.worth > k.all[bestAt].worth {
				bestAt = at
			}
		}
		front = next
	}
	k.follow(bestAt)
	return k.all[bestAt].worth + little, true
}

// follow counts the frames of a choice. Choices are made for all items in turn.
func (k *knapsack) follow(best int) {
	n := 0
	for at := best; k.all[at].before >= 0; at = k.all[at].before {
		n++
	}
	for at := best; k.all[at].before >= 0; at = k.all[at].before {
		n--
		k.counts[n] = k.all[at].frames
	}
}

// extend chooses frames of an item beside each choice so far; false: there are too many. Best is what whole frames are known to be worth.
func (k *knapsack) extend(front []int, i int, best *float64) (choices []int, all bool) {
	x, first := k.items[i], len(k.all)
	for _, at := range front {
		from := k.all[at]
		room := 0
		if x.worth > 0 && x.limit > from.time {
			room = int((x.limit - from.time) / x.frame)
		}
		worth := func(n int) float64 { return from.worth + float64(n)*x.worth + k.rest(i+1, from.time+Millis(n)*x.frame) }
		for _, n := range [2]int{0, room} {
			*best = max(*best, from.worth+float64(n)*x.worth+k.greedy(i+1, from.time+Millis(n)*x.frame))
		}
		// Another frame takes time that is worth ever less to others: what may lead to the best are few or many.
		add := func(n int) bool {
			if worth(n) < *best-little {
				return false
			}
			k.all = append(k.all, filled{from.time + Millis(n)*x.frame, from.worth + float64(n)*x.worth, at, n})
			return true
		}
		few := 0
		for few <= room && add(few) {
			few++
		}
		for n := room; n >= few && add(n); n-- {
		}
		if len(k.all)-first > mostFilled {
			k.steps += int64(60 * (len(k.all) - first))
			return nil, false
		}
	}
	k.steps += int64(50*(len(front)+1) + 60*(len(k.all)-first))
	list := make([]int, 0, len(k.all)-first)
	for at := first; at < len(k.all); at++ {
		list = append(list, at)
	}
	slices.SortFunc(list, func(a, b int) int {
		return cmp.Or(cmp.Compare(k.all[a].time, k.all[b].time), cmp.Compare(k.all[b].worth, k.all[a].worth))
	})
	kept := list[:0]
	for _, at := range list {
		if n := len(kept); n == 0 || k.all[at].worth > k.all[kept[n-1]].worth {
			kept = append(kept, at)
		}
	}
	return kept, true
}

// rest is what the items from one on are worth at most from a time on, frames cut in parts.
func (k *knapsack) rest(i int, from Millis) (sum float64) {
	for ; i < len(k.items); i++ {
		if limit := k.items[i].limit; limit > from {
			sum += k.rates[i] * float64(limit-from)
			from = limit
		}
	}
	return sum
}

// greedy is what they are worth at least: of whole frames of whatever is worth most.
func (k *knapsack) greedy(i int, from Millis) (sum float64) {
	for i < len(k.items) && k.rates[i] > 0 {
		at := i
		for k.items[at].worth/float64(k.items[at].frame) < k.rates[i] {
			at++
		}
		if x := k.items[at]; x.limit > from {
			n := (x.limit - from) / x.frame
			sum, from = sum+float64(n)*x.worth, from+n*x.frame
		}
		i = at + 1
	}
	return sum
}

// inWhole is the most that the unit's crews are worth from one time to another in whole frames, and what they render then; false where
// that is worth less. It is infinite where crews share devices or memory, or seats cost something.
func (p *packer) inWhole(start, end Millis, w *duals) (worth float64, uses []use, exact bool) {
	if !p.u.plain || p.pricedAnywhere(w) {
		return math.Inf(1), nil, false
	}
	var last []item
	value, frames, sure := 0.0, []use(nil), true
	exact = true
	for c := range p.u.crews {
		items := p.itemsOf(c, start, end)
		if !slices.EqualFunc(items, last, func(a, b item) bool { return a.frame == b.frame && a.worth == b.worth && a.limit == b.limit }) || last == nil {
			value, sure = p.knapsack.fill(items)
			frames = frames[:0]
			for i, n := range p.knapsack.counts {
				if n > 0 {
					frames = append(frames, use{int32(i), float64(n) * float64(items[i].frame)})
				}
			}
		}
		worth, exact = worth+value, exact && sure
		for _, x := range frames {
			uses = append(uses, use{items[x.option].option, x.time})
		}
		last = items
	}
	return worth, uses, exact
}

// itemsOf are the shots that a crew may render from one time to another, those due first first.
func (p *packer) itemsOf(crew int, start, end Millis) []item {
	var out []item
	for _, at := range p.u.crews[crew].options {
		o := &p.u.options[at]
		if worth, limit := p.worth[at]-o.cost, min(o.due, end)-start; worth > 0 && limit >= o.frame && (p.excluded == 0 || p.allowed(at, p.excluded)) {
			out = append(out, item{at, o.frame, worth, limit})
		}
	}
	slices.SortStableFunc(out, func(a, b item) int { return cmp.Compare(a.limit, b.limit) })
	return out
}

// pricedAnywhere reports whether a seat that the unit may need costs something at any time.
func (p *packer) pricedAnywhere(w *duals) bool {
	for i := range p.u.segments {
		if p.priced(&p.u.segments[i], w) != 0 {
			return true
		}
	}
	return false
}

// plainly reports whether nothing but devices and time limits what the unit's crews render side by side.
func (m *model) plainly(u *unit) bool {
	if u.kind == farmTier || u.cutUp || !u.disjoint || len(m.Shots) > manyShots {
		return false
	}
	ram := Memory(0)
	for _, c := range u.crews {
		most := Memory(0)
		for _, o := range c.options {
			most = max(most, m.Shots[u.options[o].shot].RAM)
		}
		ram += most
	}
	return u.ram < 0 || ram <= u.ram
}
