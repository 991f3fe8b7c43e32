package rental

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/service/bookings"
	"rotanex.example/service/states"
)

// staysOn keeps a server on that would be stopped now though frames wait that nobody else
// of its run could take: a run shall not stand still over night with money left. What of
// that needs further paid increments is bought; where that is beyond a cap it is not, and
// why is returned. A run that is paused keeps nobody.
func (r *Rental) staysOn(ctx context.Context, tx *gorm.DB, s server, now, wall time.Time) (stays bool, why string, err error) {
	if s.runState != states.RunRunning || s.agentSeen == nil || wall.Sub(*s.agentSeen) > silent {
		return false, "", nil
	}
	frames, takes, err := r.standing.Alone(tx, s.run, s.host)
	if err != nil || frames == 0 {
		return false, "", err
	}
	wrap := time.Duration(s.spec.ShutdownS) * time.Second
	to := now.Add(takes + wrap)
	if to.Before(s.to) {
		to = s.to
	}
	with, err := r.charge(tx, s, to.Sub(s.from))
	if err != nil {
		return false, err.Error(), nil // what cannot be priced is not bought
	}
	more := with.Minus(s.committed).Max(pricing.Money{})
	if !more.IsZero() {
		beyond, err := r.sources.Beyond(tx, s.run, s.spec.Source, more, "further time of server "+s.id)
		if err != nil || beyond != "" {
			return false, fmt.Sprintf("%d frames are left that nobody else can render: %s", frames, beyond), err
		}
	}
	paid := s.from.Add(s.spec.Meter().Billed(to.Sub(s.from)))
	if err := prolong(tx, s, to, paid, more); err != nil {
		return false, "", err
	}
	if err := r.noted(tx, s, "kept a server on", more); err != nil {
		return false, "", err
	}
	if err := bookings.CloseAt(tx, s.run, s.host, paid.Add(-wrap)); err != nil {
		return false, "", err
	}
	if err := r.jobs.Send(ctx, tx, prolongServer, s.key()); err != nil {
		return false, "", err
	}
	said := fmt.Sprintf("it stays on until %s: nobody else can render the %d frames that are left", to.UTC().Format("15:04 MST"), frames)
	return true, "", r.set(ctx, tx, s, states.ServerUp, said)
}
