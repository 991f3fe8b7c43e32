// Package candidates says what a shot may expect of each crew there is: whether it
// fits, what would stop it, and what a frame takes. Planning, preflight and
// comparison all go by it, so that none says what another does not.
package candidates

import (
	"context"
	"math/big"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/memory"
	"rotanex.example/core/paths"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/licences"
	"rotanex.example/service/packages"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
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
func (p Candidate) Blocked() *preflight.Finding {
	return preflight.First(p.Findings, preflight.Blocker)
}

// View is a shot with all its candidates, as they are at one time.
type View struct {
	Shot  shots.Shot
	Now   time.Time
	Need  memory.Need
	Known *timings.Knowledge
	All   []Candidate

	packed  []string                    // the files of the shot's package; nil: it has none
	sources map[string]preflight.Source // of what is not one's own, by name
	scenes  map[string]bool             // sources on which scenes lie already
	allowed map[string][]string         // launchers of sources that start the agent themselves
	factors map[string]*big.Rat         // what one unit of a source's prices comes to; nil: cannot be told
}

// Looking reports whether an agent that is up has not looked yet for the shot's files.
func (v View) Looking() bool {
	return slices.ContainsFunc(v.All, func(x Candidate) bool {
		f := preflight.First(x.Findings, preflight.Unknown)
		return x.Place.Host != nil && f != nil && f.Check == "inputs"
	})
}

// Candidates makes views.
type Candidates struct {
	store    *store.Store
	clock    clock.Clock
	hosts    *hosts.Hosts
	shots    *shots.Shots
	timings  *timings.Timings
	sources  *sources.Sources
	packages *packages.Packages
	licences *licences.Licences
	currency string
	zone     *time.Location
}

// Config is what candidates are made from. All of it is wanted.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Hosts    *hosts.Hosts
	Shots    *shots.Shots
	Timings  *timings.Timings
	Sources  *sources.Sources
	Packages *packages.Packages
	Licences *licences.Licences
	Currency string
	Zone     *time.Location // in which opening hours are read
}

// New makes it.
func New(c Config) *Candidates {
	return &Candidates{c.Store, c.Clock, c.Hosts, c.Shots, c.Timings, c.Sources, c.Packages, c.Licences, c.Currency, c.Zone}
}

// Of returns the view of a shot.
func (p *Candidates) Of(ctx context.Context, shot shots.Shot) (View, error) {
	shot, err := p.shots.Asked(ctx, shot)
	v := View{Shot: shot, Now: p.clock.Now()}
	if err != nil {
		return v, err
	}
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
		if licence, err = p.licences.Find(ctx, shot.Spec.Licence); err != nil {
			return v, err
		}
	}
	if err := p.reach(ctx, &v); err != nil {
		return v, err
	}
	installed := p.installed(places, shot.Spec.Launcher)
	for _, place := range places {
		for _, c := range place.Crews() {
			v.All = append(v.All, p.candidate(v, place, c, licence, installed))
		}
	}
	return v, nil
}

// reach gathers how what is not one's own is reached: its sources, and the shot's package.
func (p *Candidates) reach(ctx context.Context, v *View) error {
	all, err := p.sources.All(ctx)
	if err != nil {
		return err
	}
	v.sources, v.scenes, v.allowed, v.factors = map[string]preflight.Source{}, map[string]bool{}, map[string][]string{}, map[string]*big.Rat{}
	for _, s := range all {
		v.sources[s.Name] = preflight.Source{Name: s.Name, Address: s.Spec.Address, Asked: s.Asked != nil, Fault: s.Fault}
		v.scenes[s.Name], v.allowed[s.Name] = s.Spec.Scenes != "", s.Spec.Starts()
		if factor, err := p.sources.Factor(ctx, s.Name); err == nil {
			v.factors[s.Name] = factor
		}
	}
	pack, found, err := p.packages.Of(ctx, v.Shot.Name)
	if found {
		v.packed = []string{}
		for _, f := range pack.Files {
			v.packed = append(v.packed, f.Path)
		}
	}
	return err
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
		if place.Farm != nil {
			e = e.Alone() // its nodes are handed frame by frame
		}
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
		Name: s.Name, Launcher: s.Spec.Launcher, Backend: s.Spec.Backend, Devices: s.Spec.Devices, Version: s.Spec.Version, Plugins: s.Spec.Plugins,
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
	for i, id := range x.Crew.Devices {
		if id == stock.CPUDevice {
			c.CPU = true
			continue
		}
		c.GPUs, c.Models = c.GPUs+1, append(c.Models, x.Crew.Models[i])
	}
	for _, d := range x.Place.Spec.Devices {
		if d.Unusable != "" && strings.HasPrefix(x.Crew.ID, stock.CPUDevice) {
			c.Unusable = append(c.Unusable, d.ID+" ("+d.Model+"): "+d.Unusable)
		}
	}
	files := append([]string{v.Shot.Spec.Scene}, v.Shot.Spec.Inputs...)
	h := x.Place.Host
	if h == nil {
		c.Launchers, c.Source = x.Place.Launchers(), v.sources[x.Place.Source]
		c.Source.Name = x.Place.Source
		if len(c.Launchers) == 0 {
			c.Launchers = v.allowed[x.Place.Source]
		}
		c.Carry, c.Packed = !v.scenes[x.Place.Source], v.packed != nil
		for _, file := range files {
			if c.Carry && c.Packed && !slices.Contains(v.packed, paths.InPackage(file)) {
				c.Missing = append(c.Missing, file)
			}
		}
		return c
	}
	c.Asked, c.Up, c.Draining, c.Launchers, c.Folder = true, h.Up(p.clock.WallNow()), h.Draining, h.Launchers, h.Folder
	c.Trouble = h.Trouble
	c.OpensAt, c.LookedFor = h.OpensAt(v.Now, p.zone), h.LookedTo != nil && !h.LookedTo.Before(v.Shot.InputsSince())
	for _, file := range files {
		if slices.Contains(h.Missing, file) {
			c.Missing = append(c.Missing, file)
		}
	}
	return c
}
