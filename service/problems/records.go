package problems

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// hired is how many extra seats of a pool open runs have hired.
func (p *Problems) hired(ctx context.Context, pool string) (seats int, err error) {
	return seats, p.Store.WithContext(ctx).Raw(`SELECT coalesce(sum(h.seats), 0) FROM hired_seats h JOIN runs r ON r.id = h.run_id
		WHERE h.pool = ? AND r.state IN ('running', 'paused')`, pool).Scan(&seats).Error
}

// busyUntil returns when each host has done what open runs still have booked on it.
// A host is taken whole until then, though some of its devices may be free.
func (p *Problems) busyUntil(ctx context.Context, but *uuid.UUID) (map[string]time.Time, error) {
	var rows []struct {
		Host  string
		Until time.Time
	}
	err := p.Store.WithContext(ctx).Raw(`
		SELECT b.host, max(b.end_at) AS until FROM bookings b JOIN runs r ON r.id = b.run_id
		WHERE b.open AND r.kind = 'run' AND b.taken < b.frames AND (?::uuid IS NULL OR r.id <> ?) GROUP BY 1`, but, but).Scan(&rows).Error
	out := map[string]time.Time{}
	for _, row := range rows {
		out[row.Host] = row.Until.UTC()
	}
	return out, err
}
