package runs

import (
	"context"
	"net/http"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"rotanex.example/api"
	"rotanex.example/service/edge"
	"rotanex.example/service/events"
)

// seatLife is how long, in real time, a seat stays with a host that is not heard of:
// a seat never stays with a dead server.
const seatLife = 45 * time.Second

// seat takes a seat of the booking's licence for the host, or keeps the one that it
// has. A host holds one seat, however many renderers it runs. Who only helps leaves
// the seats to those who were booked.
func (g *granting) seat(ctx context.Context, b booked) (bool, error) {
	if b.licence == "" {
		return true, nil
	}
	var total int
	err := g.tx.QueryRow(ctx, `SELECT seats + coalesce((SELECT sum(h.seats) FROM hired_seats h JOIN runs r ON r.id = h.run_id WHERE r.state IN ('running', 'paused') AND h.pool = $1), 0)
		FROM licences WHERE pool = $1 FOR UPDATE`, b.licence).Scan(&total)
	if err == pgx.ErrNoRows {
		return true, nil // a pool that nobody counts
	}
	if err != nil {
		return false, err
	}
	wall := g.q.clock.WallNow()
	var held, wanted int
	var mine bool
	err = g.tx.QueryRow(ctx, `
		SELECT count(*) FILTER (WHERE host <> $2), coalesce(bool_or(host = $2), false),
		       (SELECT count(DISTINCT b.host) FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot
		        WHERE b.open AND r.state = 'running' AND b.taken < b.frames AND b.host <> $2 AND b.start_at <= $4 AND s.spec->>'licence' = $1
		          AND EXISTS (SELECT FROM hosts h WHERE h.name = b.host) AND NOT EXISTS (SELECT FROM seats x WHERE x.pool = $1 AND x.host = b.host))
		FROM seats WHERE pool = $1 AND until > $3`, b.licence, g.host, wall, g.now).Scan(&held, &mine, &wanted)
	if err != nil {
		return false, err
	}
	if b.Taken >= b.Frames && !mine {
		held += wanted
	}
	if held >= total && !mine || held > total {
		return false, nil
	}
	_, err = g.tx.Exec(ctx, `INSERT INTO seats (pool, host, run_id, since, until) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (pool, host) DO UPDATE SET until = excluded.until, run_id = excluded.run_id`, b.licence, g.host, b.RunID, g.now, wall.Add(seatLife))
	return err == nil, err
}

// keepSeats renews the seats of a host that is heard of.
func (q *Runs) keepSeats(ctx context.Context, host string) error {
	_, err := q.store.Pool.Exec(ctx, "UPDATE seats SET until = $2 WHERE host = $1", host, q.clock.WallNow().Add(seatLife))
	return err
}

// returnSeats gives back the seats of hosts that are not heard of, or that have no
// frame of the licence in hand and owe none.
func (q *Runs) returnSeats(ctx context.Context) error {
	tag, err := q.store.Pool.Exec(ctx, `
		DELETE FROM seats x WHERE x.until < $1 OR NOT EXISTS (
			SELECT FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = x.host AND f.state = 'leased' AND s.spec->>'licence' = x.pool)
		AND NOT EXISTS (
			SELECT FROM bookings b JOIN runs r ON r.id = b.run_id JOIN run_shots s ON s.run_id = b.run_id AND s.shot = b.shot
			WHERE b.host = x.host AND b.open AND r.state = 'running' AND b.taken < b.frames AND s.spec->>'licence' = x.pool
			  AND EXISTS (SELECT FROM frames f WHERE f.run_id = b.run_id AND f.shot = b.shot AND f.state = 'waiting'))`, q.clock.WallNow())
	if err == nil && tag.RowsAffected() > 0 {
		q.feed.Wake(events.Work)
	}
	return err
}

// Seats answers with the seats that hosts hold now.
func (q *Runs) Seats(w http.ResponseWriter, r *http.Request) {
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
