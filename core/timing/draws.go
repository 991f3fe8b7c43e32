package timing

import (
	"math"
	"math/rand/v2"
	"slices"
	"sync"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/stat/distuv"
)

// sampleSize is how many draws of the posterior an interval rests on.
const sampleSize = 480

// draws are samples of the posterior. Those of parameters that nothing was observed
// of are from their prior.
type draws struct {
	global   [][]float64 // about the fit, all subjects together
	subjects []*samples  // by subject; nil: nothing was asked of it yet
	latest   []int       // subjects that were asked of, the newest last
}

// samples are those of one subject.
type samples struct {
	ready  chan struct{} // closed once they are there
	points []particle
	names  []string    // of the points' parameters: the global ones that it touches, and its own
	own    [][]float64 // by sample, its own parameters
	misfit []float64   // how many times as far as usual it misses the formula
	moved  [][]float64 // by sample, what moves the global ones that it does not touch as well
	global [][]float64 // as they are with the subject; nil: they are to be made again
}

// Of so many subjects the samples are kept, and of so many with all global parameters, of which there may be hundreds.
const keepSamples, keepGlobal = 256, 8

// draw makes the samples of the subject, where there are none, for all parameters that there are by now.
func (m *Model) draw(subject int) *samples {
	if m.draws == nil {
		m.draws = &draws{global: m.spread(m.layout.global.x[:m.fixedG], &m.post.chol, 2)}
	}
	for len(m.draws.subjects) < len(m.layout.subjects) {
		m.draws.subjects = append(m.draws.subjects, nil)
	}
	d := m.draws.subjects[subject]
	for d == nil || d.points == nil {
		if d == nil {
			d = m.sample(subject)
			continue
		}
		m.unlocked(func() { <-d.ready })
		if d.points == nil { // it came to nothing
			d = m.draws.subjects[subject]
		}
	}
	m.fromPrior(&m.layout.global, m.draws.global, 2)
	m.fromPrior(m.layout.subjects[subject], d.own, uint64(3+subject))
	m.together(subject, d)
	m.draws.asked(subject, d)
	return d
}

// sample draws a subject's samples. Others may use the model meanwhile, and wait for these.
func (m *Model) sample(subject int) *samples {
	d := &samples{ready: make(chan struct{})}
	m.draws.subjects[subject] = d
	defer func() {
		if d.points == nil {
			m.draws.subjects[subject] = nil
		}
		close(d.ready)
	}()
	p := m.population(subject, uint64(subject))
	m.unlocked(p.lead)
	d.take(p, m.draws.global)
	return d
}

// unlocked does something while others may use the model.
func (m *Model) unlocked(do func()) {
	m.mu.Unlock()
	defer m.mu.Lock()
	do()
}

// asked keeps the samples of the subject, and of those that were asked of lately.
func (d *draws) asked(subject int, of *samples) {
	d.subjects[subject] = of
	d.latest = append(slices.DeleteFunc(d.latest, func(s int) bool { return s == subject }), subject)
	if n := len(d.latest); n > keepGlobal {
		d.subjects[d.latest[n-1-keepGlobal]].global = nil
	}
	if len(d.latest) > keepSamples {
		d.subjects[d.latest[0]] = nil
		d.latest = d.latest[1:]
	}
}

// take takes over a population's particles, and says how far each moves the global parameters from where they were drawn without it.
func (d *samples) take(p *population, global [][]float64) {
	n := len(p.touches)
	d.points, d.names = p.at, p.names
	off, moved := mat.NewVecDense(n, nil), mat.NewVecDense(n, nil)
	for k, x := range p.at {
		for i, g := range p.touches {
			off.SetVec(i, x.x[i]-global[k][g])
		}
		_ = p.spread.SolveVecTo(moved, off) // a covariance of the fit
		d.moved = append(d.moved, slices.Clone(moved.RawVector().Data))
		d.own = append(d.own, p.ownOf(x.x))
		d.misfit = append(d.misfit, math.Exp(x.x[len(x.x)-1]))
	}
}

// ownOf is all of a subject's own parameters in a sample.
func (p *population) ownOf(x []float64) []float64 {
	n := len(p.touches)
	if len(p.stretches) == 0 {
		return x[n : len(x)-1 : len(x)-1]
	}
	out := slices.Clone(p.fit)
	for i, o := range p.owns {
		out[o] = x[n+i]
	}
	for _, s := range p.stretches {
		out[s.own] += s.spread * p.r.NormFloat64()
	}
	return out
}

// together makes the global parameters of a subject's samples: those that it touches as they were drawn
// with it, and the others moved along as the fit has it (Matheron's rule: Journel and Huijbregts, "Mining
// geostatistics", 1978).
func (m *Model) together(subject int, d *samples) {
	if d.global == nil {
		for k, moved := range d.moved {
			x := slices.Clone(m.draws.global[k][:m.fixedG])
			for t, g := range m.touches[subject] {
				for i := range x {
					x[i] += m.post.spread.At(i, g) * moved[t]
				}
			}
			d.global = append(d.global, x)
		}
	}
	for k, x := range d.global { // others may have been added since
		d.global[k] = append(x, m.draws.global[k][len(x):]...)
	}
}

// drawn are the samples of each subject that there are, by its name, for the model after this one.
func (m *Model) drawn() map[string]*samples {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[string]*samples{}
	if m.draws == nil {
		return out
	}
	for name, s := range m.layout.subject {
		if s < len(m.draws.subjects) && m.draws.subjects[s] != nil && m.draws.subjects[s].points != nil {
			out[name] = &samples{points: m.draws.subjects[s].points, names: m.draws.subjects[s].names}
		}
	}
	return out
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
		z, which := deviates(seed, uint64(i), sampleSize), deviates(seed, uint64(i)+1<<32, sampleSize)
		prior := m.prior(b.params[i])
		for k := range drawn {
			drawn[k] = append(drawn[k], b.params[i].mean+prior.draw(z[k], distuv.UnitNormal.CDF(which[k])))
		}
	}
}

// student are deviates of the distribution by which cells differ from the formula.
var student = sync.OnceValue(func() []float64 {
	out := deviates(1, 0, sampleSize)
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: tails}
	for i, z := range out {
		out[i] = t.Quantile(distuv.UnitNormal.CDF(z))
	}
	return out
})

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
