package turn

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Look is what one could ask the rule of frames as they stand, without leasing any. What
// is read of shots on the way is kept for the next question.
type Look struct {
	tx     *gorm.DB
	clock  clock.Clock
	crowds *bookings.Crowds
	kinds  map[bookings.ShotOf][]dispatch.Kind
}

// NewLook begins a look at what stands.
func NewLook(tx *gorm.DB, c clock.Clock, crowds *bookings.Crowds) *Look {
	return &Look{tx, c, crowds, map[bookings.ShotOf][]dispatch.Kind{}}
}

// looking is a turn in which nothing is taken.
type looking struct{ *Turn }

// Take implements dispatch.Queue: nothing is.
func (l looking) Take(c *dispatch.Crew, _ *dispatch.Kind) (int, error) {
	l.Forget(l.Rows[c].Run, c.Shot)
	return 1, nil
}

func (l *Look) at(host string) looking {
	t := Of(l.tx, l.clock, l.crowds, host)
	t.kinds, t.looks = l.kinds, true
	return looking{t}
}

// May says whether a crew may take a frame of a kind now, later or never. A farm is handed
// its frames when its job begins.
func (l *Look) May(c *bookings.Crew, k *dispatch.Kind) (dispatch.Verdict, error) {
	if c.Farm {
		return dispatch.Handed(&c.Crew, k), nil
	}
	g := l.at(c.Host)
	g.Rows = map[*dispatch.Crew]*bookings.Crew{&c.Crew: c}
	if c.Known {
		if _, _, err := g.Lock(); err != nil {
			return dispatch.Verdict{}, err
		}
		own, err := g.Turn.Rendering()
		if err != nil {
			return dispatch.Verdict{}, err
		}
		g.InUse(own)
	}
	return g.Host.May(g, &c.Crew, k, g.Now)
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
	_, out.Aside, err = g.Lock()
	if store.Missing(err) {
		return out, httpapi.NotFound(fmt.Sprintf("there is no host %q; rotanex hosts list shows them", name))
	}
	if err != nil {
		return out, err
	}
	if h := (hosts.Host{Spec: g.Spec, Desk: g.Desk}); h.AllKept() {
		out.Kept = h.Desk.Why
	}
	own, err := g.Turn.Rendering()
	if err != nil {
		return out, err
	}
	g.InUse(own)
	for _, x := range own {
		out.Rendering = append(out.Rendering, x.Lease)
	}
	if err := g.Read(); err != nil {
		return out, err
	}
	if err := g.Host.Choose(g, g.Now); err != nil {
		return out, err
	}
	for _, c := range g.Host.Crews {
		out.Crews = append(out.Crews, g.Rows[c])
	}
	out.Rule = g.Host
	return out, nil
}
