package timings

import (
	"cmp"
	"context"
	"slices"
	"time"
)

// taken is what timed frames say, kept up as more come. Of each shot with its settings it has the newest frames of each crew and each
// part of the shot's length, so that a large run crowds nothing else out, and a finished frame costs a look at that frame.
type taken struct {
	most   int             // rows at once
	groups map[group][]Row // the newest last
	rows   int
	all    int // so many were ever taken in
	trials int // of these of trials

	mark int64 // the last try that there was at the last look
	seen map[int64]bool
	at   time.Time // when tries were last found, by the wall clock
}

// group is what times are alike in.
type group struct {
	subject, host, crew, stretch string
	trial                        bool
}

const (
	perGroup = 64
	// overlap is so many tries before the mark that are looked at again, for as long as settles after it: a try's number is given
	// before it can be seen, so of two the second may be seen first.
	overlap = 64
	settles = 10 * time.Second
)

func newTaken(most int) taken { return taken{most: most, groups: map[group][]Row{}} }

// take takes more times in, the oldest first.
func (t *taken) take(rows []Row) {
	for _, r := range rows {
		g := group{r.Subject(), r.Host, r.Crew(), r.Stretch, r.Trial}
		of := append(t.groups[g], r)
		if len(of) > perGroup {
			of = slices.Delete(of, 0, 1)
			t.rows--
		}
		t.groups[g] = of
		t.rows++
		t.all++
		if r.Trial {
			t.trials++
		}
	}
	if t.rows > t.most {
		t.prune()
	}
}

// prune drops the oldest times of runs, and those of trials only where these are more than half of all. It drops some more than it
// must: the next frame is not to bring it about again.
func (t *taken) prune() {
	var trials, others []Row
	for _, r := range t.list() {
		if r.Trial {
			trials = append(trials, r)
		} else {
			others = append(others, r)
		}
	}
	leave := t.most * 9 / 10
	trials = trials[max(0, len(trials)-max(leave/2, leave-len(others))):]
	others = others[max(0, len(others)-(leave-len(trials))):]
	kept := newTaken(t.most)
	kept.take(trials)
	kept.take(others)
	t.groups, t.rows = kept.groups, kept.rows
}

// list lists the times, the oldest first.
func (t *taken) list() []Row {
	out := make([]Row, 0, t.rows)
	for _, of := range t.groups {
		out = append(out, of...)
	}
	slices.SortFunc(out, func(a, b Row) int { return cmp.Compare(a.try, b.try) })
	return out
}

// catchUp takes in the tries that have ended since the last time.
func (t *Timings) catchUp(ctx context.Context, of *taken) error {
	now := t.clock.WallNow()
	last, err := t.lastTry(ctx)
	if err != nil || last == of.mark && now.Sub(of.at) >= settles {
		return err
	}
	read := t.triesAfter
	if of.mark == 0 {
		read = t.newestTries
	}
	tries, err := read(ctx, of.mark-overlap)
	if err != nil {
		return err
	}
	seen := map[int64]bool{}
	var more []attemptRow
	for _, a := range tries {
		if seen[a.ID] = true; !of.seen[a.ID] {
			more = append(more, a)
		}
	}
	rows, err := t.rowsOf(ctx, more)
	if err != nil {
		return err
	}
	if of.take(rows); len(rows) > 0 {
		of.at = now
	}
	of.mark, of.seen = last, seen
	return nil
}
