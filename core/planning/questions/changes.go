package questions

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Change is one difference between two plans.
type Change struct {
	Place string `json:"place,omitempty"`
	Shot  string `json:"shot,omitempty"`
	Text  string `json:"text"`
}

// Changes says what differs from one plan to another, and where the problems that
// they answer differ, why.
func Changes(a planning.Problem, before planning.Plan, b planning.Problem, after planning.Plan) []Change {
	var out []Change
	say := func(place, shot, format string, args ...any) {
		out = append(out, Change{place, shot, fmt.Sprintf(format, args...)})
	}
	if before.Status != after.Status {
		say("", "", "was %s, is %s", before.Status, after.Status)
	}
	if d := after.Cost.Minus(before.Cost); !d.IsZero() {
		say("", "", "costs %s %s, %s", b.Currency, after.Cost, than(b.Currency, d, before.Cost))
	}
	from, to := a.Start.Add(before.Finish.Duration()), b.Start.Add(after.Finish.Duration())
	if d := to.Sub(from); d != 0 {
		word := "later"
		if d < 0 {
			d, word = -d, "earlier"
		}
		say("", "", "finishes %s %s", d.Round(time.Second), word)
	}
	out = append(out, causes(a, b)...)
	frames := func(p planning.Problem, plan planning.Plan) map[[2]string]int {
		servers := map[string]string{}
		for _, v := range plan.Servers {
			servers[v.ID] = v.Offer
		}
		sums := map[[2]string]int{}
		for _, x := range plan.Bookings {
			place := x.Where()
			if x.Server != "" {
				place = servers[x.Server]
			}
			sums[[2]string{place, x.Shot}] += x.Frames
		}
		return sums
	}
	old, now := frames(a, before), frames(b, after)
	keys := maps.Clone(old)
	maps.Copy(keys, now)
	for _, key := range slices.SortedFunc(maps.Keys(keys), func(x, y [2]string) int {
		return slices.Compare(x[:], y[:])
	}) {
		if n, m := old[key], now[key]; n != m {
			say(key[0], key[1], "%s on %s: %d frames, were %d", key[1], key[0], m, n)
		}
	}
	count := func(plan planning.Plan) map[string]int {
		n := map[string]int{}
		for _, v := range plan.Servers {
			n[v.Offer]++
		}
		return n
	}
	was, is := count(before), count(after)
	offers := maps.Clone(was)
	maps.Copy(offers, is)
	for _, o := range slices.Sorted(maps.Keys(offers)) {
		if was[o] != is[o] {
			say(o, "", "%d servers of %s, were %d", is[o], o, was[o])
		}
	}
	return out
}

func than(currency string, d, before pricing.Money) string {
	word := "more"
	if d.Cmp(pricing.Money{}) < 0 {
		d, word = pricing.Money{}.Minus(d), "less"
	}
	return fmt.Sprintf("%s %s %s than %s %s", currency, d, word, currency, before)
}

// causes says in what two problems differ.
func causes(a, b planning.Problem) []Change {
	c := &causing{a: a, b: b}
	c.shots()
	c.places()
	c.times()
	c.prices()
	return c.out
}

// causing gathers how one problem differs from another.
type causing struct {
	a, b planning.Problem
	out  []Change
}

func (c *causing) say(place, shot, format string, args ...any) {
	c.out = append(c.out, Change{place, shot, "because " + fmt.Sprintf(format, args...)})
}

func (c *causing) shots() {
	id := func(s planning.Shot) string { return s.ID }
	before, after := planning.ByID(c.a.Shots, id), planning.ByID(c.b.Shots, id)
	for _, s := range c.b.Shots {
		o, ok := before[s.ID]
		switch {
		case !ok:
			c.say("", s.ID, "%s is new", s.ID)
		case o.Frames != s.Frames:
			c.say("", s.ID, "%s has %d frames to do, had %d", s.ID, s.Frames, o.Frames)
		}
		if was, is := c.a.Start.Add(o.Deadline.Duration()), c.b.Start.Add(s.Deadline.Duration()); ok && !was.Equal(is) {
			c.say("", s.ID, "%s is due %s, was due %s", s.ID, is.Format("Mon 15:04"), was.Format("Mon 15:04"))
		}
	}
	for _, s := range c.a.Shots {
		if _, ok := after[s.ID]; !ok {
			c.say("", s.ID, "%s is no longer in it", s.ID)
		}
	}
}

// placesOf are the names of a problem's hosts, offers and farms.
func placesOf(p planning.Problem) map[string]bool {
	out := map[string]bool{}
	for _, h := range p.Hosts {
		out[h.ID] = true
	}
	for _, o := range p.Offers {
		out[o.ID] = true
	}
	for _, f := range p.Farms {
		out[f.ID] = true
	}
	return out
}

func (c *causing) places() {
	was, is := placesOf(c.a), placesOf(c.b)
	for _, id := range slices.Sorted(maps.Keys(is)) {
		if !was[id] {
			c.say(id, "", "%s is there", id)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(was)) {
		if !is[id] {
			c.say(id, "", "%s is not there", id)
		}
	}
}

// telling is by how much a frame's time has to differ to be told.
const telling = 0.02

func (c *causing) times() {
	before := planning.ByID(c.a.Timings, timingName)
	slower, faster := map[string]int{}, map[string]int{}
	for _, t := range c.b.Timings {
		if o, ok := before[timingName(t)]; ok {
			_, id := t.Place()
			switch ratio := float64(t.Frame) / float64(o.Frame); {
			case ratio > 1+telling:
				slower[id]++
			case ratio < 1-telling:
				faster[id]++
			}
		}
	}
	changed := maps.Clone(slower)
	maps.Copy(changed, faster)
	for _, id := range slices.Sorted(maps.Keys(changed)) {
		switch {
		case faster[id] == 0:
			c.say(id, "", "%s is slower than was thought", id)
		case slower[id] == 0:
			c.say(id, "", "%s is faster than was thought", id)
		default:
			c.say(id, "", "frames on %s take other times than was thought, some more, some less", id)
		}
	}
}

func (c *causing) prices() {
	before := planning.ByID(c.a.Offers, func(o planning.Offer) string { return o.ID })
	for _, o := range c.b.Offers {
		if x, ok := before[o.ID]; ok && x.Price.Cmp(o.Price) != 0 {
			c.say(o.ID, "", "%s costs %s %s an hour, cost %s %s", o.ID, c.b.Currency, o.Price, c.a.Currency, x.Price)
		}
	}
}

func timingName(t planning.Timing) string {
	kind, id := t.Place()
	return t.Shot + " " + kind + " " + id + "/" + t.Crew
}
