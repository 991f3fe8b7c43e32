package timing

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/stat"
)

// Prediction is what the model says of a place. Seconds is as likely too low as
// too high; the truth lies between Low and High with nine chances in ten.
type Prediction struct {
	Seconds float64 `json:"seconds"`
	Low     float64 `json:"low_s"`
	High    float64 `json:"high_s"`
	Parts   Parts   `json:"parts"` // they sum to Seconds
	// Note says what the interval rests on where that is little; "" else.
	Note string `json:"note,omitempty"`
}

// Certain tells whether the interval is narrow enough to plan with: its ends less
// than the factor apart.
func (p Prediction) Certain(factor float64) bool { return p.High < factor*p.Low }

// Scaling says why the model cannot know how the subject's crews scale, or "".
func (m *Model) Scaling(subject string) string {
	switch {
	case len(m.crews) == 0:
		return "does not yet know how crews scale: only single devices were timed; time one crew of several"
	case !m.crews[subject]:
		return "how this shot's crews scale is judged by other shots: only single devices were timed for it"
	}
	return ""
}

// KnowsScaling tells whether any crew of several devices was observed.
func (m *Model) KnowsScaling() bool { return len(m.crews) > 0 }

// Unknown says why nothing can be said of the place, or "".
func (m *Model) Unknown(subject string, p Place) string {
	s, known := m.layout.subject[subject]
	if !known || s >= len(m.fixedS) {
		return "no frame of the shot with these settings was timed"
	}
	for _, d := range p.Members {
		if !m.models[p.model(d)] && (d.Like == "" || d.CPU || !m.models[d.Like]) {
			return fmt.Sprintf("no frame was timed with %s, alone or in a crew", d.Model)
		}
	}
	return ""
}

// Predict says what a typical frame of the subject takes at the place, averaged over
// the parts of the subject that are named, or over a typical one without any: the
// interval is of that typical time. With frame set it is of one frame, which differs
// from the typical by the noise of a single run. Several goroutines may call it.
func (m *Model) Predict(subject string, p Place, parts []string, condition string, frame bool) (Prediction, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if why := m.Unknown(subject, p); why != "" {
		return Prediction{}, fmt.Errorf("%s on %s/%s: %s", subject, p.Host, p.Crew, why)
	}
	if len(parts) == 0 {
		parts = []string{""}
	}
	asked := question{Observation{Subject: subject, Place: p, Condition: condition}.key(), strings.Join(parts, "\x00"), frame}
	if said, known := m.said[asked]; known {
		return said, nil
	}
	sampled := make([]float64, sampleSize)
	var own bool
	var is Parts
	for _, part := range parts {
		s, f := m.layout.formula(subject, p, part, condition)
		d := m.draw(s)
		cell := m.observed(subject, p, part, condition)
		own = own || cell != nil
		for k := range sampled {
			x := f.parts(d.global[k], d.own[k], m.layout.centre)
			sampled[k] += math.Exp(m.beside(math.Log(x.Total()), s, cell, student()[k]*d.misfit[k], frame))
			is.Fixed, is.Load, is.Work = is.Fixed+x.Fixed, is.Load+x.Load, is.Work+x.Work
		}
	}
	n := float64(len(parts))
	slices.Sort(sampled)
	at := func(q float64) float64 { return stat.Quantile(q, stat.LinInterp, sampled, nil) / n }
	out := Prediction{Seconds: at(0.5), Low: at(0.05), High: at(0.95)}
	share := out.Seconds / is.Total()
	out.Parts = Parts{is.Fixed * share, is.Load * share, is.Work * share}
	if len(p.Members) > 1 && !own {
		out.Note = m.Scaling(subject)
	}
	if len(m.said) >= mostSaid || m.said == nil {
		m.said = map[question]Prediction{}
	}
	m.said[asked] = out
	return out, nil
}

// question is what was asked of a model, which always says the same.
type question struct {
	of    cellKey
	parts string
	frame bool
}

// mostSaid is how many answers are kept.
const mostSaid = 20_000

// beside returns the log of a time about the formula's: as much off as deviate says,
// and towards what was observed of this very cell, if anything was.
func (m *Model) beside(log float64, subject int, own *fitted, deviate float64, frame bool) float64 {
	n := m.noises[subject]
	misfit := n.misfit
	if own != nil {
		row := n.row * n.row / float64(own.frames)
		trust := own.weight * misfit * misfit / (misfit*misfit + row)
		log += trust * (own.log - log)
		misfit *= math.Sqrt(1 - trust)
	}
	if frame {
		misfit = math.Hypot(misfit, n.row)
	}
	return log + misfit*deviate
}

// Parts lists the parts that were observed of a subject.
func (m *Model) Parts(subject string) []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []string
	if s, known := m.layout.subject[subject]; known {
		for _, c := range m.cells {
			if c.subject == s && c.Part != "" && !slices.Contains(out, c.Part) {
				out = append(out, c.Part)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Weight is how heavy the work of a part of a subject is beside a typical one: 1.4 is
// 40 % heavier; 1 for one that was not observed.
func (m *Model) Weight(subject, part string) float64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	if s, known := m.layout.subject[subject]; known {
		b := m.layout.subjects[s]
		if i, known := b.index["part "+part]; known {
			return math.Exp(b.x[i])
		}
	}
	return 1
}

// observed returns the cell of that place, or nil.
func (m *Model) observed(subject string, p Place, part, condition string) *fitted {
	if i, known := m.at[Observation{Subject: subject, Place: p, Part: part, Condition: condition}.key()]; known {
		return &m.cells[i]
	}
	return nil
}
