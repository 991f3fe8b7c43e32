package candidates

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"rotanex.example/core/memory"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/hosts"
	"rotanex.example/service/timings"
)

// shownWays is how many ways to divide a host are listed.
const shownWays = 8

// machine is one place with the crews into which it could be put for the shot.
type machine struct {
	place   hosts.Place
	options []timing.Option
	devices []string
	limits  timing.Limits
	models  map[string]string // by device
}

func (m machine) like(id string) string { return m.models[id] }

// machines gathers the places on which some crew can render the shot.
func (c *comparison) machines() (out []machine) {
	at := map[string]int{}
	for _, x := range c.All {
		if !x.Known || x.keptOut() {
			continue
		}
		i, seen := at[x.Place.Name]
		if !seen {
			i = len(out)
			at[x.Place.Name] = i
			m := machine{place: x.Place, models: map[string]string{stock.CPUDevice: x.Place.Spec.CPU.Model}}
			for _, d := range x.Place.Spec.Devices {
				if d.Unusable == "" {
					m.devices, m.models[d.ID] = append(m.devices, d.ID), d.Model
				}
			}
			m.devices = append(m.devices, stock.CPUDevice)
			m.limits = timing.Limits{Renderers: x.Fit.Renderers, Cores: x.Place.Spec.CPU.Cores}
			out = append(out, m)
		}
		out[i].options = append(out[i].options, timing.Option{Crew: x.Crew.ID, Devices: x.Crew.Devices, Parts: x.Parts})
	}
	return out
}

// keptOut reports whether something that a wait does not fix keeps the shot from the
// crew.
func (x Candidate) keptOut() bool {
	f := x.Blocked()
	return f != nil && f.Check != "agent" && f.Check != "deadline" && f.Check != "source" || x.Fit.Verdict == memory.FallsBack
}

// divisions advises how to divide each place that has several devices.
func (c *comparison) divisions() []HostDivision {
	out := []HostDivision{}
	for _, m := range c.machines() {
		gpus := len(m.devices) - 1
		if gpus < 1 {
			continue
		}
		ways := timing.Divide(m.options, m.devices, m.like, m.limits, 1)
		if len(ways) < 2 {
			continue
		}
		row := HostDivision{
			Place: m.place.Name, Source: m.place.Source, Renderers: min(m.limits.Renderers, 1000), Cores: m.limits.Cores,
			Best: fmt.Sprintf("%s: %.0f frames an hour", crewsText(ways[0].Crews), ways[0].FramesHour),
		}
		for i, w := range ways {
			if i < shownWays || whole(w, gpus) || singles(w) {
				row.Ways = append(row.Ways, w)
			}
		}
		row.BreakEven = m.breakEven()
		out = append(out, row)
	}
	return out
}

// whole reports whether a division is all GPUs in one crew.
func whole(w timing.Division, gpus int) bool {
	return len(w.Crews) == 1 && len(strings.Split(w.Crews[0], "+")) == gpus && !strings.Contains(w.Crews[0], stock.CPUDevice)
}

// singles reports whether a division is crews of one device each.
func singles(w timing.Division) bool {
	return !slices.ContainsFunc(w.Crews, func(c string) bool { return strings.Contains(c, "+") }) && len(w.Idle) == 0
}

// crewsText says crews in few words: 4 crews of one (g0, g1, g2, g3).
func crewsText(crews []string) string {
	if len(crews) == 1 {
		return "one crew, " + crews[0]
	}
	return fmt.Sprintf("%d crews, %s", len(crews), strings.Join(crews, " and "))
}

// breakEven compares one crew of all GPUs with as many crews of one as the place holds.
func (m machine) breakEven() (out BreakEven) {
	gpus := len(m.devices) - 1
	var large, small []timing.Option
	for _, o := range m.options {
		switch {
		case len(o.Devices) == gpus && !slices.Contains(o.Devices, stock.CPUDevice) && gpus > 1:
			large = []timing.Option{o}
		case len(o.Devices) == 1 && o.Crew != stock.CPUDevice:
			small = append(small, o)
		}
	}
	slices.SortStableFunc(small, func(a, b timing.Option) int { return cmp.Compare(a.Parts.Total(), b.Parts.Total()) })
	small = small[:min(len(small), m.limits.Renderers)]
	if len(large) == 0 || len(small) == 0 {
		return out
	}
	out.Large = large[0].Crew
	var names []string
	for _, o := range small {
		names = append(names, o.Crew)
	}
	out.Small = strings.Join(names, ", ")
	weight, ok := timing.BreakEven(large, small, m.devices, m.like, m.limits)
	if ok {
		one := small[0].Parts
		out.Weight, out.Seconds = weight, one.Fixed+one.Load+one.Work*weight
		out.Text = fmt.Sprintf("frames of more than %.2g times the work (%.0f s on %s alone) go faster on the one crew", weight, out.Seconds, small[0].Crew)
		return out
	}
	ways := [2]float64{}
	for i, set := range [][]timing.Option{large, small} {
		for _, o := range set {
			ways[i] += 1 / o.Parts.Total()
		}
	}
	if ways[0] > ways[1] {
		out.Text = "the one crew is the faster for frames of any weight"
	} else {
		out.Text = "crews of one are the faster for frames of any weight"
	}
	return out
}

// devices says what one more of each device would change, and what each gives for
// its price and its hour.
func (c *comparison) devices() []DeviceValue {
	rate := 0.0 // of all that could render the shot, in its best division
	for _, m := range c.machines() {
		if m.place.Host != nil {
			if ways := timing.Divide(m.options, m.devices, m.like, m.limits, 1); len(ways) > 0 {
				rate += ways[0].FramesHour
			}
		}
	}
	best := map[string]DeviceValue{}
	var order []string
	for _, x := range c.All {
		if !x.Known || len(x.Crew.Devices) != 1 || x.keptOut() {
			continue
		}
		model := x.Crew.Models[0]
		row := DeviceValue{Model: model, Place: x.Place.Name, FramesHour: 3600 / x.Estimate.Seconds}
		n := float64(c.Shot.FrameCount)
		if rate > 0 {
			row.HoursSaved = n/rate - n/(rate+row.FramesHour)
		}
		if d := x.Place.Spec.Device(x.Crew.ID); d != nil && !d.Price.IsZero() {
			row.Price, row.FramesHourPerPrice = d.Price, row.FramesHour/d.Price.Float()*1000
		}
		if cost, ok := c.frameCost(x); ok && !cost.IsZero() {
			row.FramesPerMoney = 1 / cost.Float()
		}
		key := model
		if x.Place.Offer != nil {
			key += " of " + x.Place.Name
		}
		if was, known := best[key]; !known {
			order = append(order, key)
			best[key] = row
		} else if row.FramesHour > was.FramesHour {
			if row.Price.IsZero() {
				row.Price, row.FramesHourPerPrice = was.Price, was.FramesHourPerPrice
			}
			best[key] = row
		}
	}
	out := []DeviceValue{}
	for _, key := range order {
		out = append(out, best[key])
	}
	slices.SortStableFunc(out, func(a, b DeviceValue) int { return cmp.Compare(b.FramesHour, a.FramesHour) })
	return out
}

// stretches says which parts of the shot are heavy.
func (c *comparison) stretches() []Stretch {
	out := []Stretch{}
	if c.Known.Model == nil {
		return out
	}
	subject := timings.Subject(c.Shot)
	for _, s := range timings.Stretches(c.Shot.Frames()) {
		row := Stretch{From: s.First, To: s.Last, Weight: c.Known.Model.Weight(subject, s.Name)}
		for _, r := range c.rows {
			if r.Stretch == s.Name {
				row.Frames++
			}
		}
		out = append(out, row)
	}
	return out
}

// scaling lists, for every place with several GPUs of one model, what one, two and
// more of them do together, whether or not such a crew can be formed.
func (c *comparison) scaling() []ScalingPoint {
	out := []ScalingPoint{}
	seen := map[string]bool{}
	for _, x := range c.All {
		if seen[x.Place.Name] || x.keptOut() || !x.Known || x.Crew.ID == stock.CPUDevice {
			continue
		}
		seen[x.Place.Name] = true
		alike := map[string][]string{}
		for _, d := range x.Place.Spec.Devices {
			if d.Unusable == "" {
				alike[d.Model] = append(alike[d.Model], d.ID)
			}
		}
		for model, ids := range alike {
			if len(ids) < 2 {
				continue
			}
			for n := 1; n <= len(ids); n++ {
				if point, ok := c.point(x.Place, model, ids[:n]); ok {
					out = append(out, point)
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b ScalingPoint) int {
		return cmp.Or(cmp.Compare(a.Place, b.Place), cmp.Compare(a.Model, b.Model), cmp.Compare(a.Devices, b.Devices))
	})
	return out
}

func (c *comparison) point(place hosts.Place, model string, ids []string) (ScalingPoint, bool) {
	crew := stock.Crew{ID: strings.Join(ids, "+"), Devices: ids, Models: slices.Repeat([]string{model}, len(ids)), Backends: place.Spec.Device(ids[0]).Backends}
	e, _, err := c.Known.Estimate(c.Shot, hosts.TimingPlace(place.Spec, crew, hosts.Backend(crew, c.Shot.Spec.Backend), c.Shot.Spec.Launcher))
	if err != nil {
		return ScalingPoint{}, false
	}
	e = e.Alone() // beside what was timed
	out := ScalingPoint{Model: model, Place: place.Name, Devices: len(ids), Seconds: e.Seconds, LowS: e.Low, HighS: e.High}
	var timed []float64
	for _, r := range c.rows {
		if r.Host == place.Name && len(r.Devices) == len(ids) && !slices.ContainsFunc(r.Models, func(m string) bool { return m != model }) {
			timed = append(timed, r.Seconds)
		}
	}
	if s, ok := timing.Summarise(timed); ok {
		out.MeasuredS = s.Mean
	}
	return out, true
}
