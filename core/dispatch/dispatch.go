// Package dispatch is the rule by which waiting frames find crews while a plan is
// carried out: whether a crew may take a frame now, later or never, and why; which
// frame a free crew takes next; and whether anybody is left for a frame.
//
// Plain records go in and verdicts come out. Leasing, frames that are left over,
// servers that stay on, frames that ran out of memory, simulations and the answers to
// "why is this not rendered" all ask it, and nobody decides again.
//
// # The rule
//
// A crew takes what it was booked for as soon as its booking starts, failed frames of
// others first; but none that it would have done too late, while the others may have all that
// waits done in time. A frame that failed on a crew is left to crews on which it did not,
// while one of them is left. When its booking is done a crew helps: it takes a frame
// beyond it only if more frames wait than the others will finish by their planned
// ends, a frame more or less, and only if the others would not have them all done before
// it has its one. So the plan's division of the work, and its cost, stand while all goes
// well; no slow, late or dead crew keeps a frame from being rendered; and none takes a last
// frame that faster ones are about to come to. A host renders as
// much side by side as its devices, its memory and the seats of licences allow; whoever
// only helps leaves seats to those who were booked.
package dispatch

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Tries of a frame.
const (
	DefaultTries = 3 // that may fail before it is given up
	FarmTries    = 2 // that a farm makes by itself, which count as one
)

// tick is the least that times differ by, as a service's clock tells them.
const tick = time.Millisecond

// Kind is the waiting frames of one shot that are alike to the rule: they failed on the
// same crews and are tied to the same ones. Frames that were never tried are one kind.
type Kind struct {
	FailedOn []string // places, as Crew.Place, where they failed
	OnlyOn   []string // places that alone may have them; none: all
	Tried    bool     // they failed before
	Waiting  int      // how many; at least 1
	First    int64    // the one that is taken first, in the caller's numbering
}

// failedOn reports whether they failed on the crew, or on another that shares a device with it: what
// fails on g0 most likely fails on g0+g1.
func (k *Kind) failedOn(c *Crew) bool {
	for _, place := range k.FailedOn {
		if place == c.Place {
			return true
		}
		host, crew, _ := strings.Cut(place, "/")
		if host == c.Host && slices.ContainsFunc(strings.Split(crew, "+"), func(d string) bool { return slices.Contains(strings.Split(c.Name, "+"), d) }) {
			return true
		}
	}
	return false
}

// alone reports whether a kind has to be weighed by itself, as not everybody may have it.
func (k *Kind) alone() bool { return len(k.FailedOn)+len(k.OnlyOn) > 0 }

// tied reports whether the kind is for others than the place alone.
func (k *Kind) tied(place string) bool {
	return len(k.OnlyOn) > 0 && !slices.Contains(k.OnlyOn, place)
}

// State is how the machine of a crew stands.
type State int

// States of machines.
const (
	Ready  State = iota // it asks for frames
	Coming              // a server or a farm's job that is yet to begin
	Silent              // a rented server that is not heard of; its source is being asked
	InUse               // a desk whose owner works at it
	Gone                // nothing will ask for frames, as things stand
)

// Crew is one booking: what a plan gave the devices of one host to do of one shot, as
// it stands now. One of no frames is a reserve, which only helps.
type Crew struct {
	ID      int64
	Host    string
	Name    string
	Place   string // Host/Name, as kinds name it: see Place
	Shot    string
	Devices []string

	Frames int           // booked
	Taken  int           // done or being rendered under this booking
	Start  time.Time     // not before
	End    time.Time     // planned
	Close  time.Time     // no frame may run past it; zero: there is none
	Due    time.Time     // the shot's frames are to be done by then; zero: at any time
	Frame  time.Duration // expected for one frame; of a farm: until the next is done

	MemoryGB float64  // host memory of one renderer
	Licence  string   // the pool of which its host needs a seat; "": none
	Excluded string   // why it gets no more frames of the shot; "": it does
	Trial    bool     // it has its frames for itself
	Priority Priority // of its run
	Farm     bool     // takes what it was booked for all at once, and helps nobody

	State State
	Said  string // of Gone and InUse: what is the matter, such as "is draining"
}

// Place names a crew among all.
func Place(host, crew string) string { return host + "/" + crew }

// Owed is how many booked frames the crew has not yet taken.
func (c *Crew) Owed() int { return max(0, c.Frames-c.Taken) }

// Stands says whether the crew takes any frame at all now, whatever else is rendered
// on its host.
func (c *Crew) Stands(now time.Time) Verdict {
	switch {
	case c.Excluded != "":
		return Verdict{When: Never, Reason: Excluded, Detail: c.Excluded}
	case !c.Close.IsZero() && now.Add(c.Frame).After(c.Close):
		return Verdict{When: Never, Reason: Closed, At: c.Close}
	case c.State == Gone:
		return Verdict{When: Never, Reason: HostGone, Detail: c.Said}
	case c.State == Silent:
		return Verdict{When: Later, Reason: HostSilent}
	case c.State == InUse:
		return Verdict{When: Later, Reason: HostInUse, Detail: c.Said}
	case c.State == Coming:
		return Verdict{When: Later, Reason: HostComing, At: later(now, c.Start)}
	case c.Start.After(now):
		return Verdict{When: Later, Reason: NotStarted, At: c.Start}
	}
	return Verdict{When: Now, Reason: Booked}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// left reports whether the crew is left for a frame of the kind: it will take it if
// nobody else does. One on which it failed is left too, unless it is a farm, which is
// not handed a frame twice.
func (c *Crew) left(k *Kind, now time.Time) bool {
	if k.alone() && (k.tied(c.Place) || c.Farm && k.failedOn(c)) {
		return false
	}
	return c.Stands(now).When != Never
}

// elsewhere reports whether the crew is left for the kind and it did not fail on it.
func (c *Crew) elsewhere(k *Kind, now time.Time) bool {
	return !k.failedOn(c) && c.left(k, now)
}

// Comes is when the crew takes its next frame, if it will at all.
func (c *Crew) Comes(now time.Time) (at time.Time, will bool) {
	if v := c.Stands(now); v.When == Never || v.When == Later && v.At.IsZero() {
		return time.Time{}, false
	}
	return later(now, c.Start), true
}

// reach is how many of the frames still owed the crew is expected to finish by the
// booking's planned end, and when that falls by one if it takes none until then. It may be late
// by a frame, as between two of them every crew is a little; but it closes, and what was planned
// to be in time has to be.
func (c *Crew) reach(now time.Time) (n int, falls time.Time) {
	owed := c.Owed()
	if owed == 0 || c.Frame <= 0 {
		return 0, time.Time{}
	}
	comes, will := c.Comes(now)
	if !will {
		return 0, time.Time{}
	}
	until := sooner(c.End.Add(c.Frame), c.Close)
	if !c.End.After(c.Due) {
		until = sooner(until, c.Due)
	}
	if n = min(owed, int(until.Sub(comes)/c.Frame)); n <= 0 {
		return 0, time.Time{}
	}
	return n, until.Add(tick - time.Duration(n)*c.Frame)
}

// late reports whether the crew would not have a frame done in time, while that time is yet to
// come.
func (c *Crew) late(now time.Time) bool {
	return !c.Trial && !c.Due.IsZero() && !now.After(c.Due) && now.Add(c.Frame).After(c.Due)
}

// byDue is how many frames the crew may do until its shot is due, and when that falls by one.
func (c *Crew) byDue(now time.Time) (n int, falls time.Time) {
	comes, will := c.Comes(now)
	if !will || c.Frame <= 0 || c.Farm {
		return 0, time.Time{}
	}
	until := sooner(c.Due, c.Close)
	if n = int(until.Sub(comes) / c.Frame); n <= 0 {
		return 0, time.Time{}
	}
	return n, until.Add(tick - time.Duration(n)*c.Frame)
}

// reachOf is the reach of a crew that another leaves frames of a kind to; 0 where it is itself.
func (c *Crew) reachOf(helper *Crew, k *Kind, now time.Time) (n int, falls time.Time) {
	if c.ID == helper.ID || c.Owed() == 0 || k.alone() && !c.elsewhere(k, now) {
		return 0, time.Time{}
	}
	return c.reach(now)
}

// meanwhile is how many frames the crew, which was booked for the shot, does at least while
// another does one that takes so long, each after one that it has in hand; and when that is
// not to be relied on any more: so long after its planned end, or so long before it closes.
func (c *Crew) meanwhile(takes time.Duration, now time.Time) (n int, until time.Time) {
	comes, will := c.Comes(now)
	until = c.End.Add(takes)
	if !will || c.Frames == 0 || c.Frame <= 0 || !now.Before(until) || !c.Close.IsZero() && c.Close.Before(now.Add(takes)) {
		return 0, time.Time{}
	}
	if !c.Close.IsZero() {
		until = sooner(until, c.Close.Add(tick-takes))
	}
	return max(0, int((takes-comes.Sub(now))/c.Frame)-1), until
}

// closes is when the crew begins no frame any more; zero: never.
func (c *Crew) closes() time.Time {
	if c.Close.IsZero() {
		return time.Time{}
	}
	return c.Close.Add(tick - c.Frame)
}

// sooner is the earlier of two times, of which zero is never.
func sooner(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Takes says whether a crew may take a frame of a kind, devices, memory and seats set
// aside. All are the bookings of the shot in its run, the crew's own among them or not;
// waiting is how many of the shot's frames wait, of all kinds. Neither is looked at,
// and both may be empty, while the crew owes frames, would be in time with one and the kind
// did not fail on it.
func Takes(c *Crew, k *Kind, all []*Crew, waiting int, now time.Time) Verdict {
	if v := c.Stands(now); v.When != Now {
		return v
	}
	if k.tied(c.Place) {
		return Verdict{When: Never, Reason: Tied, Detail: strings.Join(k.OnlyOn, ", ")}
	}
	here := k.failedOn(c)
	if !here && c.late(now) {
		if v := inTime(c, k, all, waiting, now); v.When != Now {
			return v
		}
	}
	switch {
	case c.Trial && here:
		return Verdict{When: Now, Reason: Again}
	case !here && c.Owed() > 0:
		return Verdict{When: Now, Reason: Booked}
	case here:
		v := Verdict{When: Now, Reason: Again}
		for _, o := range all {
			if !o.elsewhere(k, now) {
				continue
			}
			if v.When == Now {
				v = Verdict{When: Later, Reason: FailedHere, Detail: o.Place}
			}
			v.At = sooner(v.At, o.closes())
		}
		return v
	}
	return helps(c, k, all, waiting, now)
}

// inTime says whether a crew that would be late with a frame leaves those that wait to others who may have
// them all done in time: it is late anyhow.
func inTime(c *Crew, k *Kind, all []*Crew, waiting int, now time.Time) Verdict {
	return leaves(c, k, all, waiting, now, func(o *Crew) (int, time.Time) { return o.byDue(now) })
}

// leaves says whether a crew leaves the frames that wait to others, of whom it is known how many each does and until
// when that is to be relied on. Of those that share devices, those are counted that do more.
func leaves(c *Crew, k *Kind, all []*Crew, waiting int, now time.Time, does func(o *Crew) (int, time.Time)) Verdict {
	if k.alone() {
		waiting = k.Waiting
	}
	type counts struct {
		*Crew
		n int
	}
	done := 0
	var until time.Time
	var counted []counts
	for _, o := range all {
		if o.ID == c.ID || k.alone() && !o.elsewhere(k, now) {
			continue
		}
		n, at := does(o)
		if n == 0 {
			continue
		}
		shares, beside := func(x counts) bool { return x.Shares(o) }, 0
		for _, x := range counted {
			if shares(x) {
				beside += x.n
			}
		}
		if n > beside {
			counted, done = append(slices.DeleteFunc(counted, shares), counts{o, n}), done+n-beside
		}
		if until = sooner(until, at); done >= waiting {
			return Verdict{When: Later, Reason: FasterWill, Detail: o.Place, At: until}
		}
	}
	return Verdict{When: Now}
}

// Shares reports whether two crews use a device of a host both.
func (c *Crew) Shares(o *Crew) bool { return c.Host == o.Host && overlap(c.Devices, o.Devices) != "" }

// helps says whether a crew may take a frame beyond its booking.
func helps(c *Crew, k *Kind, all []*Crew, waiting int, now time.Time) Verdict {
	alone := k.alone()
	if alone {
		waiting = k.Waiting
	}
	reached, others := 0, 0
	for _, o := range all {
		if n, _ := o.reachOf(c, k, now); n > 0 {
			reached, others = reached+n, others+1
		}
	}
	if waiting <= reached {
		// Until each has fallen by so many, the sum is still enough.
		each := (reached - waiting) / max(1, others)
		var at time.Time
		for _, o := range all {
			if n, falls := o.reachOf(c, k, now); n > 0 {
				at = sooner(at, sooner(falls.Add(time.Duration(min(each, n-1))*o.Frame), o.closes()))
			}
		}
		return Verdict{When: Later, Reason: OthersWill, At: at}
	}
	return faster(c, k, all, waiting, now)
}

// faster says whether a crew helps that may, or leaves the frames that wait to those who
// would have done them all by the time that it has done one.
func faster(c *Crew, k *Kind, all []*Crew, waiting int, now time.Time) Verdict {
	v := leaves(c, k, all, waiting, now, func(o *Crew) (int, time.Time) {
		if o.Shares(c) {
			return 0, time.Time{}
		}
		return o.meanwhile(c.Frame, now)
	})
	if v.When == Now {
		v.Reason = Helps
	}
	return v
}

// Hands reports whether frames of a kind are handed to a farm: one that is tied to a
// crew stays with it, and a farm is not handed a frame twice.
func Hands(farm *Crew, k *Kind) bool {
	return len(k.OnlyOn) == 0 && !k.failedOn(farm)
}

// Handed is the verdict on a farm, which is handed its frames when its job begins.
func Handed(farm *Crew, k *Kind) Verdict {
	switch {
	case !Hands(farm, k):
		return Verdict{When: Never, Reason: FailedHere}
	case farm.State == Coming:
		return Verdict{When: Later, Reason: HostComing, At: farm.Start}
	}
	return Verdict{When: Never, Reason: HostGone, Detail: farm.Said}
}

// Left reports whether anybody is left for the frames of a kind among the bookings of
// its shot; where not, why each is not. Each reason names its host, and stands once.
func Left(k *Kind, all []*Crew, now time.Time) (yes bool, why []string) {
	for _, c := range all {
		if c.left(k, now) {
			return true, nil
		}
		v := c.Stands(now)
		if v.When != Never {
			v = Verdict{When: Never, Reason: Tied, Detail: strings.Join(k.OnlyOn, ", ")}
			if !k.tied(c.Place) {
				v = Verdict{When: Never, Reason: FailedHere}
			}
		}
		if said := c.Host + " " + v.Why(); !slices.Contains(why, said) {
			why = append(why, said)
		}
	}
	return false, why
}

// Few joins reasons to a sentence that stays short.
func Few(why []string) string {
	const most = 4
	if len(why) > most {
		why = append(why[:most:most], fmt.Sprintf("and %d others", len(why)-most))
	}
	return strings.Join(why, "; ")
}
