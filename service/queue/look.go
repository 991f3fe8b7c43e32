package queue

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Look is what one could ask the rule of frames as they stand, without leasing any. What
// is read of shots on the way is kept for the next question.
type Look struct {
	q     *Queue
	tx    *gorm.DB
	kinds map[bookings.ShotOf][]dispatch.Kind
}

// Look begins a look at what stands.
func (q *Queue) Look(tx *gorm.DB) *Look {
	return &Look{q, tx, map[bookings.ShotOf][]dispatch.Kind{}}
}

func (l *Look) at(host string) *granting {
	return &granting{q: l.q, tx: l.tx, host: dispatch.Host{Name: host}, now: l.q.clock.Now(), kinds: l.kinds, looks: true}
}

// May says whether a crew may take a frame of a kind now, later or never. A farm is handed
// its frames when its job begins.
func (l *Look) May(c *bookings.Crew, k *dispatch.Kind) (dispatch.Verdict, error) {
	if c.Farm {
		return dispatch.Handed(&c.Crew, k), nil
	}
	g := l.at(c.Host)
	g.rows = map[*dispatch.Crew]*bookings.Crew{&c.Crew: c}
	if c.Known {
		if _, err := g.lockHost(); err != nil {
			return dispatch.Verdict{}, err
		}
		if _, err := g.current(nil); err != nil {
			return dispatch.Verdict{}, err
		}
	}
	return g.host.May(g, &c.Crew, k, g.now)
}

// HostLook is a host as the rule finds it: what it renders, and a verdict on each crew
// that is booked on it, of the same index.
type HostLook struct {
	Rule      dispatch.Host
	Crews     []*bookings.Crew
	Rendering []Lease
	Aside     string // why it takes nothing: draining, or what its agent says
	Kept      string // of a desk that is not lent at all now: why
}

// Host asks the rule what a host's crews may take now.
func (l *Look) Host(ctx context.Context, name string) (out HostLook, err error) {
	g := l.at(name)
	out.Aside, err = g.lockHost()
	if store.Missing(err) {
		return out, httpapi.NotFound(fmt.Sprintf("there is no host %q; rotanex hosts list shows them", name))
	}
	if err != nil {
		return out, err
	}
	if h := (hosts.Host{Spec: g.spec, Desk: g.desk}); h.AllKept() {
		out.Kept = h.Desk.Why
	}
	if out.Rendering, err = g.current(nil); err != nil {
		return out, err
	}
	if err := g.read(); err != nil {
		return out, err
	}
	if err := g.host.Choose(g, g.now); err != nil {
		return out, err
	}
	for _, c := range g.host.Crews {
		out.Crews = append(out.Crews, g.rows[c])
	}
	out.Rule = g.host
	return out, nil
}
