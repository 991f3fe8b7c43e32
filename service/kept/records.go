package kept

import (
	"context"

	"github.com/google/uuid"

	"rotanex.example/service/store"
)

// runsOf reads the last runs of a shot, newest first, with others that were in them.
func runsOf(ctx context.Context, s *store.Store, shot string, inputs []string) ([]earlier, error) {
	return store.Rows(s.WithContext(ctx).Raw(`SELECT r.id, s.spec, coalesce(s.package, '[]'),
			(SELECT json_object_agg(i.shot, i.spec) FROM run_shots i WHERE i.run_id = r.id AND i.shot = ANY($3))
		FROM run_shots s JOIN runs r ON r.id = s.run_id
		WHERE s.shot = $1 AND r.kind = 'run' ORDER BY r.created_at DESC, r.id LIMIT $2`, shot, earlierRuns, append([]string{}, inputs...)), func(row store.Row) (e earlier, err error) {
		return e, row.Scan(&e.id, store.JSON(&e.spec), store.JSON(&e.files), store.JSON(&e.inputs))
	})
}

func doneIn(ctx context.Context, s *store.Store, run uuid.UUID, shot string) ([]int, error) {
	return store.Column[int](s.WithContext(ctx).Raw(`SELECT frame FROM frames
		WHERE run_id = $1 AND shot = $2 AND state = 'done' AND NOT warm_up AND repeat = 0`, run, shot))
}
