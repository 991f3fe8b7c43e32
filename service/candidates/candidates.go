// Package candidates says what a shot may expect of each crew there is: whether it
// fits, what would stop it, and what a frame takes. Planning, preflight and
// comparison all go by it, so that none says what another does not.
package candidates

import (
	"context"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/memory"
	"rotanex.example/core/preflight"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
)

// Candidate is a crew as a shot sees it.
type Candidate struct {
	Place    hosts.Place
	Crew     stock.Crew
	Backend  string
	Fit      memory.Fit
	Findings []preflight.Finding
	// Estimate is what a typical frame takes, the fit's slow-down in it; Parts is where
	// that goes. Known is false, and Note says why, where nothing can be said.
	Estimate timing.Estimate
	Parts    timing.Parts
	Known    bool
	Note     string
}

// Name is HOST/CREW, or OFFER/CREW.
func (p Candidate) Name() string { return p.Place.Name + "/" + p.Crew.ID }

// Blocked returns what keeps the shot from the crew, or nil.
func (p Candidate) Blocked() *preflight.Finding { return preflight.Blocked(p.Findings) }

// View is a shot with all its candidates, as they are at one time.
type View struct {
	Shot  shots.Shot
	Now   time.Time
	Need  memory.Need
	Known *timings.Knowledge
	All   []Candidate
}

// Candidates makes views.
type Candidates struct {
	store    *store.Store
	clock    clock.Clock
	hosts    *hosts.Hosts
	shots    *shots.Shots
	timings  *timings.Timings
	currency string
	zone     *time.Location
}

// New makes it; zone is where opening hours are read.
func New(s *store.Store, c clock.Clock, h *hosts.Hosts, sh *shots.Shots, t *timings.Timings, currency string, zone *time.Location) *Candidates {
	return &Candidates{s, c, h, sh, t, currency, zone}
}

// Of returns the view of a shot.
func (p *Candidates) Of(ctx context.Context, shot shots.Shot) (View, error) {
	v := View{Shot: shot, Now: p.clock.Now()}
	var err error
	if v.Need, err = p.timings.Need(ctx, shot); err != nil {
		return v, err
	}
	if v.Known, err = p.timings.Know(ctx); err != nil {
		return v, err
	}
	places, err := p.hosts.Places(ctx)
	if err != nil {
		return v, err
	}
	var licence *preflight.Licence
	if shot.Spec.Licence != "" {
		if licence, err = p.Licence(ctx, shot.Spec.Licence); err != nil {
			return v, err
		}
	}
	installed := p.installed(places, shot.Spec.Launcher)
	for _, place := range places {
		for _, c := range place.Crews() {
			v.All = append(v.All, p.candidate(v, place, c, licence, installed))
		}
	}
	return v, nil
}

// installed is the renderer of a launcher as most of one's own hosts have it: what a
// server not yet rented is taken to have.
func (p *Candidates) installed(places []hosts.Place, launcher string) *preflight.Renderer {
	for _, place := range places {
		if place.Host == nil {
			continue
		}
		if r := place.Host.Renderer(launcher); r != nil && r.Trouble == "" {
			return r
		}
	}
	return nil
}

// Licence returns a licence pool; nil where it is not known.
func (p *Candidates) Licence(ctx context.Context, pool string) (*preflight.Licence, error) {
	found, err := p.licences(ctx, pool)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// licences returns the pool of a name, or all with "".
func (p *Candidates) licences(ctx context.Context, pool string) ([]preflight.Licence, error) {
	return store.Rows(p.store.WithContext(ctx).Raw("SELECT pool, kind, seats, extra_seats, extra_seat_price::text FROM licences WHERE $1 = '' OR pool = $1 ORDER BY pool", pool), func(row store.Row) (l preflight.Licence, err error) {
		var price string
		if err = row.Scan(&l.Pool, &l.Kind, &l.Seats, &l.ExtraSeats, &price); err == nil {
			l.ExtraSeatPrice, err = pricing.ParseMoney(price)
		}
		return l, err
	})
}

func (p *Candidates) candidate(v View, place hosts.Place, c stock.Crew, licence *preflight.Licence, installed *preflight.Renderer) Candidate {
	out := Candidate{Place: place, Crew: c, Backend: hosts.Backend(c, v.Shot.Spec.Backend)}
	renderer := installed
	if place.Host != nil {
		renderer = place.Host.Renderer(v.Shot.Spec.Launcher)
	}
	out.Fit = memory.Judge(v.Need, hosts.MemoryCrew(place.Spec, c, renderer))
	e, prediction, err := v.Known.Estimate(v.Shot, hosts.TimingPlace(place.Spec, c, out.Backend, v.Shot.Spec.Launcher))
	if err != nil {
		out.Note = err.Error()
	} else {
		out.Known, out.Estimate, out.Parts, out.Note = true, e, prediction.Parts, prediction.Note
		if e.Basis == timing.Predicted {
			slow := out.Fit.Slowdown // a measured time has it in it
			out.Estimate.Seconds, out.Estimate.Low, out.Estimate.High = e.Seconds*slow, e.Low*slow, e.High*slow
			out.Parts.Work += (slow - 1) * prediction.Seconds
		}
	}
	out.Findings = preflight.Check(asked(v.Shot), p.facts(v, out, renderer, licence), v.Now)
	return out
}

// asked is what a shot asks of a crew, for the preflight.
func asked(s shots.Shot) preflight.Shot {
	return preflight.Shot{
		Name: s.Name, Launcher: s.Spec.Launcher, Backend: s.Spec.Backend, Version: s.Spec.Version, Plugins: s.Spec.Plugins,
		Features: s.Spec.Features, Accepts: s.Spec.Accepts, Licence: s.Spec.Licence, Deadline: s.Spec.Deadline, Frames: s.FrameCount,
	}
}

// facts is what is known of a crew, for the preflight.
func (p *Candidates) facts(v View, x Candidate, renderer *preflight.Renderer, licence *preflight.Licence) preflight.Crew {
	c := preflight.Crew{
		Host: x.Place.Name, Crew: x.Crew.ID, Backends: x.Crew.Backends, Renderer: renderer, Licence: licence, Fit: x.Fit,
		Rented: x.Place.Rented(), FrameS: x.Estimate.Seconds, FrameLowS: x.Estimate.Low, FrameHighS: x.Estimate.High,
		OnBattery: x.Place.Spec.OnBattery(),
	}
	for _, id := range x.Crew.Devices {
		if id == stock.CPUDevice {
			c.CPU = true
		} else {
			c.GPUs++
		}
	}
	for _, d := range x.Place.Spec.Devices {
		if d.Unusable != "" && strings.HasPrefix(x.Crew.ID, stock.CPUDevice) {
			c.Unusable = append(c.Unusable, d.ID+" ("+d.Model+"): "+d.Unusable)
		}
	}
	h := x.Place.Host
	if h == nil {
		c.Launchers = x.Place.Launchers()
		return c
	}
	c.Asked, c.Up, c.Draining, c.Launchers, c.Folder = true, h.Up(p.clock.WallNow()), h.Draining, h.Launchers, h.Folder
	c.OpensAt, c.LookedFor = h.OpensAt(v.Now, p.zone), h.LookedFor != ""
	for _, file := range append([]string{v.Shot.Spec.Scene}, v.Shot.Spec.Inputs...) {
		if slices.Contains(h.Missing, file) {
			c.Missing = append(c.Missing, file)
		}
	}
	return c
}
