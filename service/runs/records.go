package runs

import (
	"cmp"
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/replan"
	"rotanex.example/providers"
	"rotanex.example/service/bookings"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// packageOf is the files of a shot as they are now; none where it has no package.
func (q *Runs) packageOf(ctx context.Context, shot string) ([]providers.PackageFile, error) {
	files, found, err := store.First(q.store.WithContext(ctx).Raw("SELECT files FROM packages WHERE shot = $1", shot), func(row store.Row) (f []providers.PackageFile, err error) {
		return f, row.Scan(store.JSON(&f))
	})
	if !found {
		files = []providers.PackageFile{}
	}
	return files, err
}

// addRun stores a run that is being carried out; false: one of that id stands already.
func addRun(tx *gorm.DB, r Run) (isNew bool, err error) {
	made := tx.Exec(`INSERT INTO runs (id, kind, plan_id, request, state, tries, created_at, cap, accept_proofs, priority, policy, chained)
		VALUES (?, ?, ?, ?, 'running', ?, ?, CAST(? AS numeric), ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET kind = excluded.kind, plan_id = excluded.plan_id, tries = excluded.tries,
			created_at = excluded.created_at, cap = excluded.cap, accept_proofs = excluded.accept_proofs, priority = excluded.priority, policy = excluded.policy, chained = excluded.chained
		WHERE runs.kind = 'laid' AND runs.request = excluded.request`,
		r.ID, r.Kind, r.PlanID, r.Request, r.Tries, r.CreatedAt, r.Cap, r.AcceptProofs, r.Priority, cmp.Or(r.Policy, replan.Off), r.Chained)
	return made.RowsAffected > 0, made.Error
}

// layRun stores what is to be a run once its frames wait; false: a run of that id stands already, or is laid in other words.
func layRun(tx *gorm.DB, r Run) (is bool, err error) {
	if err := tx.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'laid', $2, 'running', $3, now()) ON CONFLICT DO NOTHING", r.ID, r.Request, r.Tries).Error; err != nil {
		return false, err
	}
	return is, tx.Raw("SELECT EXISTS (SELECT FROM runs WHERE id = $1 AND kind = 'laid' AND request = $2)", r.ID, r.Request).Row().Scan(&is)
}

// Abandoned makes of what was laid over an hour ago and never begun what a deleted run leaves, and lists it.
func Abandoned(tx *gorm.DB) ([]uuid.UUID, error) {
	return store.Column[uuid.UUID](tx.Raw("UPDATE runs SET kind = 'deleted' WHERE kind = 'laid' AND created_at < now() - interval '1 hour' RETURNING id"))
}

// lock reads a run for changing it; a zero one where there is none.
func lock(tx *gorm.DB, id uuid.UUID) (run Run, err error) {
	return run, tx.Raw("SELECT * FROM runs WHERE id = ? AND kind IN ('run', 'trial') FOR UPDATE", id).Scan(&run).Error
}

func setState(tx *gorm.DB, id uuid.UUID, state states.Run, ended *time.Time) error {
	return tx.Exec("UPDATE runs SET state = ?, ended_at = ? WHERE id = ?", state, ended, id).Error
}

func setPriority(tx *gorm.DB, id uuid.UUID, p dispatch.Priority) error {
	return tx.Exec("UPDATE runs SET priority = ? WHERE id = ?", p, id).Error
}

func setPolicy(tx *gorm.DB, id uuid.UUID, p replan.Policy) error {
	return tx.Exec("UPDATE runs SET policy = ? WHERE id = ?", p, id).Error
}

func setDeadline(tx *gorm.DB, id uuid.UUID, by time.Time) error {
	return tx.Exec("UPDATE runs SET deadline = ? WHERE id = ?", by, id).Error
}

// latestPlan is the last plan that a run has changed over to.
func latestPlan(tx *gorm.DB, run uuid.UUID) (plan uuid.UUID, found bool, err error) {
	all, err := store.Column[uuid.UUID](tx.Raw("SELECT plan_id FROM run_plans WHERE run_id = $1 ORDER BY id DESC LIMIT 1", run))
	if err != nil || len(all) == 0 {
		return plan, false, err
	}
	return all[0], true, nil
}

// setCap lets a run spend so much outside, and tells anew of its shares.
func setCap(tx *gorm.DB, id uuid.UUID, limit *string) error {
	return tx.Exec("UPDATE runs SET cap = CAST(? AS numeric), alerted = 0 WHERE id = ?", limit, id).Error
}

// ToAlert lists the runs with a cap that are open or ended after a time, and of which not
// all shares were told.
func ToAlert(tx *gorm.DB, since time.Time) ([]uuid.UUID, error) {
	return store.Column[uuid.UUID](tx.Raw("SELECT id FROM runs WHERE kind = 'run' AND cap > 0 AND (state IN ('running', 'paused') OR ended_at > $1) AND alerted < 100", since))
}

// SetAlerted notes that a share of a run's cap was told; false: it was before.
func SetAlerted(tx *gorm.DB, id uuid.UUID, percent int) (bool, error) {
	told := tx.Exec("UPDATE runs SET alerted = $2 WHERE id = $1 AND alerted < $2", id, percent)
	return told.RowsAffected > 0, told.Error
}

// suit is what matters of a plan that a run is to go by: of which run's rest it is, whether
// it is of this one, and whether the run went over to another plan since it was made.
type suit struct {
	OfRun               *uuid.UUID
	Priority            string // that it was asked with
	Its, Assumes, Stale bool
}

func suits(tx *gorm.DB, run, plan uuid.UUID) (s suit, err error) {
	return s, tx.Raw(`SELECT p.run_id AS of_run, coalesce(p.notes->'ask'->>'priority', '') AS priority, p.run_id IS NOT DISTINCT FROM ? AS its, coalesce(jsonb_array_length(p.notes->'assumes'), 0) > 0 AS assumes,
		EXISTS (SELECT FROM run_plans x WHERE x.run_id = ? AND x.at >= p.created_at) AS stale FROM plans p WHERE p.id = ?`, run, run, plan).Scan(&s).Error
}

func anyWaits(tx *gorm.DB, run uuid.UUID, shot string) (bool, error) {
	n, err := bookings.CountWaiting(tx, run, shot, 1)
	return n > 0, err
}

// endFinished ends the given run, or all, that has no frame waiting or under lease.
func endFinished(tx *gorm.DB, only *uuid.UUID, now time.Time) ([]Run, error) {
	return store.Rows(tx.Raw(`
		UPDATE runs r SET ended_at = $1, state = CASE WHEN EXISTS (
			SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'failed') THEN 'incomplete' ELSE 'complete' END
		WHERE r.kind IN ('run', 'trial') AND r.state IN ('running', 'paused') AND ($2::uuid IS NULL OR r.id = $2)
		  AND (SELECT count(*) FROM (SELECT FROM frames f WHERE f.run_id = r.id AND f.state = 'waiting' ORDER BY shot, tried LIMIT 1) x) = 0 -- in its index, see bookings.CountWaiting
		  AND NOT EXISTS (SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'rendering')
		  AND NOT EXISTS (SELECT 1 FROM frames f WHERE f.run_id = r.id AND f.state = 'blocked')
		RETURNING r.id, r.kind, r.state`, now, only), func(row store.Row) (r Run, err error) {
		return r, row.Scan(&r.ID, &r.Kind, &r.State)
	})
}

// goesBy notes that a run goes by a plan from then on.
func goesBy(tx *gorm.DB, run, plan uuid.UUID, at time.Time) error {
	return tx.Exec("INSERT INTO run_plans (run_id, plan_id, at) VALUES (?, ?, ?)", run, plan, at).Error
}

// Archive takes a run out of lists, or puts it back.
func Archive(tx *gorm.DB, id uuid.UUID, archived bool) error {
	return tx.Exec("UPDATE runs SET archived = $2 WHERE id = $1", id, archived).Error
}

// Delete makes a run none any more. What it leaves is deleted behind that, and then Forget forgets it.
func Delete(tx *gorm.DB, id uuid.UUID) error {
	return tx.Exec("UPDATE runs SET kind = 'deleted', plan_id = NULL WHERE id = $1", id).Error
}

// Forget forgets a deleted run with all that is its own still.
func Forget(tx *gorm.DB, id uuid.UUID) error {
	return tx.Exec("DELETE FROM runs WHERE id = $1 AND kind = 'deleted'", id).Error
}
