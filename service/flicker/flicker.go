// Package flicker looks at the frames of shots that are finished for those whose light or colour jumps against the frames around
// them, a little at a time, and marks them for somebody to look at.
package flicker

import (
	"bytes"
	"context"
	"errors"
	"image/jpeg"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/picture"
	"rotanex.example/service/clock"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/store"
	"rotanex.example/service/tally"
)

const (
	// Every is how often it goes on, and share for how long at most: it shall not take the processor from answers.
	Every = 20 * time.Second
	share = 2 * time.Second
	// width is that of the previews that are looked at.
	width = 240
	// fewest frames make a sequence.
	fewest = 8
)

// Finder finds them.
type Finder struct {
	store    *store.Store
	clock    clock.Clock
	pictures *pictures.Pictures
	tallies  *tally.Tallies
	log      *slog.Logger

	looked map[ofShot]int // how many frames of a shot were done when it was looked at
	at     *look          // what it is at; nil: nothing
}

type ofShot struct {
	run  uuid.UUID
	shot string
}

// look is a shot that is being looked at.
type look struct {
	ofShot
	done   int
	frames []queue.Frame
	next   int
	seen   []int // the numbers of those that were taken in
	picture.Sequence
}

// New makes it.
func New(s *store.Store, c clock.Clock, p *pictures.Pictures, t *tally.Tallies, log *slog.Logger) *Finder {
	return &Finder{store: s, clock: c, pictures: p, tallies: t, log: log, looked: map[ofShot]int{}}
}

// Sweep looks at shots that were finished since, for a short while.
func (f *Finder) Sweep(ctx context.Context) error {
	until := time.Now().Add(share)
	for time.Now().Before(until) {
		if f.at == nil {
			found, err := f.find(ctx)
			if err != nil || !found {
				return err
			}
		}
		over, err := f.goOn(ctx, until)
		if err != nil {
			delete(f.looked, f.at.ofShot) // it is begun again the next time
		}
		if err != nil || over {
			f.at = nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// find finds a shot to look at: one of which no frame is yet to be done, as it is now.
func (f *Finder) find(ctx context.Context) (bool, error) {
	runs, err := lately(f.store.WithContext(ctx), f.clock.Now())
	if err != nil {
		return false, err
	}
	looked := map[ofShot]int{}
	defer func() { f.looked = looked }() // runs that are over for long are forgotten
	for _, run := range runs {
		t, err := f.tallies.Of(ctx, run)
		if err != nil {
			return false, err
		}
		for _, c := range t.Counts {
			key := ofShot{run, c.Shot}
			if n, known := f.looked[key]; known {
				looked[key] = n
			}
			if f.at != nil || c.Waiting+c.Rendering > 0 || c.Done < fewest || looked[key] == c.Done {
				continue
			}
			f.at = &look{ofShot: key, done: c.Done}
			if f.at.frames, err = finished(f.store.WithContext(ctx), run, c.Shot); err != nil {
				return false, err
			}
			looked[key] = c.Done
		}
	}
	return f.at != nil, nil
}

// goOn takes in frames of the shot that it is at, and marks what it found once it had all of them.
func (f *Finder) goOn(ctx context.Context, until time.Time) (over bool, err error) {
	x := f.at
	for ; x.next < len(x.frames); x.next++ {
		if !time.Now().Before(until) {
			return false, nil
		}
		frame := x.frames[x.next]
		if !frame.Seen.Shown(frame.Format) {
			continue
		}
		if err := f.take(ctx, x, frame); err != nil {
			return false, err
		}
	}
	marks := map[int]pictures.Flicker{}
	for _, m := range x.Flickers() {
		marks[x.seen[m.At]] = pictures.Flicker{Kind: m.Kind, Amount: m.Amount}
	}
	f.log.Info("looked for flicker", "run", x.run, "shot", x.shot, "frames", len(x.seen), "marked", len(marks))
	return true, f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return queue.MarkFlicker(tx, x.run, x.shot, marks) })
}

// take takes a frame in.
func (f *Finder) take(ctx context.Context, x *look, frame queue.Frame) error {
	var file bytes.Buffer
	if err := f.pictures.Preview(ctx, &file, frame.Key(), width); err != nil {
		if errors.Is(err, pictures.ErrNoPicture) {
			return nil // what is said of it is said elsewhere
		}
		return err
	}
	img, err := jpeg.Decode(&file)
	if err != nil {
		return err
	}
	x.Add(picture.GlanceOf(img))
	x.seen = append(x.seen, frame.Frame)
	return nil
}
