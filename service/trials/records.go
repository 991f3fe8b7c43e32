package trials

import (
	"context"

	"github.com/google/uuid"

	"rotanex.example/service/store"
)

func (t *Trials) rows(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID][]Row, error) {
	var all []Row
	err := t.store.WithContext(ctx).Raw(`
		SELECT f.run_id, f.frame, f.repeat, f.warm_up, f.state, f.cause, f.seconds, a.measured, coalesce(a.log_tail, '') AS log_tail
		FROM frames f LEFT JOIN tries a ON a.frame_id = f.id AND a.fence = f.fence
		WHERE f.run_id IN ? ORDER BY f.warm_up DESC, f.repeat, f.frame`, ids).Scan(&all).Error
	out := map[uuid.UUID][]Row{}
	for _, r := range all {
		out[r.RunID] = append(out[r.RunID], r)
	}
	return out, err
}

// rendered lists the frames of which runs or trials have done those of all the shots.
func (t *Trials) rendered(ctx context.Context, all []string) ([]int, error) {
	return store.Column[int](t.store.WithContext(ctx).Raw(`SELECT i.frame FROM run_shots r JOIN frames i ON i.run_id = r.run_id AND i.shot = r.shot
		WHERE r.shot = ANY($1) AND i.state = 'done' GROUP BY i.frame HAVING count(DISTINCT i.shot) = $2 ORDER BY 1`, all, len(all)))
}
