package schedule

import (
	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/replan"
	"rotanex.example/service/httpapi"
)

func (s *Schedule) record(c Change) api.ScheduleChange {
	out := api.ScheduleChange{
		Id: c.ID, Run: c.RunID, At: c.At.UTC(), State: api.ScheduleChangeState(c.State), Cause: c.Cause, Gain: c.Gain, DecidedBy: c.DecidedBy, Plan: c.PlanID,
		ChanceBefore: c.ChanceBefore, ChanceAfter: c.ChanceAfter, CostBefore: c.CostBefore, CostAfter: c.CostAfter, Currency: s.Currency, More: c.More,
		Moved: c.Moved, Frames: c.Frames, Moves: httpapi.Each(c.Moves, moveRecord),
	}
	if c.FinishBefore != nil {
		out.FinishBefore = c.FinishBefore.UTC()
	}
	if c.FinishAfter != nil {
		out.FinishAfter = c.FinishAfter.UTC()
	}
	return out
}

func moveRecord(m replan.Move) api.ScheduleMove {
	return api.ScheduleMove{Shot: m.Shot, Place: m.Place, Crew: m.Crew, Frames: m.Frames}
}

func workRecord(w replan.Work) api.ScheduledBooking {
	return api.ScheduledBooking{
		Run: uuid.MustParse(w.Run), Shot: w.Shot, Place: w.Place, Crew: w.Crew, Frames: w.Frames, Start: w.Start.UTC(), End: w.End.UTC(),
		Rendering: w.Rendering(), Lost: w.Lost,
	}
}

func (s *Schedule) effectRecord(e effect) api.PlanEffect {
	out := api.PlanEffect{
		Run: e.Run, Shots: e.Shots, Priority: api.Priority(e.Priority.String()), Policy: api.Policy(e.Policy), Deadline: e.Deadline.UTC(),
		ChanceBefore: e.Before.Chance, ChanceAfter: e.After.Chance, Wanted: e.Wanted, CostBefore: text(e.Before.Cost), CostAfter: text(e.After.Cost), Currency: s.Currency,
		Moved: e.Moved, Frames: e.Frames, Together: e.Together,
	}
	if !e.Before.Finish.IsZero() {
		out.FinishBefore = e.Before.Finish.UTC()
	}
	if !e.After.Finish.IsZero() {
		out.FinishAfter = e.After.Finish.UTC()
	}
	return out
}
