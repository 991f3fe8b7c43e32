// Package ledger accounts for a run: every second and coin by entry, what it was
// estimated at, what was charged, and why the two differ. It prices by package
// pricing alone, as planning does, so that a plan that goes as planned costs what it
// was planned to.
package ledger

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/pricing"
)

// Kinds of entries: what the money went to.
const (
	Frames  = "frames"  // tries that gave a frame
	Failed  = "failed"  // tries that gave none
	Waiting = "waiting" // a server's boot and set-up
	Unused  = "unused"  // paid time in which nothing was rendered
	Fee     = "fee"     // of a server
	Least   = "least"   // what a farm's minimum charge is above its work
	Seats   = "seats"   // extra licence seats
	Orphan  = "orphan"  // a server that no run knew of
)

// Entry is one line.
type Entry struct {
	Source, Place, Crew, Shot string
	Kind                      string
	Day                       time.Time
	Frames                    int
	Time                      time.Duration
	Opening, OpeningPlanned   time.Duration // of Time and of what was planned: opening scenes
	Estimated, Charged        pricing.Money
	Metered                   string // what the source's meter said, in its own currency
	Why                       string
}

// Work is what a crew did of a shot on a day, and what it was planned to do.
type Work struct {
	Crew, Shot          string
	Day                 time.Time
	Planned             int
	PlannedTime         time.Duration
	Done, Failed        int
	DoneTime, FailedTry time.Duration
	Opening             time.Duration // of DoneTime, opening scenes; 0: it is not known
	OpeningPlanned      time.Duration // of PlannedTime
	Causes              []string      // of the failed tries, each once
	Open                bool          // the run goes on: what is not done may still be
}

// Owned is one's own host: work at a price an hour of each crew.
type Owned struct {
	Source, Place string
	Price         func(crew string) pricing.Money
	Work          []Work
}

// Entries accounts for an owned host.
func (o Owned) Entries() (out []Entry) {
	for _, w := range o.Work {
		price := o.Price(w.Crew)
		e := Entry{
			Source: o.Source, Place: o.Place, Crew: w.Crew, Shot: w.Shot, Kind: Frames, Day: w.Day, Frames: w.Done, Time: w.DoneTime, Opening: w.Opening, OpeningPlanned: w.OpeningPlanned,
			Estimated: pricing.PerHour(price, w.PlannedTime), Charged: pricing.PerHour(price, w.DoneTime), Why: w.why(),
		}
		e.explain(brief(w.DoneTime), brief(w.PlannedTime)+" planned")
		if w.Planned > 0 || w.Done > 0 {
			out = append(out, e)
		}
		if w.Failed > 0 {
			out = append(out, Entry{
				Source: o.Source, Place: o.Place, Crew: w.Crew, Shot: w.Shot, Kind: Failed, Day: w.Day, Time: w.FailedTry,
				Charged: pricing.PerHour(price, w.FailedTry), Why: w.whyFailed(),
			})
		}
	}
	return out
}

func perFrame(t time.Duration, n int) string {
	return fmt.Sprintf("%.1f s", t.Seconds()/float64(n))
}

// why says why what was done is not what was planned.
func (w Work) why() string {
	var said []string
	switch {
	case w.Done < w.Planned && w.Open:
		said = append(said, fmt.Sprintf("%d of its %d frames are not done yet", w.Planned-w.Done, w.Planned))
	case w.Done < w.Planned && w.Done == 0:
		said = append(said, fmt.Sprintf("others rendered its %d frames", w.Planned))
	case w.Done < w.Planned:
		said = append(said, fmt.Sprintf("others rendered %d of its %d frames", w.Planned-w.Done, w.Planned))
	case w.Done > w.Planned && w.Planned == 0:
		said = append(said, "helped out, was not booked")
	case w.Done > w.Planned:
		said = append(said, fmt.Sprintf("took %d frames of others", w.Done-w.Planned))
	}
	if w.Done > 0 && w.Planned > 0 {
		if was, is := perFrame(w.PlannedTime, w.Planned), perFrame(w.DoneTime, w.Done); was != is {
			said = append(said, is+" a frame, "+was+" planned"+w.whyOpening())
		}
	}
	return strings.Join(said, "; ")
}

// whyOpening says how much of a frame's time was opening its scene, where that is a good part
// of what differs.
func (w Work) whyOpening() string {
	if w.Opening == 0 {
		return ""
	}
	planned, done := w.PlannedTime.Seconds()/float64(w.Planned), w.DoneTime.Seconds()/float64(w.Done)
	was, is := w.OpeningPlanned.Seconds()/float64(w.Planned), w.Opening.Seconds()/float64(w.Done)
	if (is-was)*(done-planned) <= 0 || math.Abs(is-was) < 0.25*math.Abs(done-planned) {
		return ""
	}
	return fmt.Sprintf(" (opening the scene %.1f s of it, %.1f s planned)", is, was)
}

func (w Work) whyFailed() string {
	out := fmt.Sprintf("%d tries gave no frame", w.Failed)
	if w.Failed == 1 {
		out = "1 try gave no frame"
	}
	if len(w.Causes) > 0 {
		out += ": " + strings.Join(w.Causes, ", ")
	}
	return out
}

// Server is a rented server. Its prices are in the ledger's currency, discount and
// tax in them.
type Server struct {
	Source, Place string
	Meter         pricing.Meter
	Day           time.Time
	Planned       time.Duration // 0: it was not in the plan
	PlannedBoot   time.Duration
	Boot          time.Duration // from being asked for until it was up
	Existed       time.Duration
	Charged       *pricing.Money // what the source's meter came to; nil while it runs
	Metered       string
	Work          []Work
	Trouble       string
}

// Entries accounts for a server: its rent is divided by the time of its crews. The
// parts add up to the whole exactly.
func (s Server) Entries() (out []Entry) {
	if s.Planned == 0 && s.Existed == 0 && s.Charged == nil {
		return nil
	}
	var estimated, charged pricing.Money
	fee := s.Meter.Fee
	if s.Planned > 0 {
		estimated = s.Meter.Charge(s.Planned).Minus(fee)
	}
	billed := time.Duration(0)
	if s.Existed > 0 {
		billed = s.Meter.Billed(s.Existed)
		charged = s.Meter.Charge(s.Existed).Minus(fee)
	}
	if s.Charged != nil {
		charged = s.Charged.Minus(fee).Max(pricing.Money{})
	}
	crews := s.crews()
	plannedRest, rest := estimated, charged
	entry := func(kind string, w Work, t time.Duration, n int, planned, real time.Duration, why string) {
		e := Entry{Source: s.Source, Place: s.Place, Crew: w.Crew, Shot: w.Shot, Kind: kind, Day: s.Day, Frames: n, Time: t, Why: why}
		if kind == Frames {
			e.Opening, e.OpeningPlanned = w.Opening, w.OpeningPlanned
		}
		e.Estimated = part(estimated, planned, s.Meter.Billed(s.Planned), crews)
		e.Charged = part(charged, real, billed, crews)
		if e.Estimated.Cmp(plannedRest) > 0 {
			e.Estimated = plannedRest
		}
		if e.Charged.Cmp(rest) > 0 {
			e.Charged = rest
		}
		plannedRest, rest = plannedRest.Minus(e.Estimated), rest.Minus(e.Charged)
		e.explain(brief(real/time.Duration(crews))+" of the rent of "+brief(billed), brief(planned/time.Duration(crews))+" of "+brief(s.Meter.Billed(s.Planned))+" planned")
		out = append(out, e)
	}
	for _, w := range s.Work {
		if w.Planned > 0 || w.Done > 0 {
			entry(Frames, w, w.DoneTime, w.Done, w.PlannedTime, w.DoneTime, w.why())
		}
		if w.Failed > 0 {
			entry(Failed, w, w.FailedTry, 0, 0, w.FailedTry, w.whyFailed())
		}
	}
	entry(Waiting, Work{}, s.Boot, 0, s.PlannedBoot*time.Duration(crews), s.Boot*time.Duration(crews), s.whyBoot())
	out = append(out, s.unused(billed, crews, plannedRest, rest))
	if !fee.IsZero() {
		e := Entry{Source: s.Source, Place: s.Place, Kind: Fee, Day: s.Day}
		if s.Planned > 0 {
			e.Estimated = fee
		}
		if s.Existed > 0 || s.Charged != nil {
			e.Charged = fee
		}
		e.explain("the fee of a server that stood "+brief(s.Existed), brief(s.Planned)+" planned")
		out = append(out, e)
	}
	return out
}

// unused is the entry for what of the paid time nothing was rendered in: what is left
// of the rent once crews and boot have their parts.
func (s Server) unused(billed time.Duration, crews int, estimated, charged pricing.Money) Entry {
	real, planned := s.Boot*time.Duration(crews), s.PlannedBoot*time.Duration(crews)
	for _, w := range s.Work {
		real += w.DoneTime + w.FailedTry
		planned += w.PlannedTime
	}
	e := Entry{
		Source: s.Source, Place: s.Place, Kind: Unused, Day: s.Day, Time: max(0, billed-real/time.Duration(crews)),
		Estimated: estimated, Charged: charged, Metered: s.Metered, Why: s.whyUnused(billed),
	}
	wholePlan := s.Meter.Billed(s.Planned)
	e.explain(fmt.Sprintf("%s of %s paid were not used", brief(e.Time), brief(billed)),
		fmt.Sprintf("%s of %s planned", brief(max(0, wholePlan-planned/time.Duration(crews))), brief(wholePlan)))
	return e
}

// explain says what was and what was planned, where the money differs by a hundredth
// and nothing else is said of why.
func (e *Entry) explain(was, planned string) {
	if e.Why == "" && !e.Charged.Minus(e.Estimated).Rounded().IsZero() {
		e.Why = was + ", " + planned
	}
}

// crews is how many crews work side by side on the server.
func (s Server) crews() int {
	var names []string
	for _, w := range s.Work {
		names = append(names, w.Crew)
	}
	slices.Sort(names)
	return max(1, len(slices.Compact(names)))
}

// part is the share of an amount that a time takes of a whole, several crews wide.
func part(amount pricing.Money, t, whole time.Duration, crews int) pricing.Money {
	if whole <= 0 || t <= 0 {
		return pricing.Money{}
	}
	return amount.Scaled(big.NewRat(int64(t), int64(whole)*int64(crews)))
}

func (s Server) whyBoot() string {
	if s.Boot == 0 || s.PlannedBoot == 0 {
		return ""
	}
	late := (s.Boot - s.PlannedBoot).Round(time.Second)
	switch {
	case late > time.Minute:
		return fmt.Sprintf("up %s later than planned", late)
	case late < -time.Minute:
		return fmt.Sprintf("up %s sooner than planned", -late)
	}
	return ""
}

func (s Server) whyUnused(billed time.Duration) string {
	var said []string
	if s.Trouble != "" {
		said = append(said, s.Trouble)
	}
	switch {
	case billed > s.Existed && s.Existed > 0 && billed == s.Meter.Minimum:
		said = append(said, fmt.Sprintf("%s at the least are paid, it stood %s", clock(billed), clock(s.Existed)))
	case billed-s.Existed > time.Minute && s.Existed > 0:
		said = append(said, fmt.Sprintf("paid for %s, it stood %s", clock(billed), clock(s.Existed)))
	}
	if planned := s.Meter.Billed(s.Planned); s.Planned > 0 && s.Existed > 0 && billed > planned {
		said = append(said, fmt.Sprintf("stood on into %s more than planned", clock(billed-planned)))
	} else if s.Planned == 0 {
		said = append(said, "was not planned: it took the place of another")
	} else if s.Existed == 0 && s.Charged == nil {
		said = append(said, "was not let")
	}
	return strings.Join(said, "; ")
}

// brief writes a time so that two that differ by a second are told apart.
func brief(d time.Duration) string { return d.Round(time.Second).String() }

func clock(d time.Duration) string {
	d = d.Round(time.Minute)
	if h := int(d.Hours()); h > 0 {
		return fmt.Sprintf("%d h %02d min", h, int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d min", int(d.Minutes()))
}

// Job is what a farm did, in the ledger's currency.
type Job struct {
	Source, Place string // the farm
	Day           time.Time
	Estimated     pricing.Money // of its booked frames, the minimum charge not counted
	EstimatedTop  pricing.Money // what of the farm's minimum charge was planned above that work
	Charged       *pricing.Money
	SoFar         pricing.Money // what it comes to so far, while it is not charged yet
	WorkCharge    pricing.Money // of Charged, what its work alone comes to
	Metered       string
	Work          Work
	Trouble       string
}

// Entries accounts for a farm's job.
func (j Job) Entries() []Entry {
	charged, work := j.SoFar, j.SoFar
	if j.Charged != nil {
		charged, work = *j.Charged, j.WorkCharge
	}
	if work.Cmp(charged) > 0 || charged.Minus(work).Rounded().IsZero() {
		work = charged // but for the rounding of its meter
	}
	w := j.Work
	good := work
	var out []Entry
	if all := w.DoneTime + w.FailedTry; w.Failed > 0 && all > 0 {
		good = part(work, w.DoneTime, all, 1)
	}
	e := Entry{Source: j.Source, Place: j.Place, Crew: w.Crew, Shot: w.Shot, Kind: Frames, Day: j.Day, Frames: w.Done, Time: w.DoneTime, Opening: w.Opening, OpeningPlanned: w.OpeningPlanned, Estimated: j.Estimated, Charged: good, Metered: j.Metered, Why: join(w.why(), j.Trouble)}
	e.explain(brief(w.DoneTime)+" at its meter", brief(w.PlannedTime)+" planned")
	out = append(out, e)
	if w.Failed > 0 {
		out = append(out, Entry{Source: j.Source, Place: j.Place, Crew: w.Crew, Shot: w.Shot, Kind: Failed, Day: j.Day, Time: w.FailedTry, Charged: work.Minus(good), Why: w.whyFailed()})
	}
	if top := charged.Minus(work).Max(pricing.Money{}); !top.IsZero() || !j.EstimatedTop.IsZero() {
		e := Entry{Source: j.Source, Place: j.Place, Shot: w.Shot, Kind: Least, Day: j.Day, Estimated: j.EstimatedTop, Charged: top}
		switch {
		case !top.IsZero():
			e.Why = "the farm's minimum charge is more than its work"
		case j.Charged != nil:
			e.Why = "its work came to the farm's minimum charge"
		default:
			e.Why = "not charged yet"
		}
		out = append(out, e)
	}
	return out
}

func join(a, b string) string {
	return strings.Trim(a+"; "+b, "; ")
}

// Total adds up what entries were estimated at and charged.
func Total(all []Entry) (estimated, charged pricing.Money) {
	for _, e := range all {
		estimated, charged = estimated.Plus(e.Estimated), charged.Plus(e.Charged)
	}
	return estimated, charged
}
