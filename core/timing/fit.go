package timing

import (
	"errors"
	"math"
	"slices"
	"sync"

	"gonum.org/v1/gonum/mat"
)

// The noise of a cell: what its time differs from the model's by. Both guesses
// count for so many cells.
const (
	rowSpread, rowCount     = 0.02, 3.0 // from one frame to the next of the same kind
	modelSpread, modelCount = 0.02, 3.0 // of a crew from the formula
	// tails is the degrees of freedom of Student's t by which cells differ: few,
	// so that an outlier is given up rather than followed.
	tails = 5.0
	// learningRounds bounds how often the spreads are learnt anew.
	learningRounds = 6
	// fewRepeats is how many repeated frames tell one spread from the other; with
	// fewer each is taken for half of the two together.
	fewRepeats = 4
	// stageSpread is how far a renderer's own word on a part of its time is trusted.
	stageSpread = 0.1
)

// Model is the timing model fitted to observations: the maximum of the posterior,
// with the normal distribution about it. docs/timing.md derives it.
type Model struct {
	layout  *layout
	cells   []fitted
	spreads [groups]float64
	weights [regimes]float64 // the part of subjects that are in each
	noises  []noise          // of each subject
	post    posterior
	models  map[string]bool // device models observed
	crews   map[string]bool // subjects of which a crew of several devices was observed
	fixedG  int             // how many global parameters the posterior is of
	fixedS  []int           // and of each subject
	touches [][]int         // global parameters that each subject's cells rest on
	at      map[cellKey]int // cells by what they are of

	mu     sync.Mutex // over draws, and over parameters that a prediction adds
	draws  *draws
	before map[string]*samples // of the model before this one, by subject
	said   map[question]Prediction
}

// noise is how a subject's frames scatter: some are rendered on a busy machine.
type noise struct {
	row     float64 // spread of one frame about its cell's
	misfit  float64 // spread of a cell about the formula
	repeats int     // frames that say what row is
}

type fitted struct {
	cell
	subject int
	formula
	weight float64 // 1 for a cell like others, near 0 for an outlier
}

// variance is that of a cell's log about the formula.
func (m *Model) variance(c *fitted) float64 {
	n := m.noises[c.subject]
	return n.misfit*n.misfit + n.row*n.row/float64(c.frames)
}

var errNothing = errors.New("there is no timed frame to learn from")

// Fit fits the model. Observations are in seconds; their order does not matter to
// the result beyond rounding.
func Fit(observed []Observation) (*Model, error) { return fit(observed, nil, learningRounds) }

// Refit is Fit after a model that was fitted before to nearly the same: it starts from where that one ended, and its samples of
// the posterior, reweighted, are gone on with. Nil is none.
func Refit(observed []Observation, before *Model) (*Model, error) {
	m, err := fit(observed, before, learningRounds)
	if err == nil && before != nil {
		m.before = before.drawn()
	}
	return m, err
}

// fit starts from where another model's fit ended, if there is one, and learns spreads so often at most.
func fit(observed []Observation, from *Model, rounds int) (*Model, error) {
	if len(observed) == 0 {
		return nil, errNothing
	}
	for _, o := range observed {
		if err := o.validate(); err != nil {
			return nil, err
		}
	}
	m := &Model{layout: newLayout(), models: map[string]bool{}, crews: map[string]bool{}, at: map[cellKey]int{}}
	for g := range groups {
		m.spreads[g] = firstSpread[g].spread
	}
	for r := range regimes {
		m.weights[r] = firstRegime[r].weight
	}
	for _, c := range cells(observed) {
		s, f := m.layout.formula(c.Subject, c.Place, c.Part, c.Condition)
		m.at[c.key()] = len(m.cells)
		m.cells = append(m.cells, fitted{c, s, f, 1})
		for _, d := range c.Place.Members {
			m.models[c.Place.model(d)] = true
			m.models[d.Like] = m.models[d.Like] || !d.CPU
		}
		if len(c.Place.Members) > 1 {
			m.crews[c.Subject] = true
		}
	}
	m.noises = scatter(m.cells, len(m.layout.subjects))
	m.start()
	m.anchor()
	if from != nil {
		m.startFrom(from)
	}
	m.fixedG = len(m.layout.global.params)
	for _, b := range m.layout.subjects {
		m.fixedS = append(m.fixedS, len(b.params))
	}
	m.touches = touched(m.cells, len(m.layout.subjects))
	for round := range rounds {
		if err := m.climb(coarse); err != nil {
			return nil, err
		}
		if moved := m.learnSpreads(); moved < 0.03 && (round > 0 || from != nil) {
			break
		}
		m.anchor()
	}
	return m, m.climb(fine)
}

// touched lists, for each subject, the global parameters that its cells rest on.
func touched(all []fitted, subjects int) [][]int {
	out := make([][]int, subjects)
	for _, c := range all {
		for _, r := range c.refs {
			if r >= 0 {
				out[c.subject] = append(out[c.subject], int(r))
			}
		}
	}
	for s := range out {
		slices.Sort(out[s])
		out[s] = slices.Compact(out[s])
	}
	return out
}

// scatter is the noise of each subject to begin with: the spread of its frames within
// their cells, and the first guess of the rest.
func scatter(all []fitted, subjects int) []noise {
	out := make([]noise, subjects)
	sum, free := make([]float64, subjects), make([]float64, subjects)
	for _, c := range all {
		sum[c.subject] += c.spread
		free[c.subject] += float64(c.free)
		out[c.subject].repeats += c.free
	}
	for s := range out {
		out[s].row = math.Sqrt((rowCount*rowSpread*rowSpread + sum[s]) / (rowCount + free[s]))
		out[s].misfit = modelSpread
	}
	return out
}

// start puts each subject's whole time where its cells say, at prior rates.
func (m *Model) start() {
	l := m.layout
	offs := make([][]float64, len(l.subjects))
	for i := range m.cells {
		c := &m.cells[i]
		offs[c.subject] = append(offs[c.subject], c.log-math.Log(c.parts(l.global.x, l.subjects[c.subject].x, 0).Total()))
	}
	var typical []float64
	for s, b := range l.subjects {
		slices.Sort(offs[s])
		b.x[0] = median(offs[s])
		b.params[0].mean = b.x[0]
		typical = append(typical, b.x[0])
	}
	slices.Sort(typical)
	l.centre = median(typical)
}

// anchor sets each subject's anchor to what was typically observed of it at the
// rates as they stand, and moves its whole time along, so that nothing else changes.
func (m *Model) anchor() {
	l := m.layout
	rates, loads, count := make([]float64, len(l.subjects)), make([]float64, len(l.subjects)), make([]float64, len(l.subjects))
	for i := range m.cells {
		c := &m.cells[i]
		rate, load := c.rate(point{l.global.x, l.subjects[c.subject].x})
		rates[c.subject] += math.Log(rate)
		loads[c.subject] += load
		count[c.subject]++
	}
	for s, b := range l.subjects {
		next := anchor{math.Exp(rates[s] / count[s]), loads[s] / count[s]}
		v := point{l.global.x, b.x}
		fixed := math.Exp(v.sum([]ref{ref(l.global.index[pFixed]), local(1)}) - v.at(ref(l.global.index[pHeavy]))*(b.x[0]-l.centre))
		load := math.Exp(v.sum([]ref{ref(l.global.index[pLoad]), local(2)}))
		whole := func(a anchor) float64 { return 1/a.rate + fixed + load*a.loads }
		b.x[0] += math.Log(whole(next) / whole(*l.anchors[s]))
		b.params[0].mean = b.x[0]
		*l.anchors[s] = next
	}
}

func (m *Model) startFrom(from *Model) {
	carry := func(to, old *block) {
		for name, i := range to.index {
			if j, known := old.index[name]; known && j < len(old.x) {
				to.x[i] = old.x[j]
			}
		}
	}
	carry(&m.layout.global, &from.layout.global)
	for name, s := range m.layout.subject {
		if o, known := from.layout.subject[name]; known {
			carry(m.layout.subjects[s], from.layout.subjects[o])
			*m.layout.anchors[s] = *from.layout.anchors[o] // what its whole time is of
			m.layout.subjects[s].params[0].mean = from.layout.subjects[o].params[0].mean
			m.noises[s].misfit = from.noises[o].misfit
			if m.noises[s].repeats < fewRepeats {
				m.noises[s].row = m.noises[s].misfit
			}
		}
	}
	m.spreads, m.weights = from.spreads, from.weights
	m.layout.centre = from.layout.centre
}

func (m *Model) spreadOf(p parameter) float64 {
	if p.group == fixedPrior {
		return p.spread
	}
	return m.spreads[p.group]
}

// objective is minus the log of the posterior, but for a constant.
func (m *Model) objective() float64 {
	sum := 0.0
	prior := func(b *block, n int) {
		for i, p := range b.params[:n] {
			log, _ := m.prior(p).log(b.x[i] - p.mean)
			sum -= log
		}
	}
	prior(&m.layout.global, m.fixedG)
	for s, b := range m.layout.subjects {
		prior(b, m.fixedS[s])
	}
	for i := range m.cells {
		c := &m.cells[i]
		p := c.parts(m.layout.global.x, m.layout.subjects[c.subject].x, m.layout.centre)
		d := c.log - math.Log(p.Total())
		sum += (tails + 1) / 2 * math.Log1p(d*d/m.variance(c)/tails)
		sum += stageMiss(c.Fixed, p.Fixed) + stageMiss(c.Load, p.Load)
	}
	return sum
}

func stageMiss(said, is float64) float64 {
	if said <= 0 {
		return 0
	}
	d := math.Log(said/is) / stageSpread
	return (tails + 1) / 2 * math.Log1p(d*d/tails)
}

// coarse is how much better, as a share, a step must be to go on while the spreads
// are still being learnt; fine is that of the end.
const coarse, fine = 1e-3, 1e-6

// climb finds the maximum by damped Gauss-Newton steps, weighing cells anew at each.
func (m *Model) climb(enough float64) error {
	damp := 1e-6
	now := m.objective()
	for range 60 {
		a := m.normal()
		var done bool
		for {
			trial := a.damped(damp)
			if err := trial.factor(); err != nil {
				if damp *= 10; damp > 1e8 {
					return err
				}
				continue
			}
			step := trial.solve()
			m.move(step, 1)
			next := m.objective()
			if next <= now+1e-12 {
				done = now-next < enough*(1+math.Abs(now))
				now, damp = next, max(1e-9, damp/10)
				break
			}
			m.move(step, -1)
			if damp = max(damp, 1e-6) * 10; damp > 1e8 {
				done = true
				break
			}
		}
		if done {
			break
		}
	}
	a := m.normal()
	if err := errors.Join(a.factor(), a.invert()); err != nil {
		return err
	}
	m.post = a
	m.draws = nil
	return nil
}

func (m *Model) move(step []*mat.VecDense, sign float64) {
	blocks := append([]*block{&m.layout.global}, m.layout.subjects...)
	for b, s := range step {
		for i := range s.Len() {
			blocks[b].x[i] += sign * s.AtVec(i)
		}
	}
}

// gradient returns the cell's parts and the derivatives, by c.refs, of the logs of its
// time, of its fixed part and of its load.
func (m *Model) gradient(c *fitted) (p Parts, whole, fixed, load []float64) {
	all := make([]float64, 3*len(c.refs))
	whole, fixed, load = all[:len(c.refs)], all[len(c.refs):2*len(c.refs)], all[2*len(c.refs):]
	p = c.slopes(m.layout.global.x, m.layout.subjects[c.subject].x, m.layout.centre, func(r ref, d Parts) {
		i := slices.Index(c.refs, r)
		whole[i] += d.Total()
		fixed[i] += d.Fixed
		load[i] += d.Load
	})
	for i := range c.refs {
		whole[i] /= p.Total()
		fixed[i] /= p.Fixed
		if p.Load > 0 {
			load[i] /= p.Load
		}
	}
	return p, whole, fixed, load
}

// normal sets up the normal equations of a Gauss-Newton step, and weighs the cells.
func (m *Model) normal() posterior {
	a := newPosterior(m.fixedG, m.fixedS, m.touches)
	prior := func(k int, b *block, n int) {
		for i, p := range b.params[:n] {
			precision, slope := m.prior(p).pull(b.x[i] - p.mean)
			a.addDiagonal(k, i, precision, slope)
		}
	}
	prior(-1, &m.layout.global, m.fixedG)
	for s, b := range m.layout.subjects {
		prior(s, b, m.fixedS[s])
	}
	for i := range m.cells {
		c := &m.cells[i]
		p, whole, fixed, load := m.gradient(c)
		noise := m.variance(c)
		d := c.log - math.Log(p.Total())
		c.weight = min(1, (tails+1)/(tails+d*d/noise))
		a.add(c.subject, c.refs, whole, (tails+1)/(tails+d*d/noise)/noise, d)
		if c.Fixed > 0 {
			a.addStage(c.subject, c.refs, fixed, math.Log(c.Fixed/p.Fixed))
		}
		if c.Load > 0 && p.Load > 0 {
			a.addStage(c.subject, c.refs, load, math.Log(c.Load/p.Load))
		}
	}
	return a
}

// learnSpreads sets each learnt spread to what the parameters in its group and
// their uncertainty say (one step of expectation maximisation), and returns the
// largest relative change.
func (m *Model) learnSpreads() float64 {
	var sum, count [groups]float64
	for g := range groups {
		first := firstSpread[g]
		sum[g], count[g] = first.count*first.spread*first.spread, first.count
	}
	var in, of [regimes]float64
	for r := range regimes {
		in[r], of[r] = firstRegime[r].count*firstRegime[r].weight, firstRegime[r].count
	}
	for s, b := range m.layout.subjects {
		for i, p := range b.params[:m.fixedS[s]] {
			if p.group == fixedPrior && p.regime == ordinary {
				continue
			}
			d, v := b.x[i]-p.mean, m.post.variance(s, []ref{local(i)}, []float64{1})
			inRegime := m.prior(p).inRegime(d, v)
			sum[p.group] += (1 - inRegime) * (d*d + v)
			count[p.group] += 1 - inRegime
			in[p.regime], of[p.regime] = in[p.regime]+inRegime, of[p.regime]+1
		}
	}
	for r := cpuBound; r < regimes; r++ {
		m.weights[r] = in[r] / of[r]
	}
	moved := 0.0
	for g := gpuBySubject; g < groups; g++ {
		next := math.Sqrt(sum[g] / count[g])
		moved = max(moved, math.Abs(next/m.spreads[g]-1))
		m.spreads[g] = next
	}
	return max(moved, m.learnNoise())
}

// learnNoise sets each subject's misfit to what its cells say, about what subjects
// have in common, and returns the largest relative change.
func (m *Model) learnNoise() float64 {
	missed, cells := make([]float64, len(m.noises)), make([]float64, len(m.noises))
	for i := range m.cells {
		c := &m.cells[i]
		p, whole, _, _ := m.gradient(c)
		d := c.log - math.Log(p.Total())
		leverage := m.post.variance(c.subject, c.refs, whole)
		all := (tails + 1) / (tails + d*d/m.variance(c)) * (d*d + leverage)
		if n := m.noises[c.subject]; n.repeats < fewRepeats {
			missed[c.subject] += all / 2
		} else {
			missed[c.subject] += max(0, all-n.row*n.row/float64(c.frames))
		}
		cells[c.subject]++
	}
	common := math.Log(modelSpread) // the mean of the logs, so that a noisy one does not count for all
	for _, n := range m.noises {
		common += math.Log(n.misfit)
	}
	common = math.Exp(common / float64(len(m.noises)+1))
	moved := 0.0
	for s := range m.noises {
		n := &m.noises[s]
		next := max(0.008, math.Sqrt((modelCount*common*common+missed[s])/(modelCount+cells[s])))
		moved = max(moved, math.Abs(next/n.misfit-1))
		if n.misfit = next; n.repeats < fewRepeats {
			n.row = next
		}
	}
	return moved
}
