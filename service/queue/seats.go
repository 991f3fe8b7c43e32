package queue

import (
	"context"
	"net/http"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/service/edge"
	"rotanex.example/service/events"
	"rotanex.example/service/store"
)

// seatLife is how long, in real time, a seat stays with a host that is not heard of:
// a seat never stays with a dead server.
const seatLife = 45 * time.Second

// Pool implements dispatch.Queue. Whoever asks for a seat of a pool does so one after
// another.
func (g *granting) Pool(c *dispatch.Crew) (p dispatch.Pool, counted bool, err error) {
	p.Name = c.Licence
	lock := " FOR UPDATE"
	if g.looks {
		lock = ""
	}
	err = g.tx.Raw(`SELECT seats + coalesce((SELECT sum(h.seats) FROM hired_seats h JOIN runs r ON r.id = h.run_id WHERE r.state IN ('running', 'paused') AND h.pool = $1), 0)
		FROM licences WHERE pool = $1`+lock, c.Licence).Row().Scan(&p.Total)
	if missing(err) {
		return p, false, nil
	}
	if err != nil {
		return p, false, err
	}
	err = g.tx.Raw(`
		SELECT count(*) FILTER (WHERE host <> $2), coalesce(bool_or(host = $2), false),
		       (SELECT count(DISTINCT b.host) FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot
		        WHERE b.open AND r.state = 'running' AND b.taken < b.frames AND b.host <> $2 AND b.start_at <= $4 AND s.spec->>'licence' = $1
		          AND EXISTS (SELECT FROM hosts h WHERE h.name = b.host) AND NOT EXISTS (SELECT FROM seats x WHERE x.pool = $1 AND x.host = b.host))
		FROM seats WHERE pool = $1 AND until > $3`, c.Licence, g.host.Name, g.q.clock.WallNow(), g.now).Row().Scan(&p.Held, &p.Mine, &p.Wanted)
	return p, true, err
}

// takeSeat takes a seat for the host, or keeps the one that it has. A host holds one
// seat, however many renderers it runs.
func (g *granting) takeSeat(b *crewRow) error {
	return g.tx.Exec(`INSERT INTO seats (pool, host, run_id, since, until) SELECT $1, $2, $3, $4, $5 WHERE EXISTS (SELECT FROM licences WHERE pool = $1)
		ON CONFLICT (pool, host) DO UPDATE SET until = excluded.until, run_id = excluded.run_id`, b.Licence, g.host.Name, b.run, g.now, g.q.clock.WallNow().Add(seatLife)).Error
}

// keepSeats renews the seats of a host that is heard of.
func (q *Queue) keepSeats(ctx context.Context, host string) error {
	return q.store.WithContext(ctx).Exec("UPDATE seats SET until = $2 WHERE host = $1", host, q.clock.WallNow().Add(seatLife)).Error
}

// returnSeats gives back the seats of hosts that are not heard of, or that do not keep
// theirs.
func (q *Queue) returnSeats(ctx context.Context) error {
	type seat struct {
		pool, host    string
		renders, owes bool
		until         time.Time
	}
	all, err := store.Rows(q.store.WithContext(ctx).Raw(`
		SELECT x.pool, x.host, x.until, EXISTS (
			SELECT FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = x.host AND f.state = 'leased' AND s.spec->>'licence' = x.pool),
		EXISTS (
			SELECT FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot
			WHERE b.host = x.host AND b.open AND r.state = 'running' AND b.taken < b.frames AND s.spec->>'licence' = x.pool
			  AND EXISTS (SELECT FROM frames f WHERE f.run_id = b.run_id AND f.shot = b.shot AND f.state = 'waiting'))
		FROM seats x`), func(row store.Row) (s seat, err error) {
		return s, row.Scan(&s.pool, &s.host, &s.until, &s.renders, &s.owes)
	})
	freed := int64(0)
	for _, s := range all {
		if dispatch.KeepsSeat(s.renders, s.owes) && s.until.After(q.clock.WallNow()) {
			continue
		}
		// Only if nobody took it up again since.
		done := q.store.WithContext(ctx).Exec("DELETE FROM seats WHERE pool = $1 AND host = $2 AND until = $3", s.pool, s.host, s.until)
		if err = done.Error; err != nil {
			break
		}
		freed += done.RowsAffected
	}
	if freed > 0 {
		q.feed.Wake(events.Work)
	}
	return err
}

// Seats answers with the seats that hosts hold now.
func (q *Queue) Seats(w http.ResponseWriter, r *http.Request) {
	out := struct {
		Items []api.Seat `json:"items"`
	}{[]api.Seat{}}
	var all []struct {
		Pool, Host string
		RunID      uuid.UUID
		Since      time.Time
	}
	err := q.store.WithContext(r.Context()).Raw("SELECT pool, host, run_id, since FROM seats ORDER BY pool, host").Scan(&all).Error
	for _, s := range all {
		out.Items = append(out.Items, api.Seat{Pool: s.Pool, Host: s.Host, Run: s.RunID, Since: s.Since.UTC()})
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}
