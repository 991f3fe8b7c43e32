package events

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"rotanex.example/service/loops"
)

const (
	// gathered is at least how long lies between two looks for new events, however many come.
	gathered = 100 * time.Millisecond
	// remembered is so many of the last events, for streams that are slower than others.
	remembered = 5000
)

// tail is the last events, read once for all streams of the process. It reads as long as there are any.
type tail struct {
	mu      sync.Mutex
	streams int
	end     context.CancelFunc
	lines   []line        // in their order
	from    Position      // all that came after it is in lines
	to      Position      // up to which it was read
	more    chan struct{} // closed when there are more, or it failed
	failed  error
}

// line is an event as a stream writes it.
type line struct {
	Position
	run  string
	text []byte
}

func (p Position) compare(o Position) int {
	return cmp.Or(cmp.Compare(p.xid, o.xid), cmp.Compare(p.id, o.id))
}

// join has one more stream read the tail; leave is to be called when it ends.
func (f *Feed) join(ctx context.Context) (t *tail, leave func(), err error) {
	f.tailing.Lock()
	defer f.tailing.Unlock()
	if t = f.tail; t == nil || t.broken() {
		now, err := f.Now(ctx)
		if err != nil {
			return nil, nil, err
		}
		t = &tail{from: now, to: now, more: make(chan struct{})}
		reading, end := context.WithCancel(context.WithoutCancel(ctx))
		t.end, f.tail = end, t
		go func() {
			// One that panics lets go of its streams, which come again, and not of the service.
			if err := loops.Safely(func() error { f.read(reading, t); return nil }); err != nil {
				f.log.ErrorContext(reading, "reading events", "error", err)
				t.add(nil, err)
			}
		}()
	}
	t.streams++
	return t, func() {
		f.tailing.Lock()
		defer f.tailing.Unlock()
		if t.streams--; t.streams == 0 {
			t.end()
			if f.tail == t {
				f.tail = nil
			}
		}
	}, nil
}

func (t *tail) broken() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.failed != nil
}

// read reads the tail until ctx ends or the database is gone.
func (f *Feed) read(ctx context.Context, t *tail) {
	ticks := time.NewTicker(look)
	defer ticks.Stop()
	for {
		woken := f.Wait(Changes)
		entries, err := f.After(ctx, t.to, nil) // nobody else writes it
		t.add(entries, err)
		if err != nil {
			return
		}
		pause(ctx, gathered)
		if len(entries) == Batch {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-woken:
		case <-ticks.C:
		}
	}
}

// add adds what was read, and tells the streams.
func (t *tail) add(entries []Entry, failed error) {
	if len(entries) == 0 && failed == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, e := range entries {
		t.lines = append(t.lines, line{e.Position, e.Run, e.line()})
		t.to = e.Position
	}
	if over := len(t.lines) - remembered; over > 0 {
		t.from = t.lines[over-1].Position
		t.lines = slices.Delete(t.lines, 0, over)
	}
	t.failed = failed
	close(t.more)
	t.more = make(chan struct{})
}

// reached is up to where it was read.
func (t *tail) reached() Position {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.to
}

// after lists what came after a position, of all runs or of one, up to where, and what is closed when there is more. It is not whole
// where the position is too long ago for that.
func (t *tail) after(p Position, run string) (page []byte, to Position, more <-chan struct{}, whole bool, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.failed != nil || p.compare(t.from) < 0 {
		return nil, p, nil, false, t.failed
	}
	first, _ := slices.BinarySearchFunc(t.lines, p, func(l line, p Position) int {
		if l.compare(p) <= 0 {
			return -1
		}
		return 1
	})
	to = p
	for _, l := range t.lines[first:] {
		if run == "" || l.run == run {
			page = append(page, l.text...)
		}
		to = l.Position
	}
	return page, to, t.more, true, nil
}
