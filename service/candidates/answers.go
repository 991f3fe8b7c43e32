package candidates

import (
	"rotanex.example/api"
	"rotanex.example/core/preflight"
)

func fitRecord(x Candidate) api.Fit {
	f := x.Fit
	out := api.Fit{
		Place: x.Place.Name, Source: x.Place.Source, Crew: x.Crew.ID, Verdict: api.FitVerdict(f.Verdict), NeedGb: f.Need.GB(), Observed: f.Observed,
		LimitGb: f.Limit.GB(), HeadRoomGb: f.HeadRoom.GB(), Limiting: f.Limiting, SpilledGb: f.Spilled.GB(), Slowdown: f.Slowdown, Tight: f.Tight,
		HostNeedGb: f.HostNeed.GB(), HostLimitGb: f.HostLimit.GB(), Renderers: f.Renderers, Why: f.Why,
	}
	for _, b := range x.Findings {
		if b.Level == preflight.Blocker && b.Check != "memory" && b.Check != "agent" && out.Blocked == "" {
			out.Blocked = b.Text
		}
	}
	if f.Without != nil {
		out.Without.Device, out.Without.LimitGb, out.Without.Verdict = f.Without.Device, f.Without.Limit.GB(), string(f.Without.Verdict)
	}
	return out
}

func (c Comparison) record() api.Comparison {
	out := api.Comparison{
		Shot: c.Shot.Name, Frames: c.Shot.FrameCount, Currency: c.Currency, Baseline: c.Baseline, Note: c.Note, LeftS: c.LeftS, Crews: []api.CrewFigures{},
		Unlike: []api.UnlikeSettings{}, Divisions: []api.HostDivision{}, Devices: []api.DeviceValue{}, Stretches: []api.Stretch{}, Scaling: []api.ScalingPoint{},
	}
	if d := c.Shot.Spec.Deadline; !d.IsZero() {
		out.Deadline = d.UTC()
	}
	for _, f := range c.Crews {
		out.Crews = append(out.Crews, f.record())
	}
	for _, u := range c.Unlike {
		row := api.UnlikeSettings{Place: u.Place, Crew: u.Crew, Seconds: u.Seconds, Timed: u.Timed}
		for _, s := range u.Settings {
			row.Settings = append(row.Settings, struct {
				Name string `json:"name"`
				Now  string `json:"now"`
				Then string `json:"then"`
			}(s))
		}
		out.Unlike = append(out.Unlike, row)
	}
	for _, d := range c.Divisions {
		out.Divisions = append(out.Divisions, d.record())
	}
	for _, d := range c.Devices {
		row := api.DeviceValue{Model: d.Model, Place: d.Place, FramesHour: d.FramesHour, HoursSaved: d.HoursSaved, FramesHourPerPrice: d.FramesHourPerPrice, FramesPerMoney: d.FramesPerMoney}
		if !d.Price.IsZero() {
			row.Price = d.Price.String()
		}
		out.Devices = append(out.Devices, row)
	}
	for _, s := range c.Stretches {
		out.Stretches = append(out.Stretches, api.Stretch{From: s.From, To: s.To, Weight: s.Weight, Frames: s.Frames})
	}
	for _, p := range c.Scaling {
		out.Scaling = append(out.Scaling, api.ScalingPoint{Place: p.Place, Model: p.Model, Devices: p.Devices, Seconds: p.Seconds, LowS: p.LowS, HighS: p.HighS, MeasuredS: p.MeasuredS})
	}
	return out
}

func (f Figures) record() api.CrewFigures {
	d := f.Difference
	out := api.CrewFigures{
		Place: f.Place, Source: f.Source, Crew: f.Crew, Models: f.Models, Devices: f.Devices, Cpu: f.CPU, Backend: f.Backend, Basis: api.CrewFiguresBasis(f.Basis), Note: f.Note,
		Fit: f.Fit, Seconds: f.Seconds, LowS: f.LowS, HighS: f.HighS, OpeningS: f.OpeningS, InStart: f.InStart, Parts: api.Parts{FixedS: f.Parts.Fixed, LoadS: f.Parts.Load, WorkS: f.Parts.Work},
		FramesHour: f.FramesHour, WholeS: f.WholeS, Meets: f.Meets, SamplesSecond: f.SamplesSecond, FramesMoney: f.FramesMoney, MeasuredS: f.MeasuredS, Timed: f.Timed,
		PeakGb: f.PeakGB, HostPeakGb: f.HostPeakGB, Use: f.Use, Speedup: f.Speedup, SpeedupLow: f.SpeedupLow, SpeedupHigh: f.SpeedupHigh, Efficiency: f.Efficiency,
		Difference: api.Difference{Ratio: d.Ratio, Low: d.Low, High: d.High, Shown: d.Shown, Method: d.Method}, Cautions: f.Cautions,
	}
	if f.FrameCost != nil {
		out.FrameCost = f.FrameCost.Rat().FloatString(4)
	}
	return out
}

func (d HostDivision) record() api.HostDivision {
	out := api.HostDivision{Place: d.Place, Source: d.Source, Renderers: d.Renderers, Cores: d.Cores, Best: d.Best}
	out.BreakEven.Large, out.BreakEven.Small, out.BreakEven.Text = d.BreakEven.Large, d.BreakEven.Small, d.BreakEven.Text
	out.BreakEven.Weight, out.BreakEven.Seconds = d.BreakEven.Weight, d.BreakEven.Seconds
	for _, w := range d.Ways {
		out.Ways = append(out.Ways, struct {
			Crews      []string `json:"crews"`
			FramesHour float64  `json:"frames_hour"`
			Idle       []string `json:"idle"`
			Limited    string   `json:"limited,omitempty,omitzero"`
		}{w.Crews, w.FramesHour, w.Idle, w.Limited})
	}
	return out
}
