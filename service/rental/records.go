package rental

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Server is a rented server of a run.
type Server struct {
	RunID     uuid.UUID `gorm:"primaryKey"`
	ID        string    `gorm:"primaryKey"`
	Offer     string
	Host      string
	State     states.Server
	FromAt    time.Time
	ToAt      time.Time
	PaidAt    time.Time // until when the plan pays for it
	StartedAt *time.Time
	StoppedAt *time.Time
	Trouble   string
	Image     string
	UpAt      *time.Time
	Committed string `gorm:"default:0"`
	Tried     int    // how many servers were in its place before
}

// Add stores servers that a run plans, in its transaction.
func Add(tx *gorm.DB, servers []Server) error {
	if len(servers) == 0 {
		return nil
	}
	return tx.CreateInBatches(servers, 2000).Error
}

// DropPlanned forgets the servers of a run that nobody asked for yet.
func DropPlanned(tx *gorm.DB, run uuid.UUID) error {
	return tx.Exec("DELETE FROM servers WHERE run_id = $1 AND state = 'planned'", run).Error
}

const columns = `s.run_id, s.id, s.offer, s.host, s.state, s.trouble, s.from_at, s.to_at, s.paid_at, s.started_at, s.tried, r.state, o.spec, h.agent_seen, s.up_at, s.last_at, s.committed::text
	FROM servers s JOIN runs r ON r.id = s.run_id JOIN offers o ON o.name = s.offer LEFT JOIN hosts h ON h.name = s.host`

func scan(row store.Row) (s server, err error) {
	var committed string
	err = row.Scan(&s.run, &s.id, &s.offer, &s.host, &s.state, &s.trouble, &s.from, &s.to, &s.paid, &s.started, &s.tried, &s.runState, store.JSON(&s.spec), &s.agentSeen, &s.up, &s.last, &committed)
	if err == nil {
		s.committed, err = pricing.ParseMoney(committed)
	}
	return s, err
}

// found reads a server for a job; false if it is not there any more.
func (r *Rental) found(ctx context.Context, key string) (s server, image string, found bool, err error) {
	run, id, err := parseKey(key)
	if err != nil {
		return s, "", false, err
	}
	s, found, err = store.First(r.store.WithContext(ctx).Raw("SELECT "+columns+" WHERE s.run_id = $1 AND s.id = $2", run, id), scan)
	if found {
		err = r.store.WithContext(ctx).Raw("SELECT image FROM servers WHERE run_id = $1 AND id = $2", run, id).Row().Scan(&image)
	}
	return s, image, found, err
}

// lengthOf is a length, in seconds, of an offer's in its record, which may be older than the bounds that it has today.
func lengthOf(of string) string {
	return "least(coalesce((o.spec->>'" + of + "')::float8, 0), 2678400)"
}

// due finds one server that something is to be done with, and locks it: one that nobody
// else is looking at, and none of those named.
func due(tx *gorm.DB, now, wall time.Time, lag time.Duration, lenient bool, but []string) (server, bool, error) {
	return store.First(tx.Raw(`SELECT `+columns+`
		WHERE CASE s.state
			WHEN 'planned'  THEN s.from_at <= $1 AND (s.tried = 0 OR NOT EXISTS ( -- its source may have no other as long as that one stands
					SELECT FROM servers p WHERE p.run_id = s.run_id AND split_part(p.id, '^', 1) = split_part(s.id, '^', 1) AND p.state IN ('stopping', 'ending')))
				OR r.state NOT IN ('running', 'paused')
			WHEN 'starting' THEN h.agent_seen IS NOT NULL OR r.state NOT IN ('running', 'paused') OR s.paid_at <= $1
				OR s.started_at + make_interval(secs => 2 * (`+lengthOf("boot_s")+` + `+lengthOf("setup_s")+`) + 600) <= $1
			WHEN 'up'       THEN r.state NOT IN ('running', 'paused')
				OR s.paid_at - make_interval(secs => `+lengthOf("shutdown_s")+`) <= $1
				OR (s.to_at - make_interval(secs => `+lengthOf("shutdown_s")+`) <= $1
					AND NOT EXISTS (SELECT 1 FROM bookings b WHERE b.run_id = s.run_id AND b.host = s.host AND b.taken < b.frames))
				OR NOT $6 AND h.agent_seen < $2::timestamptz - $3 * interval '1 second'
				OR (NOT $6 AND h.agent_seen < $2::timestamptz - $4 * interval '1 second' AND coalesce(s.looked_at, '-infinity') < $2::timestamptz - $5 * interval '1 second')
			WHEN 'stopping' THEN NOT EXISTS (SELECT 1 FROM frames f WHERE f.host = s.host AND f.state = 'rendering')
				OR coalesce(s.last_at, s.paid_at) - make_interval(secs => $8) <= $1
			ELSE false END AND s.run_id || ' ' || s.id <> ALL ($7)
		ORDER BY s.from_at, s.run_id, s.id LIMIT 1 FOR UPDATE OF s SKIP LOCKED`,
		now, wall, unreachable.Seconds(), silent.Seconds(), lookEvery.Seconds(), lenient, but, lag.Seconds()), scan)
}

// note sets one column of a server.
func (s server) note(tx *gorm.DB, column string, value any) error {
	return tx.Model(&Server{}).Where("run_id = ? AND id = ?", s.run, s.id).Update(column, value).Error
}

func setState(tx *gorm.DB, s server, state states.Server, trouble string) error {
	return tx.Exec("UPDATE servers SET state = $3, trouble = CASE WHEN $4 = '' THEN trouble ELSE $4 END WHERE run_id = $1 AND id = $2", s.run, s.id, state, trouble).Error
}

// asked notes that a server is asked for, what it is expected to come to, and the image
// that it is made from, if there is one.
func asked(tx *gorm.DB, s server, cost pricing.Money, now time.Time) error {
	return tx.Exec(`UPDATE servers SET started_at = $3, committed = $6::numeric, image = coalesce((SELECT image FROM images WHERE source = $4 AND offer = $5), '')
		WHERE run_id = $1 AND id = $2`, s.run, s.id, now, s.spec.Source, s.offer, cost.Rat().FloatString(12)).Error
}

func postpone(tx *gorm.DB, s server, by time.Duration) error {
	return tx.Exec("UPDATE servers SET from_at = from_at + $3, to_at = to_at + $3, paid_at = paid_at + $3 WHERE run_id = $1 AND id = $2", s.run, s.id, by).Error
}

// prolong lets a server stand until later, for more money.
func prolong(tx *gorm.DB, s server, to, paid time.Time, more pricing.Money) error {
	return tx.Exec("UPDATE servers SET to_at = $3, paid_at = $4, committed = committed + $5::numeric WHERE run_id = $1 AND id = $2", s.run, s.id, to, paid, more.Rat().FloatString(12)).Error
}

// commit sets what a server is to come to.
func commit(tx *gorm.DB, s server, cost pricing.Money) error {
	return tx.Exec("UPDATE servers SET committed = $3::numeric WHERE run_id = $1 AND id = $2", s.run, s.id, cost.Rat().FloatString(12)).Error
}

// overstaying lists the servers that stand though they were meant to be gone.
func overstaying(tx *gorm.DB, now time.Time) ([]server, error) {
	return store.Rows(tx.Raw("SELECT "+columns+" WHERE s.state IN ('starting', 'up', 'stopping', 'ending') AND s.to_at < $1 ORDER BY s.run_id, s.id FOR UPDATE OF s SKIP LOCKED", now), scan)
}

// spenders lists who has servers that could be stopped.
func spenders(tx *gorm.DB) (out []spender, err error) {
	return out, tx.Raw("SELECT DISTINCT s.run_id AS run, o.source FROM servers s JOIN offers o ON o.name = s.offer WHERE s.state IN ('starting', 'up') ORDER BY 1, 2").Scan(&out).Error
}

// standingOf lists the servers of a run at a source that could be stopped, the last that was asked for first.
func standingOf(tx *gorm.DB, run uuid.UUID, source string) ([]server, error) {
	return store.Rows(tx.Raw("SELECT "+columns+" WHERE s.state IN ('starting', 'up') AND s.run_id = $1 AND o.source = $2 ORDER BY s.from_at DESC, s.id DESC FOR UPDATE OF s SKIP LOCKED", run, source), scan)
}

// rendering reports whether a host has frames in work.
func rendering(tx *gorm.DB, host string) (busy bool, err error) {
	return busy, tx.Raw("SELECT EXISTS (SELECT FROM frames WHERE host = $1 AND state = 'rendering')", host).Row().Scan(&busy)
}

func stopped(tx *gorm.DB, s server, at time.Time, image string) error {
	return tx.Exec("UPDATE servers SET stopped_at = $3, image = CASE WHEN $4 = '' THEN image ELSE $4 END WHERE run_id = $1 AND id = $2", s.run, s.id, at, image).Error
}

func lockState(tx *gorm.DB, s server) (state states.Server, err error) {
	return state, tx.Raw("SELECT state FROM servers WHERE run_id = $1 AND id = $2 FOR UPDATE", s.run, s.id).Row().Scan(&state)
}

// kept is an image at a source, with the version of the agent in it.
type kept struct{ source, offer, agent string }

func images(tx *gorm.DB) ([]kept, error) {
	return store.Rows(tx.Raw("SELECT source, offer, agent_version FROM images ORDER BY source, offer"), func(row store.Row) (k kept, err error) {
		return k, row.Scan(&k.source, &k.offer, &k.agent)
	})
}

func hasImage(tx *gorm.DB, s server) (has bool, err error) {
	return has, tx.Raw("SELECT EXISTS (SELECT FROM images WHERE source = $1 AND offer = $2)", s.spec.Source, s.offer).Row().Scan(&has)
}

func keepImageOf(tx *gorm.DB, s server, image string, at time.Time) error {
	return tx.Exec(`INSERT INTO images (source, offer, image, kept_at, agent_version) VALUES ($1, $2, $3, $4, coalesce((SELECT agent_version FROM hosts WHERE name = $5), ''))
		ON CONFLICT DO NOTHING`, s.spec.Source, s.offer, image, at, s.host).Error
}

func forgetImage(tx *gorm.DB, source, offer string) error {
	return tx.Exec("DELETE FROM images WHERE source = $1 AND offer = $2", source, offer).Error
}

// standingAt lists the servers that we believe a source lets to us.
func standingAt(tx *gorm.DB, source string) ([]string, error) {
	return store.Column[string](tx.Raw("SELECT s.host FROM servers s JOIN offers o ON o.name = s.offer WHERE o.source = $1 AND s.state IN ('requested', 'starting', 'up', 'stopping', 'ending')", source))
}

// runOf is the run that a server was made for; nil where none knows it.
func runOf(tx *gorm.DB, host string) (*string, error) {
	run, found, err := store.First(tx.Raw("SELECT run_id::text FROM servers WHERE host = $1", host), func(row store.Row) (id string, err error) { return id, row.Scan(&id) })
	if err != nil || !found {
		return nil, err
	}
	return &run, nil
}
