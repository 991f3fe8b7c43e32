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
	v, err := p.OfNamed(r.Context(), name)
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

// Check answers with the preflight of a shot.
func (p *Candidates) Check(w http.ResponseWriter, r *http.Request, name string, params api.CheckShotParams) {
	v, err := p.OfNamed(r.Context(), name)
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

// GetComparison answers with the crews side by side.
func (p *Candidates) GetComparison(w http.ResponseWriter, r *http.Request, name string, params api.CompareShotParams) {
	baseline, by := "", BySeconds
	if params.Baseline != nil {
		baseline = *params.Baseline
	}
	if params.Sort != nil {
		by = Order(*params.Sort)
	}
	c, err := p.Compare(r.Context(), name, baseline)
	c.Sort(by)
	httpapi.Answer(w, r, http.StatusOK, c.record(), err)
}
