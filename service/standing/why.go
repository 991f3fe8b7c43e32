package standing

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/bookings"
	"rotanex.example/service/queue"
	"rotanex.example/service/turn"
)

// CrewVerdict is what the rule says of a crew.
type CrewVerdict struct {
	dispatch.Verdict
	Host, Crew string
	Run        uuid.UUID
	Shot       string
	Owed       int // frames that it was booked for and has not taken
}

func verdictOf(c *bookings.Crew, v dispatch.Verdict) CrewVerdict {
	return CrewVerdict{Verdict: v, Host: c.Host, Crew: c.Name, Run: c.Run, Shot: c.Shot, Owed: c.Owed()}
}

// inOrder sorts verdicts so that who takes a frame soonest comes first.
func inOrder(all []CrewVerdict) {
	known := func(v CrewVerdict) int {
		if v.When == dispatch.Later && !v.At.IsZero() {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(all, func(a, b CrewVerdict) int {
		return cmp.Or(cmp.Compare(b.When, a.When), cmp.Compare(known(a), known(b)), a.At.Compare(b.At), cmp.Compare(b.Owed, a.Owed), strings.Compare(a.Host, b.Host), strings.Compare(a.Crew, b.Crew))
	})
}

// FrameWhy is why a frame is not being rendered.
type FrameWhy struct {
	State  queue.State
	Answer string        // in a sentence
	Left   bool          // somebody is left for it
	Ahead  int           // waiting frames of its shot that come before it
	Crews  []CrewVerdict // on each that is booked for its shot, the soonest first
}

// WhyFrame says why a frame is not being rendered: who may take it, when, and why the
// others do not.
func (s *Standing) WhyFrame(ctx context.Context, run uuid.UUID, shot string, number int) (out FrameWhy, err error) {
	f, err := s.One(ctx, run, shot, number)
	if err != nil {
		return out, err
	}
	out.State = f.State
	tx := s.store.WithContext(ctx)
	state, err := runState(tx, run)
	if out.Answer = settled(f, state); err != nil || out.Answer != "" {
		return out, err
	}
	if f.State == queue.Blocked {
		missing, err := needs(tx, f)
		out.Answer, out.Left = needing(f, missing), true
		return out, err
	}
	kind := dispatch.Kind{FailedOn: f.FailedOn, OnlyOn: f.OnlyOn, Tried: f.Failures > 0, First: f.ID}
	if kind.Waiting, out.Ahead, err = place(tx, f.ID); err != nil {
		return out, err
	}
	all, err := bookings.OfRun(tx, s.clock.WallNow(), run, shot)
	if err != nil {
		return out, err
	}
	look := s.queue.Look(tx)
	for _, c := range all {
		v, err := look.May(c, &kind)
		if err != nil {
			return out, err
		}
		out.Crews = append(out.Crews, verdictOf(c, v))
	}
	var no []string
	out.Left, no = dispatch.Left(&kind, bookings.OfShot(all, shot), s.clock.Now())
	inOrder(out.Crews)
	out.Crews = slices.Compact(out.Crews)
	out.Answer = answer(f, &out, no)
	return out, nil
}

// HostWhy is why a host does nothing, or what it does.
type HostWhy struct {
	Answer    string        // in a sentence
	Crews     []CrewVerdict // on each that is booked there, who takes a frame soonest first
	Rendering []turn.Lease
}

// WhyHost says why a host does nothing, or what it does: what the rule says of each of its
// crews now.
func (s *Standing) WhyHost(ctx context.Context, host string) (out HostWhy, err error) {
	tx := s.store.WithContext(ctx)
	look, err := s.queue.Look(tx).Host(ctx, host)
	if err != nil {
		return out, err
	}
	out.Rendering = look.Rendering
	for i, c := range look.Crews {
		out.Crews = append(out.Crews, verdictOf(c, look.Rule.Verdicts[i]))
	}
	inOrder(out.Crews)
	paused, err := pausedRuns(tx, host)
	out.Answer = hostAnswer(&look, paused)
	return out, err
}
