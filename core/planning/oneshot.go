package planning

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"rotanex.example/core/pricing"
)

const hourMillis = 3_600_000

// planShot plans one shot by the deadline around what the calendar holds. Its
// cost is exact for a shot alone on machines whose crews share nothing; where
// crews share devices or memory, a machine is divided one way for the whole
// shot. With relaxed set, sharing is ignored: the cost is then a lower bound.
//
// It returns an infinite cost where the shot cannot be home by then. The
// returned function adds the bookings to the draft and to the calendar.
func (m *model) planShot(s shotModel, deadline Millis, c *calendar, relaxed bool) (float64, func(*draft)) {
	if s.Licence == "" || relaxed {
		return m.planShotOn(s, deadline, c, relaxed)
	}
	return m.planSeated(s, deadline, c)
}

func (m *model) planShotOn(s shotModel, deadline Millis, c *calendar, relaxed bool) (float64, func(*draft)) {
	b := builder{m: m, s: s, deadline: deadline, c: c, relaxed: relaxed}
	for _, x := range s.hosts {
		b.addHost(x)
	}
	for _, x := range s.farms {
		b.addFarm(x)
	}
	for _, x := range s.offers {
		b.addOffer(x)
	}
	cost, book := cover(s.Frames, b.lanes, b.ladders)
	return cost, func(d *draft) {
		b.draft = d
		book()
	}
}

// builder gathers the lanes and ladders of one shot.
type builder struct {
	m        *model
	s        shotModel
	deadline Millis
	c        *calendar
	relaxed  bool
	lanes    []lane
	ladders  []ladder
	draft    *draft
}

func perFrame(price pricing.Money, frame Millis) float64 {
	return price.Float() * float64(frame) / hourMillis
}

func (b *builder) addHost(x pairing) {
	host := b.m.Hosts[x.at]
	ways := [][]timedCrew{x.crews}
	if limit := renderers(host.RAM, b.s.RAM); !b.relaxed && (limit < len(x.crews) || shareDevices(x.crews)) {
		ways = divisions(x.crews, limit, func(t timedCrew) string {
			free := b.c.free(b.m, x.at, t.Crew, b.s, 1, b.deadline)
			return fmt.Sprint(t.frame, t.BusyPrice, capacity(free, t.frame))
		})
	}
	divided := make([][]lane, len(ways))
	for w, way := range ways {
		for _, t := range way {
			divided[w] = append(divided[w], b.hostLane(x.at, t, len(way)))
		}
		slices.SortStableFunc(divided[w], func(p, q lane) int { return cmp.Compare(p.price, q.price) })
	}
	if len(ways) == 1 {
		b.lanes = append(b.lanes, divided[0]...)
		return
	}
	var candidates []rung
	var from []int
	for w, lanes := range divided {
		for n, cost := range laneCosts(b.s.Frames, lanes) {
			if n > 0 && !math.IsInf(cost, 1) {
				candidates, from = append(candidates, rung{n, cost}), append(from, w)
			}
		}
	}
	kept := climb(candidates)
	ladder := ladder{book: func(r, frames int) {
		for _, l := range divided[from[kept[r]]] {
			if n := min(frames, l.capacity); n > 0 {
				l.book(n)
				frames -= n
			}
		}
	}}
	for _, i := range kept {
		ladder.rungs = append(ladder.rungs, candidates[i])
	}
	if len(ladder.rungs) > 0 {
		b.ladders = append(b.ladders, ladder)
	}
}

func shareDevices(crews []timedCrew) bool {
	seen := map[string]bool{}
	for _, c := range crews {
		for _, d := range c.Devices {
			if seen[d] {
				return true
			}
			seen[d] = true
		}
	}
	return false
}

func capacity(free []span, frame Millis) int {
	n := 0
	for _, x := range free {
		n += int((x.end - x.start) / frame)
	}
	return n
}

func (b *builder) hostLane(h int, t timedCrew, beside int) lane {
	if b.relaxed || renderers(b.m.Hosts[h].RAM, b.s.RAM) >= 1<<30 {
		beside = 0
	}
	free := b.c.free(b.m, h, t.Crew, b.s, beside, b.deadline)
	return lane{
		capacity: min(b.s.Frames, capacity(free, t.frame)),
		price:    perFrame(t.BusyPrice, t.frame),
		order:    t.frame,
		book: func(frames int) {
			for _, x := range free {
				n := min(frames, int((x.end-x.start)/t.frame))
				if n <= 0 {
					continue
				}
				frames -= n
				end := x.start + Millis(n)*t.frame
				b.draft.book(Booking{Shot: b.s.ID, Host: b.m.Hosts[h].ID, Crew: t.ID, Frames: n, Start: x.start, End: end}, 0)
				b.c.hosts[h] = append(b.c.hosts[h], use{span{x.start, end}, t.Devices, b.s.RAM})
			}
		},
	}
}

func (b *builder) addFarm(x pairing) {
	farm, frame := b.m.Farms[x.at], x.crews[0].frame
	start := max(farm.Lead, b.c.uploaded(b.s, farm.Source, x.transfer), b.c.farms[x.at])
	rounds := max(0, b.deadline-x.transfer.Delivery-start) / frame
	capacity := int(min(Millis(b.s.Frames), rounds*Millis(farm.Nodes)))
	price := perFrame(farm.NodePrice, frame) + farm.FramePrice.Float()
	book := func(frames int) {
		nodes := min(frames, farm.Nodes)
		end := start + Millis((frames+nodes-1)/nodes)*frame
		b.upload(farm.Source, x.transfer)
		b.draft.book(Booking{Shot: b.s.ID, Farm: farm.ID, Nodes: nodes, Frames: frames, Start: start, End: end}, x.transfer.Delivery)
		b.c.farms[x.at] = end
		b.c.charged[x.at] += price * float64(frames)
	}
	if capacity == 0 {
		return
	}
	least, before := farm.MinimumCharge.Float(), b.c.charged[x.at]
	if least <= before {
		b.lanes = append(b.lanes, lane{capacity, price, frame, book})
		return
	}
	paid := before
	if before > 0 {
		paid = least // the least charge is already paid for what it did so far
	}
	candidates := make([]rung, capacity)
	for n := range candidates {
		candidates[n] = rung{n + 1, max(least, before+price*float64(n+1)) - paid}
	}
	kept := climb(candidates)
	farmLadder := ladder{book: func(_, frames int) { book(frames) }}
	for _, i := range kept {
		farmLadder.rungs = append(farmLadder.rungs, candidates[i])
	}
	b.ladders = append(b.ladders, farmLadder)
}

// upload books sending the shot's package to a source, once.
func (b *builder) upload(source string, t Transfer) {
	if t.Upload == 0 || b.draft.sent(b.s.ID, source) {
		return
	}
	end := b.c.uploaded(b.s, source, t)
	b.draft.plan.Uploads = append(b.draft.plan.Uploads, Upload{b.s.ID, source, end - t.Upload, end})
	b.c.uploads[source] = end
}

// addOffer adds a ladder for each server that may still be let.
func (b *builder) addOffer(x pairing) {
	offer := b.m.Offers[x.at]
	start := max(offer.Lead, b.c.uploaded(b.s, offer.Source, x.transfer))
	room := b.deadline - x.transfer.Delivery - start
	limit := renderers(offer.RAM, b.s.RAM)
	ways := [][]timedCrew{x.crews}
	if !b.relaxed && (limit < len(x.crews) || shareDevices(x.crews)) {
		ways = divisions(x.crews, limit, func(t timedCrew) string { return fmt.Sprint(t.frame) })
	}
	var candidates []rung
	var ends []Millis // of each candidate, how long the server works
	var from []int
	meter := offer.Meter()
	for w, way := range ways {
		for n, work := range finishTimes(way, room, b.s.Frames) {
			billed := meter.Billed((offer.Lead + work + offer.Wrap).Duration())
			cost := perFrame(offer.Price, MillisOf(billed)) + offer.Fee.Float()
			candidates, ends, from = append(candidates, rung{n + 1, cost}), append(ends, work), append(from, w)
		}
	}
	kept := climb(candidates)
	if len(kept) == 0 {
		return
	}
	rungs := make([]rung, len(kept))
	for i, k := range kept {
		rungs[i] = candidates[k]
	}
	book := func(r, frames int) {
		way := ways[from[kept[r]]]
		id := fmt.Sprintf("%s#%d", offer.ID, b.c.servers[x.at]+1)
		b.c.servers[x.at]++
		b.upload(offer.Source, x.transfer)
		last := start
		for i, n := range share(way, ends[kept[r]], frames) {
			if n > 0 {
				end := start + Millis(n)*way[i].frame
				b.draft.book(Booking{Shot: b.s.ID, Server: id, Crew: way[i].ID, Frames: n, Start: start, End: end}, x.transfer.Delivery)
				last = max(last, end)
			}
		}
		b.draft.plan.Servers = append(b.draft.plan.Servers, Server{id, offer.ID, start - offer.Lead, last + offer.Wrap})
	}
	for range min(offer.MaxServers-b.c.servers[x.at], b.s.Frames) {
		b.ladders = append(b.ladders, ladder{rungs, book})
	}
}

// finishTimes returns, for 1, 2, 3 … frames, the shortest time in which the
// crews finish that many side by side, up to room and to the given frames.
func finishTimes(crews []timedCrew, room Millis, frames int) []Millis {
	var times []Millis
	for _, c := range crews {
		for n := 1; n <= frames && Millis(n)*c.frame <= room; n++ {
			times = append(times, Millis(n)*c.frame)
		}
	}
	slices.Sort(times)
	return times[:min(len(times), frames)]
}

// share divides frames over crews that work for the given time; what is too many
// for it, because fewer frames are wanted than would fit, is taken off the
// slowest first.
func share(crews []timedCrew, work Millis, frames int) []int {
	counts := make([]int, len(crews))
	total := 0
	for i, c := range crews {
		counts[i] = int(work / c.frame)
		total += counts[i]
	}
	for ; total > frames; total-- {
		latest := 0
		for i, c := range crews {
			if Millis(counts[i])*c.frame >= Millis(counts[latest])*crews[latest].frame {
				latest = i
			}
		}
		counts[latest]--
	}
	return counts
}

// planSeated plans a shot that needs licence seats: where it would use more
// hosts and servers than there are seats, the one with the fewest frames is left
// out and the rest planned again.
func (m *model) planSeated(s shotModel, deadline Millis, c *calendar) (float64, func(*draft)) {
	seats := -c.seats[s.Licence]
	for _, l := range m.Licences {
		if l.ID == s.Licence {
			seats += l.Seats
		}
	}
	for {
		cost, _ := m.planShotOn(s, deadline, c, false)
		if math.IsInf(cost, 1) {
			return cost, nil
		}
		trial := &draft{}
		_, book := m.planShotOn(s, deadline, c.clone(), false)
		book(trial)
		units := map[string]int{}
		for _, b := range trial.plan.Bookings {
			if b.Farm == "" {
				units[b.Host+b.Server] += b.Frames
			}
		}
		if len(units) <= seats {
			_, book := m.planShotOn(s, deadline, c, false)
			return cost, func(d *draft) {
				book(d)
				c.seats[s.Licence] += len(units)
			}
		}
		s = s.withoutSmallest(m, trial.plan, units)
	}
}

// withoutSmallest leaves out the host, or one kind of server, with the fewest frames.
func (s shotModel) withoutSmallest(m *model, plan Plan, units map[string]int) shotModel {
	offer := map[string]string{}
	for _, x := range plan.Servers {
		offer[x.ID] = x.Offer
	}
	smallest := ""
	for _, b := range plan.Bookings {
		if u := b.Host + b.Server; b.Farm == "" && (smallest == "" || units[u] < units[smallest]) {
			smallest = u
		}
	}
	s.hosts = slices.DeleteFunc(slices.Clone(s.hosts), func(x pairing) bool { return m.Hosts[x.at].ID == smallest })
	s.offers = slices.DeleteFunc(slices.Clone(s.offers), func(x pairing) bool { return m.Offers[x.at].ID == offer[smallest] })
	return s
}
