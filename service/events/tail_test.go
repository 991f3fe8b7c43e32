package events

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/service/clock"
	"rotanex.example/service/testdb"
)

// reader follows the stream, and says what it has been written.
type reader struct {
	mu   sync.Mutex
	all  bytes.Buffer
	hold <-chan struct{} // it writes nothing until this is closed
}

func (r *reader) write(page []byte) error {
	if r.hold != nil {
		<-r.hold
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all.Write(page)
	return nil
}

func (r *reader) frames() (out []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, l := range strings.Split(r.all.String(), "\n") {
		var e Event
		if data, is := strings.CutPrefix(l, "data: "); is && json.Unmarshal([]byte(data), &e) == nil {
			out = append(out, fmt.Sprint(e.Frame))
		}
	}
	return out
}

// However many follow, from wherever, and however slow one of them is: each is told of each event once, in one order, and those of a
// run hear of that run alone. They are read for all together.
func TestManyFollowAndEachHearsAll(t *testing.T) {
	s := testdb.Open(t)
	feed := New(s, clock.Wall(), slog.New(slog.DiscardHandler))
	runs := []string{uuid.NewString(), uuid.NewString()}
	n := 0
	tell := func(count int) {
		require.NoError(t, s.WithContext(t.Context()).Transaction(func(tx *gorm.DB) error {
			for range count {
				n++
				if err := feed.Write(tx, Event{Kind: Frame, Run: runs[n%2], Frame: n}); err != nil {
					return err
				}
			}
			return nil
		}))
		feed.Wake(Changes)
	}
	ctx, end := context.WithCancel(t.Context())
	var following sync.WaitGroup
	follow := func(from Position, run *uuid.UUID, r *reader) *reader {
		following.Go(func() { feed.follow(ctx, from, run, r.write) })
		return r
	}
	defer following.Wait()
	defer end()
	hold, release := context.WithCancel(t.Context())
	defer release()
	tell(30)
	now, err := feed.Now(t.Context())
	require.NoError(t, err)
	one := uuid.MustParse(runs[1])
	whole, ofOne := follow(Position{}, nil, &reader{}), follow(Position{}, &one, &reader{})
	slow := follow(now, nil, &reader{hold: hold.Done()})
	var many []*reader
	for range 20 {
		many = append(many, follow(now, nil, &reader{}))
	}
	for range 8 {
		tell(remembered / 6)
	}
	last := fmt.Sprint(n)
	heard := func(r *reader) func() bool {
		return func() bool { all := r.frames(); return len(all) > 0 && all[len(all)-1] == last }
	}
	testdb.Until(t, "the last event", heard(whole))
	release()
	testdb.Until(t, "the slow one", heard(slow))
	late := follow(now, nil, &reader{})
	var want, odd []string
	for i := range n {
		if want = append(want, fmt.Sprint(i+1)); (i+1)%2 == 1 {
			odd = append(odd, fmt.Sprint(i+1))
		}
	}
	assert.Equal(t, want, whole.frames())
	testdb.Until(t, "that of one run", func() bool { return len(ofOne.frames()) == len(odd) })
	assert.Equal(t, odd, ofOne.frames())
	for _, r := range append(many, slow, late) {
		testdb.Until(t, "each", heard(r))
		assert.Equal(t, want[30:], r.frames())
	}
	feed.tailing.Lock()
	assert.Equal(t, 24, feed.tail.streams)
	assert.LessOrEqual(t, len(feed.tail.lines), remembered)
	feed.tailing.Unlock()

	end()
	following.Wait()
	feed.tailing.Lock()
	assert.Nil(t, feed.tail, "nobody follows: nothing is read")
	feed.tailing.Unlock()
}

// Who follows when the database is gone is let go, to come again; whoever comes then reads anew.
func TestATailThatFailedIsLeft(t *testing.T) {
	feed := New(testdb.Open(t), clock.Wall(), slog.New(slog.DiscardHandler))
	tail, leave, err := feed.join(t.Context())
	require.NoError(t, err)
	tail.add(nil, assert.AnError)
	_, _, _, _, err = tail.after(tail.reached(), "")
	assert.ErrorIs(t, err, assert.AnError)
	next, leaveNext, err := feed.join(t.Context())
	require.NoError(t, err)
	assert.NotSame(t, tail, next)
	leave()
	assert.Same(t, next, feed.tail)
	leaveNext()
	assert.Nil(t, feed.tail)
}

func TestALineIsFoundByItsPosition(t *testing.T) {
	tail := &tail{from: Position{3, 2}, to: Position{3, 2}, more: make(chan struct{})}
	for i := range 5 {
		tail.add([]Entry{{Position: Position{4 + int64(i/2), int64(i)}, Data: []byte(`{}`)}}, nil)
	}
	for _, c := range []struct {
		after Position
		lines int
		whole bool
	}{{Position{3, 1}, 0, false}, {Position{3, 2}, 5, true}, {Position{4, 0}, 4, true}, {Position{4, 7}, 3, true}, {Position{6, 4}, 0, true}, {Position{9, 0}, 0, true}} {
		page, to, _, whole, err := tail.after(c.after, "")
		assert.NoError(t, err)
		assert.Equal(t, c.whole, whole)
		assert.Equal(t, c.lines, bytes.Count(page, []byte("data:")), c.after)
		assert.GreaterOrEqual(t, to.compare(c.after), 0)
	}
}
