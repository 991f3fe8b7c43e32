package timing

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
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

// sampleSize is how many draws of the posterior an interval rests on.
const sampleSize = 400

// draws are samples of the posterior. Those of parameters that nothing was observed
// of are from their prior.
type draws struct {
	global   [][]float64
	subjects [][][]float64
	noise    []float64
}

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
		if !m.models[d.Model] && (d.Like == "" || d.CPU || !m.models[d.Like]) {
			return fmt.Sprintf("no frame was timed with %s, alone or in a crew", d.Model)
		}
	}
	return ""
}

// Predict says what a typical frame of the subject takes at the place: the
// interval is of that typical time. With frame set it is of one frame, which
// differs from the typical by the noise of a single run.
func (m *Model) Predict(subject string, p Place, part, condition string, frame bool) (Prediction, error) {
	if why := m.Unknown(subject, p); why != "" {
		return Prediction{}, fmt.Errorf("%s on %s/%s: %s", subject, p.Host, p.Crew, why)
	}
	s, f := m.layout.formula(subject, p, part, condition)
	m.draw(s)
	sampled := make([]float64, sampleSize)
	own := m.observed(subject, p, part, condition)
	for k := range sampled {
		y := math.Log(f.parts(m.draws.global[k], m.draws.subjects[s][k], m.layout.centre).Total())
		misfit := m.misfit
		if own != nil {
			// What was observed of this very cell says how far it is from the formula.
			row := m.row * m.row / float64(own.frames)
			trust := own.weight * misfit * misfit / (misfit*misfit + row)
			y += trust * (own.log - y)
			misfit *= math.Sqrt(1 - trust)
		}
		if frame {
			misfit = math.Hypot(misfit, m.row)
		}
		sampled[k] = y + misfit*m.draws.noise[k]
	}
	slices.Sort(sampled)
	at := func(q float64) float64 { return math.Exp(stat.Quantile(q, stat.LinInterp, sampled, nil)) }
	out := Prediction{Seconds: at(0.5), Low: at(0.05), High: at(0.95)}
	parts := f.parts(m.layout.global.x, m.layout.subjects[s].x, m.layout.centre)
	share := out.Seconds / parts.Total()
	out.Parts = Parts{parts.Fixed * share, parts.Load * share, parts.Work * share}
	if len(p.Members) > 1 && own == nil {
		out.Note = m.Scaling(subject)
	}
	return out, nil
}

// observed returns the cell of that place, or nil.
func (m *Model) observed(subject string, p Place, part, condition string) *fitted {
	k := Observation{Subject: subject, Place: p, Part: part, Condition: condition}.key()
	for i := range m.cells {
		if m.cells[i].key() == k {
			return &m.cells[i]
		}
	}
	return nil
}

// draw makes the samples of the global parameters and those of the subject.
func (m *Model) draw(subject int) {
	if m.draws == nil {
		m.draws = &draws{subjects: make([][][]float64, len(m.layout.subjects)), noise: student()}
		m.draws.global = m.spread(m.layout.global.x[:m.fixedG], &m.post.chol, 2)
	}
	for len(m.draws.subjects) < len(m.layout.subjects) {
		m.draws.subjects = append(m.draws.subjects, nil)
	}
	m.fromPrior(&m.layout.global, m.draws.global, 2)
	if m.draws.subjects[subject] == nil {
		arm := &m.post.subjects[subject]
		n := m.fixedS[subject]
		own := m.spread(m.layout.subjects[subject].x[:n], &arm.chol, uint64(3+subject))
		off, moved := mat.NewVecDense(m.fixedG, nil), mat.NewVecDense(n, nil)
		for k := range own {
			for i := range m.fixedG {
				off.SetVec(i, m.draws.global[k][i]-m.layout.global.x[i])
			}
			moved.MulVec(arm.inv, off) // the subject's mean given the global ones
			for i := range n {
				own[k][i] -= moved.AtVec(i)
			}
		}
		m.draws.subjects[subject] = own
	}
	m.fromPrior(m.layout.subjects[subject], m.draws.subjects[subject], uint64(3+subject))
}

// spread draws from the normal distribution about x whose precision was factored.
func (m *Model) spread(x []float64, precision *mat.Cholesky, seed uint64) [][]float64 {
	n := len(x)
	var u mat.TriDense
	precision.UTo(&u)
	columns := make([][]float64, n)
	for i := range columns {
		columns[i] = deviates(seed, uint64(i), sampleSize)
	}
	out := make([][]float64, sampleSize)
	z, d := mat.NewVecDense(n, nil), mat.NewVecDense(n, nil)
	for k := range out {
		for i := range n {
			z.SetVec(i, columns[i][k])
		}
		_ = d.SolveVec(&u, z) // a poor condition was reported by the fit
		out[k] = make([]float64, n)
		for i := range n {
			out[k][i] = x[i] + d.AtVec(i)
		}
	}
	return out
}

// fromPrior adds draws of parameters that came after the fit.
func (m *Model) fromPrior(b *block, drawn [][]float64, seed uint64) {
	for i := len(drawn[0]); i < len(b.params); i++ {
		z := deviates(seed, uint64(i), sampleSize)
		for k := range drawn {
			drawn[k] = append(drawn[k], b.params[i].mean+m.spreadOf(b.params[i])*z[k])
		}
	}
}

// student are deviates of the distribution by which cells differ from the formula.
func student() []float64 {
	out := deviates(1, 0, sampleSize)
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: tails}
	for i, z := range out {
		out[i] = t.Quantile(distuv.UnitNormal.CDF(z))
	}
	return out
}

// deviates are standard normal, evenly spread and shuffled, always the same for a
// seed: the same times always give the same interval.
func deviates(seed, stream uint64, n int) []float64 {
	r := rand.New(rand.NewPCG(seed, stream))
	out := make([]float64, n)
	for i := range out {
		out[i] = math.Sqrt2 * math.Erfinv(2*(float64(i)+0.5)/float64(n)-1)
	}
	r.Shuffle(n, func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}
