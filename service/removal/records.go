package removal

import (
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Why something cannot be removed now; "" if it can.

func ofRun(tx *gorm.DB, run uuid.UUID) (string, error) {
	var state states.Run
	var outside int
	err := tx.Raw(`SELECT state, (SELECT count(*) FROM servers WHERE run_id = r.id AND state NOT IN ('planned', 'stopped', 'not-started'))
			+ (SELECT count(*) FROM farm_jobs WHERE run_id = r.id AND state NOT IN ('planned', 'ended', 'not-started'))
		FROM runs r WHERE id = $1 AND kind = 'run' FOR UPDATE`, run).Row().Scan(&state, &outside)
	short := run.String()[:8]
	switch {
	case store.Missing(err):
		return "", httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", run))
	case err != nil:
		return "", err
	case state.Open():
		return fmt.Sprintf("run %s is %s: rotanex cancel %s ends it", short, state, short), nil
	case outside > 0:
		return fmt.Sprintf("%d servers and jobs of run %s are not closed yet: wait until they are charged", outside, short), nil
	}
	return "", nil
}

// openRunOf is an open run of which a condition holds for one value; "" for none.
func openRunOf(tx *gorm.DB, condition, value string) (string, error) {
	run, _, err := store.First(tx.Raw("SELECT left(r.id::text, 8) FROM runs r WHERE r.state IN ('running', 'paused') AND EXISTS (SELECT "+condition+") LIMIT 1", value), func(row store.Row) (id string, err error) {
		return id, row.Scan(&id)
	})
	return run, err
}

func ofShot(tx *gorm.DB, name string) (string, error) {
	of, err := shots.PassOf(tx, name)
	if err != nil || of != "" {
		return fmt.Sprintf("it is a pass of %[1]s: change %[1]s, or delete it", of), err
	}
	run, err := openRunOf(tx, "FROM run_shots s WHERE s.run_id = r.id AND (s.shot = $1 OR s.spec->>'pass_of' = $1)", name)
	if err != nil || run == "" {
		return "", err
	}
	return fmt.Sprintf("run %s renders %s: rotanex cancel %s ends it", run, name, run), nil
}

func ofHost(tx *gorm.DB, name string) (string, error) {
	var server bool
	if err := tx.Raw("SELECT coalesce(bool_or(server), false) FROM hosts WHERE name = $1", name).Row().Scan(&server); err != nil || server {
		return fmt.Sprintf("%s is a rented server: its run gives it back", name), err
	}
	run, err := openRunOf(tx, "FROM bookings b WHERE b.run_id = r.id AND b.host = $1 AND (b.taken < b.frames OR EXISTS (SELECT FROM frames f WHERE f.booking_id = b.id AND f.state = 'rendering'))", name)
	if err != nil || run == "" {
		return "", err
	}
	return fmt.Sprintf("run %s has booked %s: drain it, and plan the run anew with rotanex replan %s --apply", run, name, run), nil
}

func ofSource(tx *gorm.DB, name string) (string, error) {
	run, err := openRunOf(tx, `FROM servers v JOIN offers o ON o.name = v.offer WHERE v.run_id = r.id AND o.source = $1 AND v.state NOT IN ('stopped', 'not-started')
		UNION SELECT FROM farm_jobs j WHERE j.run_id = r.id AND j.source = $1 AND j.state NOT IN ('ended', 'not-started')`, name)
	if err != nil || run == "" {
		return "", err
	}
	return fmt.Sprintf("run %s has servers or jobs at %s: rotanex cancel %s ends them", run, name, run), nil
}
