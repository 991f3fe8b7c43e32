package schedule

import "rotanex.example/api"

func (s *Schedule) record(c Change) api.ScheduleChange {
	out := api.ScheduleChange{
		Id: c.ID, Run: c.RunID, At: c.At.UTC(), State: api.ScheduleChangeState(c.State), Cause: c.Cause, Gain: c.Gain, DecidedBy: c.DecidedBy, Plan: c.PlanID,
		ChanceBefore: c.ChanceBefore, ChanceAfter: c.ChanceAfter, CostBefore: c.CostBefore, CostAfter: c.CostAfter, Currency: s.Currency, More: c.More,
		Moved: c.Moved, Frames: c.Frames,
	}
	if c.FinishBefore != nil {
		out.FinishBefore = c.FinishBefore.UTC()
	}
	if c.FinishAfter != nil {
		out.FinishAfter = c.FinishAfter.UTC()
	}
	return out
}
