package runs

import (
	"slices"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/ledger"
)

func add(c *api.FrameCounts, state string, n int) {
	switch state {
	case "waiting":
		c.Waiting += n
	case "rendering":
		c.Rendering += n
	case "done":
		c.Done += n
	case "failed":
		c.Failed += n
	}
}

func (s state) record(wall time.Time) api.Run {
	out := api.Run{
		Id: s.ID, Plan: *s.PlanID, State: api.RunState(s.State), Created: s.CreatedAt.UTC(), Currency: s.Currency,
		PlannedFinish: s.At(s.Plan.Finish), FramesHour: s.pace(),
		Shots: []api.RunShot{}, Crews: []api.RunCrew{}, Servers: []api.RunServer{},
	}
	if s.EndedAt != nil {
		out.Ended = s.EndedAt.UTC()
	}
	for _, shot := range s.shots {
		row := api.RunShot{Shot: shot.Shot, Title: shot.Spec.Title, Frames: shot.Spec.Frames, Width: shot.Spec.Width, Height: shot.Spec.Height}
		for _, c := range s.counts {
			if c.Shot == shot.Shot {
				add(&row.Counts, c.State, c.N)
				add(&out.Counts, c.State, c.N)
			}
		}
		out.Shots = append(out.Shots, row)
	}
	for _, p := range s.Problem.Shots {
		due, narrowed := s.Deadlines[p.ID]
		if !narrowed {
			due = p.Deadline
		}
		if d := s.At(due); d.After(out.Deadline) {
			out.Deadline = d
		}
	}
	for _, b := range s.Bookings {
		if b.Frames > 0 && !b.StartAt.After(s.Now) && s.Now.Before(b.EndAt) && b.FrameS > 0 {
			out.PlannedFramesHour += 3600 / b.FrameS
		}
	}
	if left := out.Counts.Waiting + out.Counts.Rendering; left > 0 && out.FramesHour > 0 && len(s.recent) >= fewestRecent && s.State == "running" {
		out.LeftS = float64(left) / out.FramesHour * 3600
		out.ExpectedFinish = s.Now.Add(time.Duration(out.LeftS * float64(time.Second)))
	}
	planned, cost := ledger.Total(s.Entries())
	out.PlannedCost, out.CostSoFar = planned.String(), cost.String()
	s.money(&out)
	for _, v := range s.Servers {
		row := api.RunServer{Id: v.ID, Offer: v.Offer, Host: v.Host, State: api.RunServerState(v.State), From: v.FromAt.UTC(), To: v.ToAt.UTC(), Trouble: v.Trouble, Image: v.Image}
		if v.StartedAt != nil {
			row.Started = v.StartedAt.UTC()
		}
		if v.StoppedAt != nil {
			row.Stopped = v.StoppedAt.UTC()
		}
		out.Servers = append(out.Servers, row)
	}
	for _, j := range s.Jobs {
		out.FarmJobs = append(out.FarmJobs, s.JobRecord(j))
	}
	out.Crews = s.crewRecords(wall)
	for _, x := range s.stranded {
		out.Stranded = append(out.Stranded, api.Stranded{Shot: x.Shot, Frames: x.Frames, Why: x.Why})
	}
	return out
}

// crewRecords says what each crew of the run is doing.
func (s state) crewRecords(wall time.Time) []api.RunCrew {
	out := []api.RunCrew{}
	at := map[[2]string]int{}
	starts := map[[2]string]time.Time{}
	for _, b := range s.Bookings {
		key := [2]string{b.Host, b.Crew}
		i, seen := at[key]
		if !seen {
			i = len(out)
			at[key], starts[key] = i, b.StartAt
			out = append(out, api.RunCrew{Host: b.Host, Crew: b.Crew, Source: s.PlaceSource(b.Host), PlannedS: b.FrameS})
		}
		out[i].Booked += b.Frames
	}
	for _, w := range s.crews {
		if i, ok := at[[2]string{w.Host, w.Crew}]; ok {
			out[i].Done = w.Done
			if w.Done > 0 {
				out[i].MeanS = w.DoneSeconds / float64(w.Done)
			}
		}
	}
	for i := range out {
		out[i].PlannedS = s.expectedOf(out[i].Host, out[i].Crew, out[i].PlannedS)
	}
	for key, i := range at {
		host := s.Hosts[key[0]]
		switch {
		case s.State != "running" && s.State != "paused":
			out[i].State = api.RunCrewStateFinished
		case starts[key].After(s.Now):
			out[i].State = api.RunCrewStateScheduled
		case !host.Up(wall):
			out[i].State = api.RunCrewStateLost
		case host.Draining:
			out[i].State = api.RunCrewStateDraining
		default:
			out[i].State = api.RunCrewStateReady
		}
	}
	for _, b := range s.Bookings {
		if i := at[[2]string{b.Host, b.Crew}]; b.Excluded != "" {
			out[i].Excluded = b.Excluded
			if out[i].State == api.RunCrewStateReady {
				out[i].State = api.RunCrewStateExcluded
			}
		}
	}
	for _, f := range s.leased {
		if i, ok := at[[2]string{*f.Host, *f.Crew}]; ok {
			out[i].State, out[i].Shot, out[i].Frame, out[i].Progress = api.RunCrewStateRendering, f.Shot, f.Frame, f.Progress
		}
	}
	for _, v := range s.Servers {
		for i := range out {
			if out[i].Host == v.Host && out[i].State == api.RunCrewStateLost && (v.State == "planned" || v.State == "requested" || v.State == "starting") {
				out[i].State = api.RunCrewStateScheduled
			} else if out[i].Host == v.Host && (v.State == "stopped" || v.State == "not-started") {
				out[i].State = api.RunCrewStateFinished
			}
		}
	}
	for _, j := range s.Jobs {
		for i := range out {
			if out[i].Host == j.Farm {
				out[i].Source, out[i].State = j.Source, jobCrewState(j.State)
			}
		}
	}
	// Reserves are shown once they are used.
	return slices.DeleteFunc(out, func(c api.RunCrew) bool {
		return c.Booked == 0 && c.Done == 0 && c.Excluded == "" && c.State != api.RunCrewStateRendering
	})
}

// money fills in what servers and farms cost so far and what of the cap is left.
func (s state) money(out *api.Run) {
	if s.Cap == nil {
		return
	}
	out.Cap, out.Alert = *s.Cap, s.Alerted
	out.OutsideCost = s.Outside().String()
}

func jobCrewState(state string) api.RunCrewState {
	switch state {
	case "planned":
		return api.RunCrewStateScheduled
	case "ended", "not-started":
		return api.RunCrewStateFinished
	case "rejected", "refused", "closing":
		return api.RunCrewStateDraining
	}
	return api.RunCrewStateRendering
}
