package rental

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"rotanex.example/service/hosts"
)

// staysOn keeps a server on that would be stopped now though frames wait that nobody else
// of its run could take: a run shall not stand still over night with money left. What of
// that needs further paid increments is bought; where that is beyond a cap it is not, and
// why is returned. A run that is paused keeps nobody.
func (r *Rental) staysOn(ctx context.Context, tx pgx.Tx, s server, now, wall time.Time) (stays bool, why string, err error) {
	if s.runState != "running" || s.agentSeen == nil || wall.Sub(*s.agentSeen) > silent {
		return false, "", nil
	}
	var seconds float64
	var frames int
	err = tx.QueryRow(ctx, `
		WITH able AS (
			SELECT b.shot FROM bookings b LEFT JOIN hosts h ON h.name = b.host LEFT JOIN servers v ON v.run_id = b.run_id AND v.host = b.host
			WHERE b.run_id = $1 AND b.host <> $2 AND b.barred = '' AND coalesce(b.close_at, 'infinity') > $3::timestamptz + b.frame_s * interval '1 second'
			  AND (v.state IN ('planned', 'asked', 'starting') OR NOT h.draining AND h.agent_seen > $4::timestamptz - $5 * interval '1 second'
			       OR EXISTS (SELECT FROM farm_jobs j WHERE j.booking_id = b.id AND j.state = 'planned'))),
		waiting AS (SELECT shot, count(*) AS n FROM frames WHERE run_id = $1 AND state = 'waiting' AND (only_on = '{}' OR EXISTS (SELECT FROM unnest(only_on) o WHERE split_part(o, '/', 1) = $2)) AND shot NOT IN (SELECT shot FROM able) GROUP BY shot),
		paces AS (
			SELECT DISTINCT b.shot, b.crew, greatest(b.frame_s, 0.001,
				(SELECT avg(a.seconds) FROM attempts a JOIN frames f ON f.id = a.frame_id WHERE a.run_id = $1 AND a.host = $2 AND a.crew = b.crew AND f.shot = b.shot AND a.outcome = 'done')) AS frame_s
			FROM bookings b WHERE b.run_id = $1 AND b.host = $2 AND b.barred = '')
		SELECT coalesce(sum(s), 0)::float8, coalesce(sum(n), 0)::int FROM (SELECT w.n, w.n / sum(1 / p.frame_s) + max(p.frame_s) AS s FROM waiting w JOIN paces p USING (shot) GROUP BY w.shot, w.n) x`,
		s.run, s.host, now, wall, hosts.Lost.Seconds()).Scan(&seconds, &frames)
	if err != nil || frames == 0 {
		return false, "", err
	}
	wrap := time.Duration(s.spec.WrapS) * time.Second
	to := now.Add(time.Duration(seconds*float64(time.Second)) + wrap)
	if to.Before(s.to) {
		to = s.to
	}
	factor, err := r.sources.FactorBy(ctx, tx, s.spec.Source)
	if err != nil {
		return false, err.Error(), nil // what cannot be priced is not bought
	}
	meter := s.spec.Meter()
	more := meter.Charge(to.Sub(s.from)).Minus(meter.Charge(s.to.Sub(s.from))).Scaled(factor)
	if !more.IsZero() {
		beyond, err := r.sources.Beyond(ctx, tx, s.run, s.spec.Source, more, "further time of server "+s.id)
		if err != nil || beyond != "" {
			return false, fmt.Sprintf("%d frames are left that nobody else can render: %s", frames, beyond), err
		}
	}
	paid := s.from.Add(meter.Billed(to.Sub(s.from)))
	var b pgx.Batch
	b.Queue("UPDATE servers SET to_at = $3, paid_at = $4, committed = committed + $5::numeric WHERE run_id = $1 AND id = $2", s.run, s.id, to, paid, more.Rat().FloatString(12))
	b.Queue("UPDATE bookings SET close_at = $3 WHERE run_id = $1 AND host = $2", s.run, s.host, paid.Add(-wrap))
	said := fmt.Sprintf("it stays on until %s: nobody else can render the %d frames that are left", to.UTC().Format("15:04 MST"), frames)
	return true, "", errors.Join(tx.SendBatch(ctx, &b).Close(), r.set(ctx, tx, s, "up", said))
}
