package timing

import (
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/mat"
)

// The posterior of one subject has several bends and often several hills: a scene that gains
// nothing by a second GPU may be bound by the CPU, or by its loads, or by its feeding. No normal
// distribution about one maximum is a picture of that. So a subject's own parameters, and the
// global ones that it touches, are drawn by a population of particles that is led from the prior
// to the posterior by degrees (sequential Monte Carlo: Del Moral, Doucet and Jasra, "Sequential
// Monte Carlo samplers", JRSS B 68, 2006). Between the degrees particles move along the
// differences of others (ter Braak, "A Markov chain Monte Carlo version of the genetic algorithm
// differential evolution", Statistics and Computing 16, 2006), in some of the dimensions at a time
// (Vrugt and others, "Accelerating Markov chain Monte Carlo simulation by differential evolution
// with self-adaptive randomized subspace sampling", 2009). What all other subjects say of the
// global parameters is their prior: the normal distribution of the fit, less what the subject
// itself said to it (a cavity: Minka, "Expectation propagation for approximate Bayesian
// inference", 2001).

const (
	movesEach  = 5    // of every particle after each degree
	movesLast  = 12   // after the last
	movesOn    = 6    // after new times
	manyCells  = 24   // of a subject with more, the stretches of each crew are put together
	leftOfAll  = 0.5  // of the particles' weight, at least, after a degree
	wholeOff   = 0.1  // by which particles miss a subject's times in the mean to begin with
	misfitOff  = 0.35 // standard deviation of the log of how much more a subject misses the formula
	mostStages = 60   // a bound
	goesOn     = 0.2  // of the particles before count still, at least, or new ones are drawn
	asBefore   = 0.8  // and where more do, they stay as they are
	goodChance = 0.25 // of a move to be taken
)

// population is one subject's particles.
type population struct {
	centre    float64 // of the layout
	cells     []*fitted
	touches   []int
	owns      []int        // of its own parameters, those that are drawn
	names     []string     // of the global parameters that it touches, and of these
	spread    mat.Cholesky // of the first, as all times have it together
	before    []particle   // of the model before this one
	stretches []stretch
	same      bool      // and of the same parameters
	whole     float64   // the fit's
	means     []float64 // of its own parameters' priors
	mean      []float64 // of the cavity
	shape     []float64 // and its precision, by row
	root      mat.TriDense
	off       []float64 // scratch: of a particle from the mean
	noise     []float64 // of each cell: its variance times the tails
	priors    []either
	at        []particle
	r         *rand.Rand
	global    []float64 // scratch: all global parameters
	own       []float64 // the same: all of its own
	fit       []float64 // these as the fit has them
	reach     float64   // of moves
}

// stretch is how heavy a stretch is, where that is not drawn with the rest: a parameter of the subject, known so well.
type stretch struct {
	own    int
	spread float64
}

// particle is a point: the touched global parameters, the subject's own, and the log of how many
// times as far as usual it misses the formula.
type particle struct {
	x            []float64
	prior, given float64 // logs of the densities: of where it began, and what leads from there to the posterior
	likelihood   float64 // the log of that of the times
}

func (m *Model) population(subject int, seed uint64) *population {
	own := m.layout.subjects[subject]
	p := &population{
		centre: m.layout.centre, touches: m.touches[subject], r: rand.New(rand.NewPCG(seed, 77)),
		global: slices.Clone(m.layout.global.x[:m.fixedG]), own: slices.Clone(own.x[:m.fixedS[subject]]), reach: 1,
	}
	p.fit, p.whole = slices.Clone(p.own), p.own[0]
	for i := range m.cells {
		if m.cells[i].subject == subject {
			p.cells = append(p.cells, &m.cells[i])
		}
	}
	joined := len(p.cells) > manyCells
	if joined {
		p.joinStretches()
	}
	for _, c := range p.cells {
		p.noise = append(p.noise, tails*m.variance(c))
	}
	for _, g := range p.touches {
		p.names = append(p.names, m.layout.global.names[g])
	}
	for i, x := range own.params[:m.fixedS[subject]] {
		if joined && x.group == partWork {
			r := local(i)
			p.stretches = append(p.stretches, stretch{i, math.Sqrt(m.post.variance(subject, []ref{r}, []float64{1}))})
			continue
		}
		p.owns, p.names = append(p.owns, i), append(p.names, "own "+own.names[i]) // some are called as what all have
		p.priors, p.means = append(p.priors, m.prior(x)), append(p.means, x.mean)
	}
	p.cavity(m, subject)
	for name, s := range m.layout.subject {
		if was := m.before[name]; s == subject && was != nil {
			p.carry(was)
		}
	}
	return p
}

// joinStretches puts the stretches of each crew together, where there are many: how heavy each is, is known well by then, as the fit
// has it.
func (p *population) joinStretches() {
	at := map[cellKey]int{}
	var joined []*fitted
	for _, c := range p.cells {
		one := *c
		one.hasPart, one.Part = false, ""
		one.log += math.Log(one.parts(p.global, p.own, p.centre).Total()) - math.Log(c.parts(p.global, p.own, p.centre).Total())
		i, known := at[one.key()]
		if !known {
			at[one.key()] = len(joined)
			joined = append(joined, &one)
			continue
		}
		with := joined[i]
		share := float64(one.frames) / float64(one.frames+with.frames)
		with.log += share * (one.log - with.log)
		with.Fixed, with.Load, with.frames = max(with.Fixed, one.Fixed), max(with.Load, one.Load), with.frames+one.frames
	}
	p.cells = joined
}

// begin draws particles from what is known beside the subject's times.
func (p *population) begin() {
	n := len(p.touches)
	z, d := mat.NewVecDense(n, nil), mat.NewVecDense(n, nil)
	for range sampleSize {
		x := make([]float64, n+len(p.priors)+1)
		for i := range n {
			z.SetVec(i, p.r.NormFloat64())
		}
		_ = d.SolveVec(&p.root, z)
		for i := range n {
			x[i] = p.mean[i] + d.AtVec(i)
		}
		for i, e := range p.priors {
			x[n+i] = p.means[i] + e.draw(p.r.NormFloat64(), p.r.Float64())
		}
		x[n] = p.whole
		x[len(x)-1] = misfitOff * p.r.NormFloat64()
		x[n] += p.missed(x) + wholeOff*p.r.NormFloat64() // whatever else is drawn, the whole time goes by the times
		p.at = append(p.at, p.particle(x))
	}
}

func (p *population) particle(x []float64) particle {
	out := particle{x: x}
	out.prior, out.given, out.likelihood = p.densities(x, 1, math.Inf(-1))
	return out
}

// cavity is what all but the subject say of the global parameters that it touches.
func (p *population) cavity(m *Model, subject int) {
	n, arm := len(p.touches), &m.post.subjects[subject]
	spread := mat.NewSymDense(n, nil)
	for i, gi := range p.touches {
		for j, gj := range p.touches[:i+1] {
			spread.SetSym(i, j, m.post.spread.At(gi, gj))
		}
	}
	var whole mat.SymDense
	p.spread = factored(spread)
	_ = p.spread.InverseTo(&whole) // a poor condition only makes a poorer start
	var explained mat.Dense
	explained.Mul(arm.c.T(), arm.inv)
	shape := mat.NewSymDense(n, nil)
	for i := range n {
		for j := range i + 1 {
			shape.SetSym(i, j, whole.At(i, j)-arm.g.At(i, j)+(explained.At(i, j)+explained.At(j, i))/2)
		}
	}
	// It has the global prior's precision at the least, but for rounding.
	for i, g := range p.touches {
		s := m.spreadOf(m.layout.global.params[g])
		shape.SetSym(i, i, max(shape.At(i, i), 1/(s*s)))
	}
	chol := factored(shape)
	chol.UTo(&p.root)
	p.shape, p.off = mat.DenseCopyOf(shape).RawMatrix().Data, make([]float64, n)
	moved := mat.NewVecDense(n, nil)
	_ = chol.SolveVecTo(moved, arm.slope)
	for i, g := range p.touches {
		p.mean = append(p.mean, m.layout.global.x[g]-moved.AtVec(i))
	}
}

// factored factors a matrix that is positive definite but for rounding: its diagonal grows until it is, and where that does
// not help, it alone is left.
func factored(s *mat.SymDense) (chol mat.Cholesky) {
	n := s.SymmetricDim()
	for grow := 1e-9; grow < 1e3; grow *= 10 {
		if chol.Factorize(s) && chol.Cond() < math.MaxFloat64 {
			return chol
		}
		for i := range n {
			s.SetSym(i, i, s.At(i, i)*(1+grow))
		}
	}
	for i := range n {
		for j := range i {
			s.SetSym(i, j, 0)
		}
		if d := s.At(i, i); !(d > 0) || math.IsInf(d, 0) {
			s.SetSym(i, i, 1)
		}
	}
	chol.Factorize(s)
	return chol
}

// densities are the logs of a particle's density where it began, and of what leads from there to
// the posterior. It gives up, with less than nothing, where the density at a degree is certainly
// below a floor.
func (p *population) densities(x []float64, degree, floor float64) (prior, given, likelihood float64) {
	n, more := len(p.touches), x[len(x)-1]
	prior = -more * more / (2 * misfitOff * misfitOff)
	for i := 1; i < len(p.priors); i++ { // the whole time is flat
		log, _ := p.priors[i].log(x[n+i] - p.means[i])
		prior += log
	}
	for i := range n {
		p.off[i] = x[i] - p.mean[i]
	}
	p.set(x)
	for i, d := range p.off {
		row := p.shape[i*n : i*n+i+1] // its lower half
		sum := -d * row[i] / 2
		for j, q := range row {
			sum += q * p.off[j]
		}
		prior -= d * sum
	}
	scale, missed := math.Exp(2*more), 0.0
	given = -more * float64(len(p.cells))
	for k, c := range p.cells {
		if prior+degree*given < floor {
			return math.Inf(-1), 0, 0
		}
		t := c.parts(p.global, p.own, p.centre)
		d := c.log - math.Log(t.Total())
		if math.IsInf(d, 0) || math.IsNaN(d) {
			return math.Inf(-1), -math.MaxFloat64, -math.MaxFloat64
		}
		given -= (tails + 1) / 2 * math.Log1p(d*d/(scale*p.noise[k]))
		if c.Fixed > 0 || c.Load > 0 {
			given -= stageMiss(c.Fixed, t.Fixed) + stageMiss(c.Load, t.Load)
		}
		missed += d
	}
	missed /= float64(len(p.cells)) * wholeOff
	return prior - missed*missed/2, given + missed*missed/2, given
}

// set puts a particle's parameters where the formula looks for them.
func (p *population) set(x []float64) {
	n := len(p.touches)
	for i, g := range p.touches {
		p.global[g] = x[i]
	}
	for i, o := range p.owns {
		p.own[o] = x[n+i]
	}
}

// missed is by how much a particle's times are too short, in the mean of their logs.
func (p *population) missed(x []float64) (sum float64) {
	p.set(x)
	for _, c := range p.cells {
		sum += c.log - math.Log(c.parts(p.global, p.own, p.centre).Total())
	}
	return sum / float64(len(p.cells))
}

// lead leads particles to the posterior: those of the model before, where they count still, or new ones.
func (p *population) lead() {
	if p.goOn() {
		return
	}
	p.begin()
	for degree, stages := 0.0, 0; degree < 1; stages++ {
		next := p.next(degree)
		if stages == mostStages {
			next = 1
		}
		p.choose(weights(p.given(), next-degree))
		degree = next
		moves := movesEach
		if degree == 1 {
			moves = movesLast
		}
		for range moves {
			p.move(degree)
		}
	}
}

// carry takes over the particles of the model before, and draws what has come since.
func (p *population) carry(was *samples) {
	n, at := len(p.touches), map[string]int{}
	for i, name := range was.names {
		at[name] = i
	}
	p.same = slices.Equal(was.names, p.names)
	for _, old := range was.points {
		one := particle{x: make([]float64, len(p.names)+1), likelihood: old.likelihood, prior: old.prior, given: old.given}
		one.x[len(p.names)] = old.x[len(old.x)-1]
		for i, name := range p.names {
			k, known := at[name]
			switch {
			case known:
				one.x[i] = old.x[k]
			case i < n: // as the others have it, what they know of its companions aside
				one.x[i] = p.mean[i] + p.r.NormFloat64()/math.Sqrt(p.shape[i*n+i])
			default:
				one.x[i] = p.means[i-n] + p.priors[i-n].draw(p.r.NormFloat64(), p.r.Float64())
			}
		}
		p.before = append(p.before, one)
	}
}

// goOn takes over the particles of the model before this one, as often as they weigh by what was timed since, and moves them: an
// iterated batch importance sampling (Chopin, "A sequential particle filter method for static models", Biometrika 89, 2002).
func (p *population) goOn() bool {
	if len(p.before) == 0 {
		return false
	}
	var changes []float64
	for _, was := range p.before {
		one := p.particle(was.x)
		p.at, changes = append(p.at, one), append(changes, one.likelihood-was.likelihood)
	}
	w := weights(changes, 1)
	switch left := effective(w) / float64(len(p.at)); {
	case left < goesOn || math.IsNaN(left):
		p.at = nil
		return false
	case left > asBefore && p.same:
		p.at = p.before
		return true
	}
	p.choose(w)
	for range movesOn {
		p.move(1)
	}
	return true
}

// next is the farthest degree at which enough particles still count.
func (p *population) next(degree float64) float64 {
	given := p.given()
	enough := func(step float64) bool {
		return effective(weights(given, step)) >= leftOfAll*float64(len(p.at))
	}
	low, high := 0.0, 1-degree
	if enough(high) {
		return 1
	}
	for range 30 {
		if middle := (low + high) / 2; enough(middle) {
			low = middle
		} else {
			high = middle
		}
	}
	return degree + max(low, 1e-9)
}

func (p *population) given() []float64 {
	out := make([]float64, len(p.at))
	for k, x := range p.at {
		out[k] = x.given
	}
	return out
}

// effective is how many particles of one weight would say as much.
func effective(weights []float64) float64 {
	sum, squares := 0.0, 0.0
	for _, w := range weights {
		sum, squares = sum+w, squares+w*w
	}
	return sum * sum / squares
}

// weights are those of particles by the logs of what is new of them, as far as a step goes.
func weights(logs []float64, step float64) []float64 {
	best := slices.Max(logs)
	out := make([]float64, len(logs))
	for k, x := range logs {
		out[k] = math.Exp(step * (x - best))
	}
	return out
}

// choose lets particles live on as often as they weigh.
func (p *population) choose(w []float64) {
	sum := 0.0
	for _, v := range w {
		sum += v
	}
	next := make([]particle, 0, len(p.at))
	at, passed := 0, w[0]
	for k := range p.at {
		for want := (float64(k) + p.r.Float64()) / float64(len(p.at)) * sum; passed < want && at+1 < len(w); {
			at++
			passed += w[at]
		}
		one := p.at[at]
		one.x = slices.Clone(one.x)
		next = append(next, one)
	}
	p.at = next
}

// subsets are the chances of each dimension to be moved along.
var subsets = [...]float64{0.1, 0.3, 1}

// move proposes a move to every particle, and settles how far the next ones reach.
func (p *population) move(degree float64) {
	n, dims, taken := len(p.at), len(p.at[0].x), 0
	trial := make([]float64, dims)
	for k := range p.at {
		a, b := &p.at[p.r.IntN(n)], &p.at[p.r.IntN(n)]
		part, along := subsets[p.r.IntN(len(subsets))], p.r.IntN(dims)
		moved := 0
		for i := range trial {
			if trial[i] = 0; i == along || p.r.Float64() < part {
				trial[i] = a.x[i] - b.x[i] + 1e-3*p.r.NormFloat64()
				moved++
			}
		}
		reach := p.reach * 2.38 / math.Sqrt(2*float64(moved))
		if p.r.IntN(8) == 0 {
			reach = 1 // from hill to hill
		}
		one := &p.at[k]
		for i := range trial {
			trial[i] = one.x[i] + reach*trial[i]
		}
		floor := one.prior + degree*one.given + math.Log(p.r.Float64())
		if prior, given, likelihood := p.densities(trial, degree, floor); prior+degree*given > floor {
			copy(one.x, trial)
			one.prior, one.given, one.likelihood = prior, given, likelihood
			taken++
		}
	}
	p.reach = min(2, max(0.1, p.reach*math.Exp(float64(taken)/float64(n)-goodChance)))
}
