package candidates

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"rotanex.example/core/memory"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
	"rotanex.example/service/timings"
)

// Compare lays the crews of a shot side by side, with speed-ups to the baseline, a crew by
// its name or with "" the usual one.
func (p *Candidates) Compare(ctx context.Context, name, baseline string) (Comparison, error) {
	shot, err := p.shots.Find(ctx, name)
	if err != nil {
		return Comparison{}, err
	}
	c := comparison{currency: p.currency}
	if c.View, err = p.Of(ctx, shot); err != nil {
		return Comparison{}, err
	}
	c.rows = c.Known.Of(shot)
	if err := c.setBaseline(baseline); err != nil {
		return Comparison{}, err
	}
	return c.all(), nil
}

// comparison is a view with what it is compared by.
type comparison struct {
	View
	currency string
	rows     []timings.Row // of the shot with its settings as they are
	baseline *Candidate
}

// setBaseline finds the crew to which speed-ups are: the one asked for, else the
// slowest single GPU that was measured, else the slowest crew of which anything is known.
func (c *comparison) setBaseline(asked string) error {
	if asked != "" {
		i := slices.IndexFunc(c.All, func(x Candidate) bool { return x.Name() == asked })
		if i < 0 {
			return httpapi.BadField("baseline", asked, "there is no such crew: want HOST/CREW, such as bellows/g0")
		}
		if !c.All[i].Known {
			return httpapi.BadField("baseline", asked, "nothing is known of its time: "+c.All[i].Note)
		}
		c.baseline = &c.All[i]
		return nil
	}
	worth := func(x *Candidate) (rank int, seconds float64) {
		switch single := len(x.Crew.Devices) == 1 && x.Crew.ID != stock.CPUDevice; {
		case x.Estimate.Basis == timing.Measured && single:
			rank = 2
		case x.Estimate.Basis == timing.Measured:
			rank = 1
		}
		return rank, x.Estimate.Seconds
	}
	for i := range c.All {
		x := &c.All[i]
		if !x.Known {
			continue
		}
		if c.baseline == nil {
			c.baseline = x
			continue
		}
		rank, seconds := worth(x)
		best, slowest := worth(c.baseline)
		if rank > best || rank == best && seconds > slowest {
			c.baseline = x
		}
	}
	return nil
}

func (c *comparison) all() Comparison {
	out := Comparison{
		Shot: c.Shot, Currency: c.currency, Unlike: c.unlike(),
		Divisions: c.divisions(), Devices: c.devices(), Stretches: c.stretches(), Scaling: c.scaling(),
	}
	if d := c.Shot.Spec.Deadline; !d.IsZero() {
		out.LeftS = max(0, d.Sub(c.Now).Seconds())
	}
	if c.baseline != nil {
		out.Baseline = c.baseline.Name()
	} else {
		out.Note = "Nothing was timed yet: rotanex trials sweep " + c.Shot.Name
	}
	if m := c.Known.Model; m != nil && c.baseline != nil {
		out.Note = m.Scaling(timings.Subject(c.Shot))
	}
	for _, x := range c.All {
		out.Crews = append(out.Crews, c.figures(x))
	}
	return out
}

// at returns the rows that were timed on a crew, each with its part of opening the scene as the estimate has it.
func (c *comparison) at(x *Candidate) (out []timings.Row) {
	for _, r := range c.rows {
		if r.Host == x.Place.Name && r.Crew() == x.Crew.ID {
			r.Seconds = x.Estimate.Shares(r.Seconds, r.Measured.OpeningS)
			out = append(out, r)
		}
	}
	return out
}

func sample(rows []timings.Row) (s timing.Sample) {
	for _, r := range rows {
		s.Seconds = append(s.Seconds, r.Seconds)
		if r.Frame != nil {
			s.Frames = append(s.Frames, r.Number)
		}
	}
	if len(s.Frames) < len(s.Seconds) {
		s.Frames = nil
	}
	return s
}

func (c *comparison) figures(x Candidate) Figures {
	out := Figures{
		Place: x.Place.Name, Source: x.Place.Source, Crew: x.Crew.ID, Models: x.Crew.Models, Backend: x.Backend,
		Basis: Unknown, Note: x.Note, Fit: string(x.Fit.Verdict),
	}
	for _, id := range x.Crew.Devices {
		if id == stock.CPUDevice {
			out.CPU = true
		} else {
			out.Devices++
		}
	}
	if f := x.Blocked(); f != nil && f.Check != "agent" && f.Check != "deadline" {
		out.Basis, out.Note = Blocked, f.Text
		return out
	}
	if !x.Known {
		return out
	}
	e := x.Estimate
	out.Basis, out.Seconds, out.LowS, out.HighS = Basis(e.Basis), e.Seconds, e.Low, e.High
	out.OpeningS, out.InStart = e.Opening, e.InStart
	out.Parts = x.Parts
	out.FramesHour, out.WholeS = 3600/e.Seconds, e.Seconds*float64(c.Shot.FrameCount)
	out.Meets = c.Shot.Spec.Deadline.IsZero() || c.Now.Add(time.Duration(out.WholeS*float64(time.Second))).Before(c.Shot.Spec.Deadline)
	if n, err := strconv.ParseFloat(c.Shot.Spec.Settings["samples"], 64); err == nil {
		out.SamplesSecond = n * float64(c.Shot.Spec.Width) * float64(c.Shot.Spec.Height) / e.Seconds
	}
	if each, ok := c.frameCost(x); ok {
		out.FrameCost = &each
		if per := each.Float(); per > 0 {
			out.FramesMoney = 1 / per
		}
	}
	mine := c.at(&x)
	c.measured(&out, mine)
	if b := c.baseline; b != nil {
		out.Speedup, out.SpeedupLow, out.SpeedupHigh = b.Estimate.Seconds/e.Seconds, b.Estimate.Seconds/e.High, b.Estimate.Seconds/e.Low
		if should := c.oneByOne(x); should > 0 {
			out.Efficiency = out.Speedup / should
		}
		if b.Name() != x.Name() && len(mine) > 0 {
			base := c.at(b)
			if len(base) > 0 {
				out.Difference = timing.Differ(sample(base), sample(mine))
			}
			out.Cautions = cautions(base, mine)
		}
	}
	return out
}

// frameCost is what a frame costs on a crew, in the service's currency: electricity, the
// server's rent, or the farm's work and its price a frame, with discount and tax. False
// where a source's prices cannot be told in that currency.
func (v View) frameCost(x Candidate) (pricing.Money, bool) {
	hour, frame := x.Place.Spec.BusyPrice(x.Crew), pricing.Money{}
	switch {
	case x.Place.Offer != nil:
		hour = x.Place.Offer.Spec.PriceH
	case x.Place.Farm != nil:
		hour, frame = x.Place.Farm.Spec.HourPrice(), x.Place.Farm.Spec.Work.Frame
	}
	cost := pricing.PerHour(hour, time.Duration(x.Estimate.Seconds*float64(time.Second))).Plus(frame)
	if x.Place.Host != nil {
		return cost, true
	}
	factor := v.factors[x.Place.Source]
	if factor == nil {
		return cost, false
	}
	return cost.Scaled(factor), true
}

// measured adds what the timed frames themselves say.
func (c *comparison) measured(out *Figures, rows []timings.Row) {
	s, ok := timing.Summarise(sample(rows).Seconds)
	if !ok {
		return
	}
	out.MeasuredS, out.Timed = s.Median, s.Frames
	use, n := 0.0, 0
	for _, r := range rows {
		out.PeakGB = max(out.PeakGB, memory.Bytes(r.Measured.DevicePeakBytes).GB())
		out.HostPeakGB = max(out.HostPeakGB, memory.Bytes(r.Measured.PeakMemoryBytes).GB())
		if r.Measured.DeviceUse > 0 {
			use += r.Measured.DeviceUse
			n++
		}
	}
	if n > 0 {
		out.Use = use / float64(n)
	}
}

// oneByOne is the speed-up that a crew's devices give each by itself, added up: what
// it should be if nothing were lost. 0 where that is not known of all of them.
func (c *comparison) oneByOne(x Candidate) (sum float64) {
	for _, id := range x.Crew.Devices {
		i := slices.IndexFunc(c.All, func(o Candidate) bool { return o.Place.Name == x.Place.Name && o.Crew.ID == id && o.Known })
		if i < 0 {
			return 0
		}
		sum += c.baseline.Estimate.Seconds / c.All[i].Estimate.Seconds
	}
	return sum
}

// cautions says where the conditions of two sets of timed frames are unlike.
func cautions(base, mine []timings.Row) (out []string) {
	usual := func(rows []timings.Row) (power string, load float64) {
		for _, r := range rows {
			if p := r.Conditions["power"]; p != "" {
				power = p
			}
			l, _ := strconv.ParseFloat(r.Conditions["load"], 64)
			load += l / float64(len(rows))
		}
		return power, load
	}
	p, l := usual(base)
	q, m := usual(mine)
	if p != q && p != "" && q != "" {
		out = append(out, fmt.Sprintf("timed on %s, the baseline on %s", q, p))
	}
	if high, low := max(l, m), min(l, m); high > 2 && high > 1.6*low {
		out = append(out, fmt.Sprintf("timed with a load of %.1f on the machine, the baseline with %.1f", m, l))
	}
	return out
}

// unlike gathers what was timed of the shot with other settings than it has now.
func (c *comparison) unlike() []UnlikeSettings {
	now, subject := shots.Settings(c.Shot.Spec), timings.Subject(c.Shot)
	type key struct{ place, crew, subject string }
	times, then := map[key][]float64{}, map[key]map[string]string{}
	for _, r := range c.Known.Rows {
		if k := (key{r.Host, r.Crew(), r.Subject()}); r.Shot == c.Shot.Name && !r.WarmUp && k.subject != subject {
			times[k], then[k] = append(times[k], r.Seconds), r.Settings
		}
	}
	out := []UnlikeSettings{}
	for k, seconds := range times {
		s, _ := timing.Summarise(seconds)
		row := UnlikeSettings{Place: k.place, Crew: k.crew, Seconds: s.Median, Timed: s.Frames}
		both := maps.Clone(now)
		maps.Copy(both, then[k])
		for _, name := range slices.Sorted(maps.Keys(both)) {
			if then[k][name] != now[name] {
				row.Settings = append(row.Settings, SettingChange{name, now[name], then[k][name]})
			}
		}
		out = append(out, row)
	}
	slices.SortFunc(out, func(a, b UnlikeSettings) int {
		return cmp.Or(cmp.Compare(a.Place, b.Place), cmp.Compare(a.Crew, b.Crew), cmp.Compare(a.Seconds, b.Seconds))
	})
	return out
}

// Order is what crews are sorted by.
type Order string

// Orders: by the seconds of a frame, by its cost, by the efficiency of the crew's devices,
// or by name.
const (
	BySeconds    Order = "seconds"
	ByCost       Order = "cost"
	ByEfficiency Order = "efficiency"
	ByName       Order = "crew"
)

// Sort sorts crews; those of which nothing is known come last.
func (c *Comparison) Sort(by Order) {
	cost := func(f Figures) float64 {
		if f.FrameCost == nil {
			return 0
		}
		return f.FrameCost.Float()
	}
	slices.SortStableFunc(c.Crews, func(a, b Figures) int {
		known := cmp.Compare(boolInt(a.Seconds == 0), boolInt(b.Seconds == 0))
		name := cmp.Or(cmp.Compare(a.Place, b.Place), cmp.Compare(a.Crew, b.Crew))
		switch by {
		case ByCost:
			return cmp.Or(known, cmp.Compare(cost(a), cost(b)), name)
		case ByEfficiency:
			return cmp.Or(known, cmp.Compare(b.Efficiency, a.Efficiency), name)
		case ByName:
			return name
		}
		return cmp.Or(known, cmp.Compare(a.Seconds, b.Seconds), name)
	})
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
