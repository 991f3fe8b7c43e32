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
const sampleSize = 240

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
	sampled := make([]float64, sampleSize)
	var own bool
	var is Parts
	for _, part := range parts {
		s, f := m.layout.formula(subject, p, part, condition)
		m.draw(s)
		cell := m.observed(subject, p, part, condition)
		own = own || cell != nil
		for k := range sampled {
			log := math.Log(f.parts(m.draws.global[k], m.draws.subjects[s][k], m.layout.centre).Total())
			sampled[k] += math.Exp(m.beside(log, s, cell, m.draws.noise[k], frame))
		}
		x := f.parts(m.layout.global.x, m.layout.subjects[s].x, m.layout.centre)
		is.Fixed, is.Load, is.Work = is.Fixed+x.Fixed, is.Load+x.Load, is.Work+x.Work
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
	return out, nil
}

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
		off, moved := mat.NewVecDense(len(arm.touches), nil), mat.NewVecDense(n, nil)
		for k := range own {
			for i, g := range arm.touches {
				off.SetVec(i, m.draws.global[k][g]-m.layout.global.x[g])
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

// evenly are standard normal deviates, each as far from the next in chance.
var evenly = func() (out [sampleSize]float64) {
	for i := range out {
		out[i] = distuv.UnitNormal.Quantile((float64(i) + 0.5) / sampleSize)
	}
	return out
}()

// deviates are standard normal, evenly spread and shuffled, always the same for a
// seed: the same times always give the same interval.
func deviates(seed, stream uint64, n int) []float64 {
	r := rand.New(rand.NewPCG(seed, stream))
	out := slices.Clone(evenly[:n])
	r.Shuffle(n, func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}
