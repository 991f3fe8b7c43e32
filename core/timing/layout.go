package timing

import (
	"math"
	"slices"
)

// The model's quantities are sums of parameters, each with a normal prior, so that
// what several shots, hosts or backends have in common is learnt once and each
// may still differ. Parameters are global or belong to one subject; a reference of
// 0 and above is global, one below 0 is the subject's number -1-ref.
type ref int

func local(i int) ref { return ref(-1 - i) }

// group is parameters that share one prior spread, which is learnt where the data
// say enough: count is how many parameters the first guess of it counts for.
type group int

const (
	fixedPrior group = iota // spread as given for each, not learnt
	gpuBySubject
	cpuBySubject
	shareBySubject
	partWork
	groups
)

// firstSpread is the first guess of each learnt spread, and how many parameters
// it counts for.
var firstSpread = [groups]struct{ spread, count float64 }{
	gpuBySubject:   {0.07, 6}, // a GPU is this much better or worse at one scene than at another
	cpuBySubject:   {0.25, 4}, // a CPU beside GPUs more so
	shareBySubject: {1.0, 3},  // of the fixed share, in logits
	partWork:       {0.30, 4}, // heavy and light frames
}

// parameter is one unknown.
type parameter struct {
	mean, spread float64 // of its prior; spread only for fixedPrior
	group        group
	regime       regime // that it may be in instead
}

// block is the parameters of one subject, or the global ones.
type block struct {
	index  map[string]int
	names  []string
	params []parameter
	x      []float64 // as fitted
}

func (b *block) add(name string, p parameter) int {
	if i, known := b.index[name]; known {
		return i
	}
	if b.index == nil {
		b.index = map[string]int{}
	}
	i := len(b.params)
	b.index[name] = i
	b.names = append(b.names, name)
	b.params = append(b.params, p)
	b.x = append(b.x, p.mean)
	return i
}

// member is the parameters of one or several like devices of a crew.
type member struct {
	rate  []ref // their sum is the log of its rate
	link  ref   // log of its load beside that of a device on 16 lanes
	count float64
}

// formula is the references that a place's time is computed from.
type formula struct {
	total, fixed, load []ref // log of the whole on rate 1; logits of the fixed and load shares
	heavy              ref   // how the fixed share falls as the whole grows
	hostFixed          ref   // log of the fixed part on this host beside others
	gpus               []member
	cpu                *member
	devices            float64 // GPUs
	feed               []ref   // log of what each GPU more costs the others
	alone              ref     // log of how many times as long work takes on a GPU without others
	beside             ref     // log of how many times as long all takes while the CPU that feeds GPUs renders as well
	cpuShare, cpuCost  []ref   // logits: of a CPU's rate beside GPUs, and of what it costs them
	subject            *anchor
	part, condition    ref
	hasPart, hasCond   bool
	isAlone, isBeside  bool
	refs               []ref // all of them, once
}

// anchor is the crew that a subject's whole time is of: the rate and loads of what
// was typically observed of it. The shares are of the time on one GPU of rate 1; were
// the whole time that as well, it would be uncertain wherever the shares are, and no
// normal distribution would describe the two.
type anchor struct{ rate, loads float64 }

// layout gives every quantity of the observations its parameters.
type layout struct {
	global   block
	subjects []*block
	anchors  []*anchor
	subject  map[string]int
	centre   float64 // typical log of a subject's whole time
}

const (
	pFeed     = "feed"
	pCPUShare = "cpu share"
	pCPUCost  = "cpu cost"
	pFixed    = "fixed share"
	pLoad     = "load share"
	pHeavy    = "heavy"
)

func newLayout() *layout {
	l := &layout{subject: map[string]int{}}
	// Shares are of the time on one GPU of rate 1 with 16 lanes, in logits beside the work.
	l.global.add(pFixed, parameter{mean: -2.6, spread: 1.2})
	l.global.add(pLoad, parameter{mean: -4, spread: 0.7})
	l.global.add(pHeavy, parameter{mean: 0.3, spread: 0.3})
	l.global.add(pFeed, parameter{mean: math.Log(0.012), spread: 0.8})
	l.global.add(pCPUShare, parameter{mean: 0.5, spread: 1.2})
	l.global.add(pCPUCost, parameter{mean: -3.2, spread: 0.8})
	return l
}

func (l *layout) block(subject string) (int, *block) {
	i, known := l.subject[subject]
	if !known {
		i = len(l.subjects)
		l.subject[subject] = i
		b := &block{}
		b.add("total", parameter{spread: 20}) // its mean is set from the data
		b.add("fixed", parameter{group: shareBySubject, regime: cpuBound})
		b.add("load", parameter{spread: 0.8, regime: loadBound})
		l.subjects, l.anchors = append(l.subjects, b), append(l.anchors, &anchor{1, 1})
	}
	return i, l.subjects[i]
}

// formula returns the references for a place, adding the parameters that are new.
func (l *layout) formula(subject string, p Place, part, condition string) (int, formula) {
	s, b := l.block(subject)
	g := &l.global
	globally := func(name string, mean, spread float64) ref {
		return ref(g.add(name, parameter{mean: mean, spread: spread}))
	}
	ours := func(name string, spread float64) ref { return local(b.add(name, parameter{spread: spread})) }
	either := func(name string, spread float64, or regime) ref {
		return local(b.add(name, parameter{spread: spread, regime: or}))
	}
	gpus, _ := p.devices()
	f := formula{
		total: []ref{local(0)}, fixed: []ref{globally(pFixed, 0, 0), local(1)}, load: []ref{globally(pLoad, 0, 0), local(2)},
		heavy: globally(pHeavy, 0, 0), hostFixed: globally("host "+p.Host, 0, 0.2), devices: float64(gpus), subject: l.anchors[s],
	}
	backend := p.Backend
	if gpus == 0 {
		backend = "" // a CPU by itself has one way to render
	}
	if backend != "" {
		f.total = append(f.total, ours("total "+backend, 0.04))
		f.fixed = append(f.fixed, ours("fixed "+backend, 0.4))
	}
	for _, m := range p.Members {
		if m.CPU {
			f.cpu = &member{count: 1, rate: []ref{
				globally("cpu "+p.model(m), -2, 1),
				local(b.add("cpu "+m.Model, parameter{group: cpuBySubject})),
			}}
			continue
		}
		own := 0.7
		x := member{count: 1, link: globally("link "+linkName(p, m), linkMean(m.Link), linkSpread(m.Link))}
		if m.Like != "" {
			x.rate, own = append(x.rate, globally("gpus "+m.Like, 0, own)), 0.25
		}
		x.rate = append(x.rate, globally("gpu "+p.model(m), 0, own), local(b.add("gpu "+m.Model, parameter{group: gpuBySubject})))
		if backend != "" {
			x.rate = append(x.rate, globally("backend "+backend, 0, 0.4), globally("backend "+backend+" "+p.model(m), 0, 0.12))
		}
		if i := slices.IndexFunc(f.gpus, func(o member) bool { return slices.Equal(o.rate, x.rate) && o.link == x.link }); i >= 0 {
			f.gpus[i].count++
		} else {
			f.gpus = append(f.gpus, x)
		}
	}
	if gpus > 1 {
		f.feed = []ref{globally(pFeed, 0, 0), globally("feed "+p.Host, 0, 0.5), either("feed", 0.5, feedBound)}
	}
	if gpus == 1 {
		f.alone, f.isAlone = either("alone", 0.05, crowded), true
	}
	if gpus > 0 && f.cpu != nil {
		f.cpuShare = []ref{globally(pCPUShare, 0, 0), either("cpu share", 1, cpuIdle)}
		f.cpuCost = []ref{globally(pCPUCost, 0, 0), either("cpu cost", 0.5, cpuInTheWay)}
		f.beside, f.isBeside = either("beside", 0.02, cpuWanted), true
	}
	if part != "" {
		f.part, f.hasPart = local(b.add("part "+part, parameter{group: partWork})), true
	}
	if condition != "" {
		f.condition, f.hasCond = globally("condition "+condition, 0, 0.15), true
	}
	f.collect()
	return s, f
}

// linkName tells links apart: by their lanes, or, where these are not known, by host.
func linkName(p Place, m Member) string {
	if m.Link == "" {
		return "of " + p.Host
	}
	return m.Link
}

// linkMean is the prior mean of the log of a load: it takes nearly as much longer
// as there are fewer lanes than 16.
func linkMean(link string) float64 {
	if n, ok := lanes(link); ok {
		return 0.8 * math.Log(16/min(n, 32))
	}
	return 0
}

func linkSpread(link string) float64 {
	if _, ok := lanes(link); ok {
		return 0.4
	}
	return 0.8
}

func (f *formula) collect() {
	seen := map[ref]bool{}
	add := func(refs ...ref) {
		for _, r := range refs {
			if !seen[r] {
				seen[r] = true
				f.refs = append(f.refs, r)
			}
		}
	}
	add(f.total...)
	add(f.fixed...)
	add(f.load...)
	add(f.heavy, f.hostFixed)
	for _, m := range f.gpus {
		add(m.rate...)
		add(m.link)
	}
	if f.cpu != nil {
		add(f.cpu.rate...)
	}
	add(f.feed...)
	add(f.cpuShare...)
	add(f.cpuCost...)
	if f.isAlone {
		add(f.alone)
	}
	if f.isBeside {
		add(f.beside)
	}
	if f.hasPart {
		add(f.part)
	}
	if f.hasCond {
		add(f.condition)
	}
}

// Parts are what a frame's time is made of, in seconds. None is below 0.
type Parts struct {
	Fixed float64 `json:"fixed_s"` // prepare and finish: does not shrink with more devices
	Load  float64 `json:"load_s"`  // of all devices together
	Work  float64 `json:"work_s"`  // shared among them
}

// Total is the frame's time in seconds.
func (p Parts) Total() float64 { return p.Fixed + p.Load + p.Work }

// parts computes the time's parts for global parameters g and a subject's x.
func (f *formula) parts(g, x []float64, centre float64) Parts { return f.slopes(g, x, centre, nil) }

// slopes is parts, and tells each part's derivatives: by each reference as often as it
// occurs in the formula. tell may be nil.
func (f *formula) slopes(g, x []float64, centre float64, tell func(ref, Parts)) Parts {
	v := point{g, x}
	total := v.sum(f.total)
	heavy := v.at(f.heavy)
	fixed := math.Exp(v.sum(f.fixed) - heavy*(total-centre))
	load := math.Exp(v.sum(f.load))
	shares := 1/f.subject.rate + fixed + load*f.subject.loads
	work := math.Exp(total) / shares
	rate, loads := f.rate(v)
	p := Parts{Fixed: work * fixed * math.Exp(v.at(f.hostFixed)), Load: work * load * loads, Work: work / rate}
	if f.isAlone {
		p.Work *= math.Exp(v.at(f.alone))
	}
	if f.hasPart {
		p.Work *= math.Exp(v.at(f.part))
	}
	slower := 1.0
	if f.isBeside {
		slower *= math.Exp(v.at(f.beside))
	}
	if f.hasCond {
		slower *= math.Exp(v.at(f.condition))
	}
	p.Fixed, p.Load, p.Work = p.Fixed*slower, p.Load*slower, p.Work*slower
	if tell == nil {
		return p
	}
	each := func(refs []ref, d Parts) {
		for _, r := range refs {
			tell(r, d)
		}
	}
	// Of the log of work by the log of the whole, and of the shares.
	byTotal, byFixed, byLoad := 1+heavy*fixed/shares, -fixed/shares, -load*f.subject.loads/shares
	each(f.total, Parts{p.Fixed * (byTotal - heavy), p.Load * byTotal, p.Work * byTotal})
	each(f.fixed, Parts{p.Fixed * (1 + byFixed), p.Load * byFixed, p.Work * byFixed})
	k := centre - total
	tell(f.heavy, Parts{p.Fixed * (k + k*byFixed), p.Load * k * byFixed, p.Work * k * byFixed})
	each(f.load, Parts{p.Fixed * byLoad, p.Load * (1 + byLoad), p.Work * byLoad})
	tell(f.hostFixed, Parts{Fixed: p.Fixed})
	f.rateSlopes(v, func(r ref, byRate, byLoads float64) {
		tell(r, Parts{Load: p.Load * byLoads / max(loads, tiny), Work: -p.Work * byRate / rate})
	})
	if f.isAlone {
		tell(f.alone, Parts{Work: p.Work})
	}
	if f.hasPart {
		tell(f.part, Parts{Work: p.Work})
	}
	if f.isBeside {
		tell(f.beside, p)
	}
	if f.hasCond {
		tell(f.condition, p)
	}
	return p
}

// tiny stands for a crew without a load, that nothing is divided by zero.
const tiny = 1e-300

// point is values of the global parameters and of one subject's.
type point struct{ global, own []float64 }

func (v point) at(r ref) float64 {
	if r >= 0 {
		return v.global[r]
	}
	return v.own[-1-r]
}

func (v point) sum(refs []ref) (s float64) {
	for _, r := range refs {
		s += v.at(r)
	}
	return s
}

// rate is what the crew does together, beside a GPU of rate 1, and how many loads
// over 16 lanes it takes.
func (f *formula) rate(v point) (rate, loads float64) {
	for i := range f.gpus {
		m := &f.gpus[i]
		rate += m.count * math.Exp(v.sum(m.rate))
		loads += m.count * math.Exp(v.at(m.link))
	}
	if f.devices > 1 {
		rate /= 1 + math.Exp(v.sum(f.feed))*(f.devices-1)
	}
	if f.cpu != nil {
		cpu := math.Exp(v.sum(f.cpu.rate))
		if f.devices > 0 {
			rate *= 1 - logistic(v.sum(f.cpuCost))
			cpu *= logistic(v.sum(f.cpuShare))
		}
		rate += cpu
	}
	return rate, loads
}

// rateSlopes tells the derivatives of rate and of loads.
func (f *formula) rateSlopes(v point, tell func(r ref, byRate, byLoads float64)) {
	each := func(refs []ref, byRate float64) {
		for _, r := range refs {
			tell(r, byRate, 0)
		}
	}
	together, feeding := 0.0, 1.0
	for i := range f.gpus {
		together += f.gpus[i].count * math.Exp(v.sum(f.gpus[i].rate))
	}
	if f.devices > 1 {
		feeding = 1 / (1 + math.Exp(v.sum(f.feed))*(f.devices-1))
	}
	left, kept, share := 1.0, 1.0, 0.0
	if f.cpu != nil && f.devices > 0 {
		share = logistic(v.sum(f.cpuShare))
		kept, left = share, 1-logistic(v.sum(f.cpuCost))
	}
	for i := range f.gpus {
		m := &f.gpus[i]
		each(m.rate, m.count*math.Exp(v.sum(m.rate))*feeding*left)
		tell(m.link, 0, m.count*math.Exp(v.at(m.link)))
	}
	each(f.feed, -together*feeding*left*(1-feeding))
	if f.cpu == nil {
		return
	}
	own := math.Exp(v.sum(f.cpu.rate))
	each(f.cpu.rate, own*kept)
	each(f.cpuShare, own*share*(1-share))
	each(f.cpuCost, -together*feeding*left*(1-left))
}

func logistic(x float64) float64 { return 1 / (1 + math.Exp(-x)) }
