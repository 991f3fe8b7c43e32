package dispatch

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Pool is a licence's seats, as they stand for one host.
type Pool struct {
	Name   string
	Total  int  // with those that are hired
	Held   int  // by other hosts
	Mine   bool // the host holds one
	Wanted int  // by hosts that hold none and of which a crew wants one: see Wants
}

// Seat says whether the host may have a seat, or keep its own. Owes is whether the crew
// that needs it was booked for what it takes.
func (p Pool) Seat(owes bool) Verdict {
	held := p.Held
	if !owes && !p.Mine {
		held += p.Wanted
	}
	if held >= p.Total && !p.Mine || held > p.Total {
		return Verdict{When: Later, Reason: NoSeat, Detail: fmt.Sprintf("%d of %d of %s are held or wanted by others", held, p.Total, p.Name)}
	}
	return Verdict{When: Now}
}

// Wants reports whether a crew was booked for frames of which one waits that it takes
// without regard to others. The host of one that does keeps the seat that it holds, as
// does one that renders with the licence; all others give theirs back.
func Wants(c *Crew, kinds []Kind) bool {
	return c.Excluded == "" && c.State != Gone && c.Owed() > 0 && slices.ContainsFunc(kinds, func(k Kind) bool {
		return !k.tied(c.Place) && (c.Trial || !k.failedOn(c))
	})
}

// Queue is where the frames wait. Choose asks it for no more than it needs.
type Queue interface {
	// Kinds are those of the waiting frames of the crew's shot, the one with the first
	// frame first. How many wait of those that were never tried need not be said.
	Kinds(c *Crew) ([]Kind, error)
	// Others are the bookings of the crew's shot in its run, its own among them or not,
	// and how many of the shot's frames wait.
	Others(c *Crew) ([]*Crew, int, error)
	// Pool is the seats of the crew's licence; false: nobody counts them.
	Pool(c *Crew) (Pool, bool, error)
	// Take leases frames of a kind to the crew for its next start, the first ones, with a seat
	// if it needs one, and says how many; none: somebody else was faster.
	Take(c *Crew, k *Kind) (int, error)
}

// Host is a machine: what is rendered on it and who could take more.
type Host struct {
	Name     string
	Busy     []string // devices that render
	MemoryGB float64  // of the host
	UsedGB   float64  // by what is rendered
	Crews    []*Crew  // in the order of Sort

	Verdicts []Verdict // of each crew, set by Choose

	helps []bool    // of each crew, whether it has done what it was booked for
	kept  []string  // devices that are kept for a crew that comes first
	keeps string    // that crew
	until time.Time // when it closes; zero: never
}

// Sort puts crews into the order in which they choose: trials first, then those of the
// more urgent run, then by their start.
func Sort(crews []*Crew) {
	slices.SortStableFunc(crews, func(a, b *Crew) int {
		if a.Trial != b.Trial {
			if a.Trial {
				return -1
			}
			return 1
		}
		return cmp.Or(cmp.Compare(b.Priority, a.Priority), a.Start.Compare(b.Start), cmp.Compare(a.ID, b.ID))
	})
}

// Choose lets the host's crews take frames: each what it was booked for, then whoever
// has done that helps. What it found of each crew stands in Verdicts.
func (h *Host) Choose(q Queue, now time.Time) error {
	h.Verdicts = slices.Grow(h.Verdicts[:0], len(h.Crews))[:len(h.Crews)]
	h.helps = slices.Grow(h.helps[:0], len(h.Crews))[:len(h.Crews)]
	h.kept, h.keeps, h.until = h.kept[:0], "", time.Time{}
	for i, c := range h.Crews {
		h.helps[i] = !c.Trial && c.Owed() == 0
	}
	for _, helping := range [2]bool{false, true} {
		for i, c := range h.Crews {
			if h.helps[i] != helping {
				continue
			}
			v, err := h.turn(q, c, now)
			if err != nil {
				return err
			}
			h.Verdicts[i] = v
		}
	}
	return nil
}

// turn lets one crew take a frame, if it may.
func (h *Host) turn(q Queue, c *Crew, now time.Time) (Verdict, error) {
	if v := c.Stands(now); v.When != Now {
		return v, nil
	}
	owes := c.Trial || c.Owed() > 0
	if v := h.room(c); v.When != Now {
		if v.Reason == DevicesBusy && owes {
			return v, h.keep(q, c)
		}
		return v, nil
	}
	return h.pick(q, c, now)
}

// room says whether the host has the devices and the memory for a crew.
func (h *Host) room(c *Crew) Verdict {
	if busy := overlap(c.Devices, h.Busy); busy != "" {
		return Verdict{When: Later, Reason: DevicesBusy, Detail: busy}
	}
	if overlap(c.Devices, h.kept) != "" {
		return Verdict{When: Later, Reason: DevicesKept, Detail: h.keeps, At: h.until}
	}
	if h.UsedGB > 0 && h.UsedGB+c.MemoryGB > h.MemoryGB {
		return Verdict{When: Later, Reason: MemoryFull, Detail: fmt.Sprintf("%.4g of %.4g GB are in use, it takes %.4g", h.UsedGB, h.MemoryGB, c.MemoryGB)}
	}
	return Verdict{When: Now}
}

// May says whether a crew of the host may take a frame of a kind as things are: all of
// the rule, with its devices, memory and seat. Nothing is taken.
func (h *Host) May(q Queue, c *Crew, k *Kind, now time.Time) (Verdict, error) {
	v, owes, err := h.ask(q, c, k, now)
	if err != nil || v.When != Now {
		return v, err
	}
	if room := h.room(c); room.When != Now {
		return room, nil
	}
	return seated(q, c, owes, v)
}

// ask asks the rule about a crew and a kind, the host set aside.
func (h *Host) ask(q Queue, c *Crew, k *Kind, now time.Time) (v Verdict, owes bool, err error) {
	var all []*Crew
	waiting := 0
	owes = c.Trial || c.Owed() > 0
	if beyond := !owes || c.late(now) || k.failedOn(c); beyond && !c.Trial && !k.tied(c.Place) {
		if all, waiting, err = q.Others(c); err != nil {
			return v, owes, err
		}
	}
	return Takes(c, k, all, waiting, now), owes, nil
}

// seated is a verdict if the crew's host may have a seat for it, or why not.
func seated(q Queue, c *Crew, owes bool, v Verdict) (Verdict, error) {
	if c.Licence == "" {
		return v, nil
	}
	pool, counted, err := q.Pool(c)
	if err != nil || !counted {
		return v, err
	}
	if seat := pool.Seat(owes); seat.When != Now {
		return seat, nil
	}
	return v, nil
}

// keep keeps the free devices of a crew that owes frames for it, until those are free
// that are busy: else smaller crews would take them from it for ever.
func (h *Host) keep(q Queue, c *Crew) error {
	if !slices.ContainsFunc(c.Devices, func(d string) bool { return !slices.Contains(h.Busy, d) && !slices.Contains(h.kept, d) }) {
		return nil
	}
	kinds, err := q.Kinds(c)
	if Wants(c, kinds) {
		h.kept, h.keeps, h.until = append(h.kept, c.Devices...), c.Name, sooner(h.until, c.closes())
	}
	return err
}

// overlap is the first of the devices that is among others, or "".
func overlap(devices, others []string) string {
	for _, d := range devices {
		if slices.Contains(others, d) {
			return d
		}
	}
	return ""
}

// pick takes the first frame that the crew may have: first of those that failed
// elsewhere, for here is elsewhere, then of those never tried, then of those that failed
// here.
func (h *Host) pick(q Queue, c *Crew, now time.Time) (Verdict, error) {
	kinds, err := q.Kinds(c)
	if err != nil {
		return Verdict{}, err
	}
	nearest := Verdict{When: Later, Reason: NothingWaits, Detail: c.Shot}
	found := false
	classes := 3
	if len(kinds) == 1 {
		classes = 1
	}
	for class := range classes {
		for i := range kinds {
			k := &kinds[i]
			if classes > 1 && classOf(k, c) != class {
				continue
			}
			v, err := h.tryKind(q, c, k, now)
			if err != nil || v.When == Now || v.Reason == NoSeat {
				return v, err
			}
			if !found || v.nearer(nearest) {
				nearest, found = v, true
			}
		}
	}
	return nearest, nil
}

func classOf(k *Kind, c *Crew) int {
	switch {
	case k.failedOn(c):
		return 2
	case k.Tried:
		return 0
	}
	return 1
}

// tryKind takes a frame of the kind if the rule allows it.
func (h *Host) tryKind(q Queue, c *Crew, k *Kind, now time.Time) (Verdict, error) {
	v, owes, err := h.ask(q, c, k, now)
	if err != nil || v.When != Now {
		return v, err
	}
	if v, err = seated(q, c, owes, v); err != nil || v.When != Now {
		return v, err
	}
	taken, err := q.Take(c, k)
	if err != nil || taken == 0 {
		return Verdict{When: Later, Reason: NothingWaits, Detail: c.Shot}, err
	}
	c.Taken += taken
	h.Busy = append(h.Busy, c.Devices...)
	h.UsedGB += c.MemoryGB
	return v, nil
}

// Next is when, by time alone, one of the host's crews may take a frame that may not
// now; zero if nobody will.
func (h *Host) Next() (next time.Time) {
	for _, v := range h.Verdicts {
		if v.When == Later {
			next = sooner(next, v.At)
		}
	}
	return next
}
