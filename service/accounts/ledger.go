package accounts

import (
	"context"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
	"rotanex.example/service/farms"
	"rotanex.example/service/rental"
	"rotanex.example/service/tally"
)

// worked is what each crew did of a shot on a day, that of a farm by its jobs.
func (s Account) worked() []tally.Sum {
	return tally.Group(s.Tally.Sums, func(x *tally.Sum) {
		if !slices.ContainsFunc(s.Jobs, func(j farms.Job) bool { return j.Farm == x.Host && j.BookingID == x.Booking }) {
			x.Booking = 0
		}
	})
}

// charge is what a source's meter said of a place.
type charge struct {
	Source, Place, Unit string
	At                  time.Time
	Metered             float64
	Amount, Cost        pricing.Money
	Factor              *big.Rat
}

func (c charge) metered() string {
	return fmt.Sprintf("%s %s for %s", c.Unit, c.Amount, time.Duration(c.Metered*float64(time.Second)).Round(time.Second))
}

// chargeOf returns what a place was charged, nil if it is not yet.
func (s Account) chargeOf(place string) *charge {
	for i := range s.charges {
		if s.charges[i].Place == place {
			return &s.charges[i]
		}
	}
	return nil
}

func duration(seconds float64) time.Duration {
	return time.Duration(seconds*1000+0.5) * time.Millisecond
}

// workOf lists what was done and planned at a place, by crew, shot and day; what was
// planned stands with the first day.
func (s Account) workOf(host string) []ledger.Work {
	var out []ledger.Work
	for _, w := range s.Work {
		if w.Host == host {
			out = append(out, ledger.Work{Crew: w.Crew, Shot: w.Shot, Day: w.Day, Done: w.Done, Failed: w.Failed, DoneTime: duration(w.DoneS), FailedTry: duration(w.FailedS), Opening: duration(w.OpeningS), Causes: w.Causes})
		}
	}
	for _, b := range s.Bookings {
		if b.Host != host || b.Planned == 0 {
			continue
		}
		at := slices.IndexFunc(out, func(w ledger.Work) bool { return w.Crew == b.Crew && w.Shot == b.Shot })
		if at < 0 {
			at = len(out)
			out = append(out, ledger.Work{Crew: b.Crew, Shot: b.Shot, Day: b.StartAt.UTC().Truncate(24 * time.Hour)})
		}
		out[at].Planned += b.Planned
		out[at].Open = s.EndedAt == nil
		out[at].PlannedTime += time.Duration(b.Planned) * duration(b.FrameS)
		out[at].OpeningPlanned += time.Duration(b.Planned) * duration(b.OpeningPart())
	}
	return out
}

// Expected is what the frames that each crew has done were expected to take there, in seconds for one: drift is held against that,
// not against other shots.
func (s Account) Expected() map[[2]string]float64 {
	type place struct{ host, crew, shot string }
	booked := map[place]float64{} // by the first booking of each
	for _, b := range s.Bookings {
		if _, ok := booked[place{b.Host, b.Crew, b.Shot}]; !ok {
			booked[place{b.Host, b.Crew, b.Shot}] = b.FrameS
		}
	}
	out, frames := map[[2]string]float64{}, map[[2]string]int{}
	for _, w := range s.Work {
		if each, ok := booked[place{w.Host, w.Crew, w.Shot}]; ok && w.Done > 0 {
			crew := [2]string{w.Host, w.Crew}
			out[crew], frames[crew] = out[crew]+float64(w.Done)*each, frames[crew]+w.Done
		}
	}
	for crew, n := range frames {
		out[crew] /= float64(n)
	}
	return out
}

// PlannedPace is how many frames an hour were planned for a time.
func (s Account) PlannedPace(at time.Time) (pace float64) {
	for _, b := range s.Bookings {
		if b.Frames > 0 && !b.StartAt.After(at) && at.Before(b.EndAt) && b.FrameS > 0 {
			pace += 3600 / b.FrameS
		}
	}
	return pace
}

// entries accounts for the run as it stands.
func (s Account) Entries() []ledger.Entry {
	var out []ledger.Entry
	outside := map[string]bool{}
	for _, v := range s.Servers {
		outside[v.Host] = true
		out = append(out, s.server(v).Entries()...)
	}
	for _, j := range s.ledgerJobs() {
		outside[j.Place] = true
		out = append(out, j.Entries()...)
	}
	for _, j := range s.Jobs {
		outside[j.ID.String()] = true
	}
	seen := map[string]bool{}
	for _, b := range s.Bookings {
		if outside[b.Host] || seen[b.Host] {
			continue
		}
		seen[b.Host] = true
		out = append(out, ledger.Owned{Source: s.Hosts[b.Host].Source, Place: b.Host, Price: func(crew string) pricing.Money { return s.BusyPrice(b.Host, crew) }, Work: s.workOf(b.Host)}.Entries()...)
	}
	for _, h := range s.hired {
		out = append(out, h.Entries()...)
	}
	for _, c := range s.charges {
		if !outside[c.Place] {
			out = append(out, ledger.Entry{Source: c.Source, Place: c.Place, Kind: ledger.Orphan, Day: c.At.UTC().Truncate(24 * time.Hour), Charged: c.Cost, Metered: c.metered(), Why: "it stood and no run knew of it"})
		}
	}
	return out
}

// server is a rented server as the ledger sees it.
func (s Account) server(v rental.Server) ledger.Server {
	out := ledger.Server{Source: s.SourceOf(v.Offer), Place: v.Host, Meter: s.Meter(v.Offer), Day: v.FromAt.UTC().Truncate(24 * time.Hour), Existed: s.existed(v), Work: s.workOf(v.Host), Trouble: v.Trouble}
	for _, planned := range s.Plan.Servers {
		if planned.ID == v.ID {
			out.Planned, out.PlannedBoot = (planned.To - planned.From).Duration(), s.Offer(v.Offer).Lead.Duration()
		}
	}
	if v.StartedAt != nil && v.UpAt != nil {
		out.Boot = v.UpAt.Sub(*v.StartedAt)
	}
	if c := s.chargeOf(v.Host); c != nil {
		out.Charged, out.Metered = &c.Cost, c.metered()
		out.Existed = duration(c.Metered)
	}
	return out
}

// ledgerJobs are the farms' jobs as the ledger sees them. What was planned of a farm's
// minimum charge stands with its first job.
func (s Account) ledgerJobs() []ledger.Job {
	var out []ledger.Job
	planned := map[string]pricing.Money{}
	for _, j := range s.Jobs {
		one := s.job(j)
		planned[j.Farm] = planned[j.Farm].Plus(one.Estimated)
		out = append(out, one)
	}
	told := map[string]bool{}
	for i := range out {
		if place := out[i].Place; !told[place] && !planned[place].IsZero() {
			told[place] = true
			out[i].EstimatedTop = s.farm(place).MinimumCharge.Minus(planned[place]).Max(pricing.Money{})
		}
	}
	return out
}

// job is a farm's job as the ledger sees it.
func (s Account) job(j farms.Job) ledger.Job {
	out := ledger.Job{Source: j.Source, Place: j.Farm, Day: j.FromAt.UTC().Truncate(24 * time.Hour), Trouble: j.Trouble}
	tier := s.farm(j.Farm)
	if work := pricing.PerHour(tier.NodePrice, duration(j.NodeS)); j.NodeS > 0 {
		// Not charged yet: its work, and as much of the minimum charge as is expected of it.
		out.SoFar = work.Plus(tier.FramePrice.Times(int64(s.doneOf(j))))
		if committed, err := pricing.ParseMoney(j.Committed); err == nil && committed.Cmp(tier.MinimumCharge) < 0 {
			out.SoFar = out.SoFar.Max(committed)
		} else {
			out.SoFar = out.SoFar.Max(tier.MinimumCharge)
		}
	}
	for _, b := range s.Bookings {
		if b.ID == j.BookingID {
			out.Work = ledger.Work{Crew: b.Crew, Shot: b.Shot, Planned: b.Planned, PlannedTime: time.Duration(b.Planned) * duration(b.FrameS), OpeningPlanned: time.Duration(b.Planned) * duration(b.OpeningPart()), Open: s.EndedAt == nil && j.EndedAt == nil}
			out.Estimated = pricing.PerHour(tier.NodePrice, out.Work.PlannedTime).Plus(tier.FramePrice.Times(int64(b.Planned)))
		}
	}
	for _, w := range s.Work {
		if w.Booking == j.BookingID {
			out.Work.Done, out.Work.Failed = out.Work.Done+w.Done, out.Work.Failed+w.Failed
			out.Work.DoneTime, out.Work.FailedTry = out.Work.DoneTime+duration(w.DoneS), out.Work.FailedTry+duration(w.FailedS)
			out.Work.Opening, out.Work.Causes = out.Work.Opening+duration(w.OpeningS), w.Causes
		}
	}
	if c := s.chargeOf(j.ID.String()); c != nil {
		out.Charged, out.Metered = &c.Cost, c.metered()
		out.WorkCharge = pricing.PerHour(tier.NodePrice, duration(c.Metered)).Plus(tier.FramePrice.Times(int64(out.Work.Done)))
	}
	return out
}

// doneOf counts the frames that a farm's job has brought.
func (s Account) doneOf(j farms.Job) (n int) {
	for _, w := range s.Work {
		if w.Booking == j.BookingID {
			n += w.Done
		}
	}
	return n
}

// outside is what servers, farms and seats cost so far.
func (s Account) Outside() pricing.Money {
	var sum pricing.Money
	for _, e := range s.Entries() {
		if !s.owned(e) {
			sum = sum.Plus(e.Charged)
		}
	}
	return sum
}

// shares of a run's cap, in percent, at which somebody is told.
var shares = []int{50, 80, 100}

// ShareSpent is what a run has spent outside, its cap, and which share of that it has come
// to, in percent: 0, 50, 80 or 100.
func (s Account) ShareSpent() (spent, limit pricing.Money, percent int, err error) {
	if limit, err = pricing.ParseMoney(*s.Cap); err != nil {
		return spent, limit, 0, err
	}
	spent = s.Outside()
	for _, share := range shares {
		if spent.Times(100).Cmp(limit.Times(int64(share))) >= 0 {
			percent = share
		}
	}
	return spent, limit, percent, nil
}

func (s Account) owned(e ledger.Entry) bool {
	_, mine := s.Hosts[e.Place]
	return mine && !s.Hosts[e.Place].Server
}

// PlaceRow is what a place did and cost: a crew of an owned host, a server, or a farm.
type PlaceRow struct {
	Place, Source, Crew               string
	FramesDone, FramesPlanned, Failed int
	Busy, Planned, Paid               time.Duration
	Opening, OpeningPlanned           time.Duration // of Busy and Planned: opening scenes
	Estimated, Charged                pricing.Money
}

// ByPlace is the run's time and money, planned and real, by place and crew.
func (s Account) ByPlace() (rows []PlaceRow) {
	for _, row := range byPlace(s.Entries()) {
		rows = append(rows, s.filled(row))
	}
	return rows
}

// byPlace sums entries up: an owned host by crew, a server and a farm as a whole.
func byPlace(all []ledger.Entry) []PlaceRow {
	var rows []PlaceRow
	at := map[string]int{}
	for _, e := range all {
		key := e.Place
		if !slices.ContainsFunc(all, func(o ledger.Entry) bool { return o.Place == e.Place && (o.Kind == ledger.Unused || o.Metered != "") }) {
			key += " " + e.Crew
		}
		i, seen := at[key]
		if !seen {
			i = len(rows)
			at[key] = i
			rows = append(rows, PlaceRow{Place: e.Place, Source: e.Source})
		}
		r := &rows[i]
		if e.Crew != "" && !slices.Contains(strings.Split(r.Crew, ", "), e.Crew) {
			r.Crew = strings.TrimPrefix(r.Crew+", "+e.Crew, ", ")
		}
		r.Estimated, r.Charged = r.Estimated.Plus(e.Estimated), r.Charged.Plus(e.Charged)
		switch e.Kind {
		case ledger.Frames:
			r.FramesDone += e.Frames
			r.Busy += e.Time
			r.Opening += e.Opening
			r.OpeningPlanned += e.OpeningPlanned
		case ledger.Failed:
			r.Busy += e.Time
		}
	}
	return rows
}

// filled adds what a row's entries do not say: frames planned, failed tries, time paid.
func (s Account) filled(row PlaceRow) PlaceRow {
	crews := strings.Split(row.Crew, ", ")
	for _, b := range s.Bookings {
		if b.Host == row.Place && slices.Contains(crews, b.Crew) {
			row.FramesPlanned += b.Planned
			row.Planned += time.Duration(b.Planned) * duration(b.FrameS)
		}
	}
	for _, w := range s.Work {
		if w.Host == row.Place && slices.Contains(crews, w.Crew) {
			row.Failed += w.Failed
		}
	}
	for _, v := range s.Servers {
		if v.Host == row.Place && v.StartedAt != nil {
			row.Paid = s.Meter(v.Offer).Billed(s.server(v).Existed)
		}
	}
	return row
}

// existed is how long a server has existed.
func (s Account) existed(v rental.Server) time.Duration {
	if v.StartedAt == nil {
		return 0
	}
	end := s.Now
	if v.StoppedAt != nil {
		end = *v.StoppedAt
	}
	return max(0, end.Sub(*v.StartedAt))
}

// placeSource is where a host of the run comes from; a rented server's host is not
// in the stock any more once it is ended.
func (s Account) PlaceSource(host string) string {
	for _, v := range s.Servers {
		if v.Host == host {
			return s.SourceOf(v.Offer)
		}
	}
	return s.Hosts[host].Source
}

// overAt is when the run ended, or now.
func (s Account) overAt() time.Time {
	if s.EndedAt != nil {
		return *s.EndedAt
	}
	return s.Now
}

// JudgeProofs accepts or refuses the proof frames of a farm's job.
func (a *Accounts) JudgeProofs(ctx context.Context, id uuid.UUID, accept bool) (Account, farms.Job, error) {
	job, err := farms.Judge(a.store.WithContext(ctx), id, accept)
	if err != nil {
		return Account{}, job, err
	}
	s, err := a.Of(ctx, job.RunID)
	return s, job, err
}
