package candidates

import (
	"context"
	"fmt"

	"rotanex.example/core/preflight"
)

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

// OfNamed returns the view of a shot by its name.
func (p *Candidates) OfNamed(ctx context.Context, name string) (View, error) {
	shot, err := p.shots.Find(ctx, name)
	if err != nil {
		return View{}, err
	}
	return p.Of(ctx, shot)
}
