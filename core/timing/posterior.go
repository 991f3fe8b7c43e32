package timing

import (
	"errors"

	"gonum.org/v1/gonum/mat"
)

// posterior is the normal equations of the fit and, once factored, the normal
// distribution of the parameters about the fit. Subjects touch each other only
// through the global parameters, so its matrix is an arrow: a block for each
// subject, a border for the few global ones that it touches. Work grows with the
// number of subjects, not with its cube.
type posterior struct {
	g        *mat.SymDense // global by global
	gRight   *mat.VecDense
	subjects []arm
	chol     mat.Cholesky // of the global block less what the subjects explain
	spread   mat.SymDense // its inverse: the covariance of the global parameters
}

type arm struct {
	b       *mat.SymDense // subject by subject
	c       *mat.Dense    // subject by the global ones that it touches
	right   *mat.VecDense
	touches []int       // global parameters, by column of c
	column  map[int]int // of a global parameter in c
	chol    mat.Cholesky
	inv     *mat.Dense // b⁻¹ c
	// What the subject's own observations say of the global ones that it touches: their part of the global
	// block and of its right side.
	g     *mat.SymDense
	slope *mat.VecDense
}

// newPosterior makes room for so many global parameters, and for subjects of so many
// that touch the given global ones.
func newPosterior(global int, subjects []int, touches [][]int) posterior {
	p := posterior{g: mat.NewSymDense(global, nil), gRight: mat.NewVecDense(global, nil)}
	for s, n := range subjects {
		a := arm{b: mat.NewSymDense(n, nil), c: mat.NewDense(n, len(touches[s]), nil), right: mat.NewVecDense(n, nil), touches: touches[s], column: map[int]int{}, g: mat.NewSymDense(len(touches[s]), nil), slope: mat.NewVecDense(len(touches[s]), nil)}
		for i, g := range touches[s] {
			a.column[g] = i
		}
		p.subjects = append(p.subjects, a)
	}
	return p
}

// addDiagonal adds a prior; subject -1 is the global block.
func (p *posterior) addDiagonal(subject, i int, precision, right float64) {
	b, r := p.g, p.gRight
	if subject >= 0 {
		b, r = p.subjects[subject].b, p.subjects[subject].right
	}
	b.SetSym(i, i, b.At(i, i)+precision)
	r.SetVec(i, r.AtVec(i)+right)
}

// add adds one observation: its derivatives d by refs, its weight and by how much
// the model misses it.
func (p *posterior) add(subject int, refs []ref, d []float64, weight, missed float64) {
	arm := &p.subjects[subject]
	for i, r := range refs {
		if d[i] == 0 {
			continue
		}
		if r >= 0 {
			p.gRight.SetVec(int(r), p.gRight.AtVec(int(r))+weight*d[i]*missed)
			k := arm.column[int(r)]
			arm.slope.SetVec(k, arm.slope.AtVec(k)+weight*d[i]*missed)
		} else {
			arm.right.SetVec(int(-1-r), arm.right.AtVec(int(-1-r))+weight*d[i]*missed)
		}
		for j, q := range refs[:i+1] {
			v := weight * d[i] * d[j]
			switch {
			case r >= 0 && q >= 0:
				p.g.SetSym(int(r), int(q), p.g.At(int(r), int(q))+v)
				k, l := arm.column[int(r)], arm.column[int(q)]
				arm.g.SetSym(k, l, arm.g.At(k, l)+v)
			case r < 0 && q < 0:
				arm.b.SetSym(int(-1-r), int(-1-q), arm.b.At(int(-1-r), int(-1-q))+v)
			case r < 0:
				arm.addCross(int(-1-r), int(q), v)
			default:
				arm.addCross(int(-1-q), int(r), v)
			}
		}
	}
}

func (a *arm) addCross(own, global int, v float64) {
	k := a.column[global]
	a.c.Set(own, k, a.c.At(own, k)+v)
}

func (p *posterior) addStage(subject int, refs []ref, d []float64, missed float64) {
	const v = stageSpread * stageSpread
	p.add(subject, refs, d, (tails+1)/(tails+missed*missed/v)/v, missed)
}

// damped returns the equations with every diagonal grown by a share.
func (p *posterior) damped(share float64) posterior {
	grow := func(s *mat.SymDense) *mat.SymDense {
		n := s.SymmetricDim()
		out := mat.NewSymDense(n, nil)
		out.CopySym(s)
		for i := range n {
			out.SetSym(i, i, s.At(i, i)*(1+share))
		}
		return out
	}
	out := posterior{g: grow(p.g), gRight: p.gRight}
	for _, a := range p.subjects {
		a.b, a.inv = grow(a.b), nil
		out.subjects = append(out.subjects, a)
	}
	return out
}

var errSingular = errors.New("the timing model could not be fitted: its equations are singular")

func (p *posterior) factor() error {
	n := p.g.SymmetricDim()
	left := mat.NewSymDense(n, nil)
	left.CopySym(p.g)
	var product mat.Dense
	for i := range p.subjects {
		a := &p.subjects[i]
		if !a.chol.Factorize(a.b) {
			return errSingular
		}
		a.inv = &mat.Dense{}
		if err := a.chol.SolveTo(a.inv, a.c); err != nil {
			return errors.Join(errSingular, err)
		}
		product.Reset()
		product.Mul(a.c.T(), a.inv)
		for r, gr := range a.touches {
			for c, gc := range a.touches[:r+1] {
				left.SetSym(gr, gc, left.At(gr, gc)-product.At(r, c))
			}
		}
	}
	if !p.chol.Factorize(left) {
		return errSingular
	}
	return nil
}

// invert makes the covariance of the global parameters, for variance.
func (p *posterior) invert() error { return p.chol.InverseTo(&p.spread) }

// solve returns the step: the global one, then each subject's.
func (p *posterior) solve() []*mat.VecDense {
	right := mat.VecDenseCopyOf(p.gRight)
	var t mat.VecDense
	for i := range p.subjects {
		a := &p.subjects[i]
		t.Reset()
		t.MulVec(a.inv.T(), a.right)
		for k, g := range a.touches {
			right.SetVec(g, right.AtVec(g)-t.AtVec(k))
		}
	}
	global := mat.NewVecDense(right.Len(), nil)
	_ = p.chol.SolveVecTo(global, right) // a poor condition only makes a poorer step
	out := []*mat.VecDense{global}
	for i := range p.subjects {
		a := &p.subjects[i]
		own := mat.NewVecDense(a.right.Len(), nil)
		_ = a.chol.SolveVecTo(own, a.right)
		t.Reset()
		t.MulVec(a.inv, a.touched(global))
		own.SubVec(own, &t)
		out = append(out, own)
	}
	return out
}

// touched picks the global parameters that the subject touches.
func (a *arm) touched(global *mat.VecDense) *mat.VecDense {
	out := mat.NewVecDense(len(a.touches), nil)
	for k, g := range a.touches {
		out.SetVec(k, global.AtVec(g))
	}
	return out
}

// variance of a linear combination, with weights d, of a subject's parameters and of
// global ones that it touches.
func (p *posterior) variance(subject int, refs []ref, d []float64) float64 {
	a := &p.subjects[subject]
	own, global := mat.NewVecDense(a.b.SymmetricDim(), nil), mat.NewVecDense(len(a.touches), nil)
	for i, r := range refs {
		if r >= 0 {
			global.SetVec(a.column[int(r)], d[i])
		} else {
			own.SetVec(int(-1-r), d[i])
		}
	}
	var solved, t mat.VecDense
	_ = a.chol.SolveVecTo(&solved, own)
	v := mat.Dot(own, &solved)
	t.MulVec(a.inv.T(), own)
	global.SubVec(global, &t)
	for i, gi := range a.touches {
		for j, gj := range a.touches {
			v += global.AtVec(i) * global.AtVec(j) * p.spread.At(gi, gj)
		}
	}
	return v
}
