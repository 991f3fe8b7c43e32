package queue

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
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
	holders, wanting, err := g.q.seats(g.tx, c.Licence, g.kinds)
	if err != nil {
		return p, false, err
	}
	for _, s := range holders {
		if s.kept && s.host == g.host.Name {
			p.Mine = true
		} else if s.kept {
			p.Held++
		}
	}
	for host, from := range wanting {
		holds := slices.ContainsFunc(holders, func(s seat) bool { return s.kept && s.host == host })
		if host != g.host.Name && !holds && !from.After(g.now) {
			p.Wanted++
		}
	}
	return p, true, nil
}

// seat is one that a host holds.
type seat struct {
	host  string
	until time.Time
	kept  bool // neither with one that is not heard of nor with one that has no use for it
}

// seats lists who holds a seat of a pool, and which hosts in the stock want one, from
// when. Kinds of shots that are known already are not read again.
func (q *Queue) seats(tx *gorm.DB, pool string, known map[runShot][]dispatch.Kind) (held []seat, wanting map[string]time.Time, err error) {
	owing, err := q.crews(tx, "b.open AND r.state = 'running' AND b.taken < b.frames AND h.name IS NOT NULL AND s.spec->>'licence' = $1", pool)
	if err != nil {
		return nil, nil, err
	}
	wanting = map[string]time.Time{}
	for _, c := range owing {
		at := runShot{c.run, c.Shot}
		waiting, ok := known[at]
		if !ok {
			if waiting, err = kinds(tx, c.run, c.Shot); err != nil {
				return nil, nil, err
			}
			known[at] = waiting
		}
		if from, before := wanting[c.Host]; dispatch.Wants(&c.Crew, waiting) && (!before || c.Start.Before(from)) {
			wanting[c.Host] = c.Start
		}
	}
	held, err = store.Rows(tx.Raw(`SELECT x.host, x.until, EXISTS (
			SELECT FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = x.host AND f.state = 'rendering' AND s.spec->>'licence' = x.pool)
		FROM seats x WHERE x.pool = $1`, pool), func(row store.Row) (s seat, err error) {
		var renders bool
		err = row.Scan(&s.host, &s.until, &renders)
		_, wants := wanting[s.host]
		s.kept = (renders || wants) && s.until.After(q.clock.WallNow())
		return s, err
	})
	return held, wanting, err
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
	tx := q.store.WithContext(ctx)
	pools, err := store.Column[string](tx.Raw("SELECT DISTINCT pool FROM seats"))
	known := map[runShot][]dispatch.Kind{}
	freed := int64(0)
	for _, pool := range pools {
		held, _, err := q.seats(tx, pool, known)
		if err != nil {
			return err
		}
		for _, s := range held {
			if s.kept {
				continue
			}
			// Only if nobody took it up again since.
			done := tx.Exec("DELETE FROM seats WHERE pool = $1 AND host = $2 AND until = $3", pool, s.host, s.until)
			if done.Error != nil {
				return done.Error
			}
			freed += done.RowsAffected
		}
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
	httpapi.Answer(w, r, http.StatusOK, out, err)
}
