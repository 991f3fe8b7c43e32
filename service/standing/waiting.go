package standing

import (
	"context"

	"github.com/google/uuid"

	"rotanex.example/service/states"
)

// Waiting is what of a run goes on when a person has decided.
type Waiting struct {
	Run       uuid.UUID
	Proposals int       // schedules that are proposed
	Held      []heldJob // jobs at farms whose proof frames nobody has looked at
	Stranded  []Stranded
}

// Waits reads what of a run waits for a person: no more than that, as every page asks for
// it. Of a run that has ended nothing does.
func (s *Standing) Waits(ctx context.Context, run uuid.UUID, state states.Run) (w Waiting, err error) {
	if !state.Open() {
		return w, nil
	}
	w.Run = run
	db := s.store.WithContext(ctx)
	if w.Proposals, err = proposals(db, run); err != nil {
		return w, err
	}
	if w.Held, err = heldJobs(db, run); err == nil && state == states.RunRunning {
		w.Stranded, err = s.Stranded(ctx, run)
	}
	return w, err
}

// AllWaiting reads what waits in all runs, the oldest run first.
func (s *Standing) AllWaiting(ctx context.Context) (out []Waiting, err error) {
	open, err := openRuns(s.store.WithContext(ctx))
	if err != nil {
		return nil, err
	}
	for _, run := range open {
		w, err := s.Waits(ctx, run.ID, run.State)
		if err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}
