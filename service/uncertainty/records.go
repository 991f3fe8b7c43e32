package uncertainty

import (
	"context"
	"time"

	"rotanex.example/core/disruptions"
)

// tried is how often frames were tried at a place and how often that failed.
type tried struct {
	Place       string
	Tries, Fail int
}

func (d *Uncertainty) triesByPlace(ctx context.Context) (out []tried, err error) {
	return out, d.store.WithContext(ctx).Raw(`SELECT coalesce(s.offer, a.host) AS place, count(*) AS tries, count(*) FILTER (WHERE a.outcome <> 'done') AS fail
		FROM (SELECT host, outcome FROM tries ORDER BY id DESC LIMIT ?) a LEFT JOIN servers s ON s.host = a.host WHERE a.outcome <> 'revoked' GROUP BY 1`, mostTries).Scan(&out).Error
}

// mostTries are looked at, the newest: what is asked does not grow with all that was ever rendered.
const mostTries = 20_000

// triesSince are the tries on one's own hosts since a time that gave their frames, or were lost
// with their host.
func (d *Uncertainty) triesSince(ctx context.Context, since time.Time) (out []disruptions.Try, err error) {
	return out, d.store.WithContext(ctx).Raw(`SELECT a.run_id AS run, r.priority, f.shot, a.host, a.crew, f.frame AS number, a.outcome = 'lost' AS lost, a.ended_at AS ended,
		extract(epoch FROM a.ended_at - a.started_at)::float8 AS seconds
		FROM (SELECT * FROM tries ORDER BY id DESC LIMIT ?) a JOIN frames f ON f.id = a.frame_id JOIN runs r ON r.id = a.run_id JOIN hosts h ON h.name = a.host
		WHERE r.kind = 'run' AND NOT h.server AND a.outcome IN ('done', 'lost') AND a.ended_at > ? ORDER BY a.id DESC`, mostTries, since).Scan(&out).Error
}
