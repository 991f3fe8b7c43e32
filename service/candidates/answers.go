package candidates

import (
	"fmt"
	"net/http"

	"rotanex.example/api"
	"rotanex.example/core/preflight"
	"rotanex.example/service/httpapi"
)

// Fit answers with the memory verdict of a shot on every crew.
func (p *Candidates) Fit(w http.ResponseWriter, r *http.Request, name string) {
	shot, err := p.shots.Find(r.Context(), name)
	var v View
	if err == nil {
		v, err = p.Of(r.Context(), shot)
	}
	need, _ := v.Need.Device()
	out := api.ShotFit{
		Shot: name, NeedGb: need.GB(), DeclaredGb: (v.Need.Scene + v.Need.Buffers).GB(), BuffersGb: v.Need.Buffers.GB(),
		HostGb: v.Need.HostEach().GB(), ObservedGb: v.Need.Observed.GB(), AtLeast: v.Need.AtLeast, Fits: []api.Fit{},
	}
	for _, step := range v.Need.Permits {
		out.Permits = append(out.Permits, string(step))
	}
	for _, x := range v.All {
		out.Fits = append(out.Fits, fitRecord(x))
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func fitRecord(x Candidate) api.Fit {
	f := x.Fit
	out := api.Fit{
		Place: x.Place.Name, Source: x.Place.Source, Crew: x.Crew.ID, Verdict: api.FitVerdict(f.Verdict), NeedGb: f.Need.GB(), Observed: f.Observed,
		LimitGb: f.Limit.GB(), HeadRoomGb: f.HeadRoom.GB(), Limiting: f.Limiting, SpilledGb: f.Spilled.GB(), Slowdown: f.Slowdown, Tight: f.Tight,
		HostNeedGb: f.HostNeed.GB(), HostLimitGb: f.HostLimit.GB(), Renderers: f.Renderers, Why: f.Why,
	}
	for _, b := range x.Findings {
		if b.Level == preflight.Blocker && b.Check != "memory" && b.Check != "agent" && out.Blocked == "" {
			out.Blocked = b.Text
		}
	}
	if f.Without != nil {
		out.Without.Device, out.Without.LimitGb, out.Without.Verdict = f.Without.Device, f.Without.Limit.GB(), string(f.Without.Verdict)
	}
	return out
}

// Check answers with the preflight of a shot.
func (p *Candidates) Check(w http.ResponseWriter, r *http.Request, name string, params api.CheckShotParams) {
	shot, err := p.shots.Find(r.Context(), name)
	var v View
	if err == nil {
		v, err = p.Of(r.Context(), shot)
	}
	out := api.Preflight{Shot: name, At: v.Now.UTC(), Crews: []api.PreflightCrew{}}
	for _, x := range v.All {
		if params.On != nil && !x.on(*params.On) {
			continue
		}
		verdict := preflight.Judge(x.Findings)
		row := api.PreflightCrew{Place: x.Place.Name, Source: x.Place.Source, Crew: x.Crew.ID, Findings: []api.Finding{}, Verdict: api.PreflightCrewVerdict(verdict)}
		for _, f := range x.Findings {
			row.Findings = append(row.Findings, api.Finding{Level: api.FindingLevel(f.Level), Check: f.Check, Text: f.Text, Fix: f.Fix})
		}
		*map[preflight.Verdict]*int{preflight.Blocked: &out.Blocked, preflight.NotKnown: &out.NotKnown, preflight.Warnings: &out.Warned, preflight.Clear: &out.Clear}[verdict]++
		out.Crews = append(out.Crews, row)
	}
	if err == nil && len(out.Crews) == 0 && params.On != nil {
		err = httpapi.BadField("on", *params.On, fmt.Sprintf("there is no host, offer, source or crew %q; rotanex hosts list and rotanex offers list show them", *params.On))
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// on reports whether a candidate is of the host, offer, source or crew named.
func (x Candidate) on(name string) bool {
	return name == x.Place.Name || name == x.Place.Source || name == x.Name()
}

// Widest is how many times the low end of an estimate's interval its high end may be
// for a plan to rest on it.
const Widest = 2.2

// Usable says why a plan must leave the crew out, with the fix, or "".
func (x Candidate) Usable() (why, fix string) {
	timed := "time a frame on it"
	if x.Place.Host != nil {
		timed = fmt.Sprintf("rotanex trials run SHOT --crew %s", x.Name())
	}
	for _, level := range []preflight.Level{preflight.Blocker, preflight.Unknown} {
		if f := preflight.First(x.Findings, level); f != nil {
			return f.Text, f.Fix
		}
	}
	switch {
	case !x.Known:
		return x.Note, timed
	case x.Estimate.High > Widest*x.Estimate.Low:
		return fmt.Sprintf("predicted %.0f to %.0f s a frame: too wide to plan with%s", x.Estimate.Low, x.Estimate.High, because(x.Note)), timed
	}
	return "", ""
}

func because(note string) string {
	if note == "" {
		return ""
	}
	return "; " + note
}
