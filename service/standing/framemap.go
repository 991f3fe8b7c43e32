package standing

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/frames"
	"rotanex.example/service/events"
	"rotanex.example/service/queue"
)

// FrameMap is how every frame of a run is, in few bytes.
type FrameMap struct {
	Shots  []ShotMap
	Failed []FailedFrames // what failed for good, by cause and shot, the most first
	Marked []FailedFrames // what is done and to be looked at, by why and shot
	Latest []queue.Frame  // that were done last, newest first
}

// ShotMap is how the frames of a shot are.
type ShotMap struct {
	Shot   string
	Frames frames.Set
	States string // of the frames in their order: how many, and the first letter of their state; 12d3r85w
}

// FailedFrames are frames of a shot that failed for the same cause.
type FailedFrames struct {
	Cause, Shot string
	Frames      frames.Set
}

// NotFinite is why a frame is to be looked at whose pixels have values that are no number or infinite.
const NotFinite = "not-finite"

// Flickers is how the reason begins for which a frame is to be looked at that jumps against those around it; then comes its kind.
const Flickers = "flicker-"

// latest is how many frames that were done last a map has.
const latest = 8

// afresh is for how long a map is kept up by what is told of frames; then it is read anew, as not all that happens to frames is
// told of each.
const afresh = time.Minute

// mapped is how the frames of a run were at a position of the stream of events.
type mapped struct {
	mu    sync.Mutex
	read  time.Time
	at    events.Position
	shots []shotStates
	of    map[string]int
}

// shotStates are the states of a shot's frames, a letter each.
type shotStates struct {
	shot    string
	numbers frames.Set
	states  []byte
}

// Map is how every frame of a run is. All frames are read once; after that what is told of single ones is put in.
func (s *Standing) Map(ctx context.Context, run uuid.UUID) (out FrameMap, err error) {
	if err := s.Known(ctx, run); err != nil {
		return out, err
	}
	m, ok := s.maps.Get(run)
	if !ok {
		m = &mapped{}
		s.maps.Add(run, m)
	}
	tx := s.store.WithContext(ctx)
	if out.Shots, err = s.states(ctx, run, m); err != nil {
		return out, err
	}
	if out.Failed, err = failedFrames(tx, run); err != nil {
		return out, err
	}
	if out.Marked, err = markedFrames(tx, run); err != nil {
		return out, err
	}
	out.Latest, err = lastFrames(tx, run, latest)
	return out, err
}

// states brings a map up to now, and says what is on it.
func (s *Standing) states(ctx context.Context, run uuid.UUID, m *mapped) ([]ShotMap, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	kept := !m.read.IsZero() && time.Since(m.read) < afresh
	if kept {
		var err error
		if kept, err = s.follow(ctx, run, m); err != nil {
			return nil, err
		}
	}
	if !kept {
		if err := s.readMap(ctx, run, m); err != nil {
			return nil, err
		}
	}
	out := make([]ShotMap, len(m.shots))
	for i, x := range m.shots {
		out[i] = ShotMap{Shot: x.shot, Frames: x.numbers, States: runLengths(x.states)}
	}
	return out, nil
}

func (s *Standing) readMap(ctx context.Context, run uuid.UUID, m *mapped) error {
	at, err := s.feed.Now(ctx) // first: what happens from here on is put in once more
	if err != nil {
		return err
	}
	shots, err := shotsOfMap(s.store.WithContext(ctx), run)
	if err != nil {
		return err
	}
	m.read, m.at, m.shots, m.of = time.Now(), at, shots, map[string]int{}
	for i, x := range shots {
		m.of[x.shot] = i
	}
	return nil
}

// follow puts in what was told of single frames since; false: more happened than that.
func (s *Standing) follow(ctx context.Context, run uuid.UUID, m *mapped) (bool, error) {
	const batches = 20
	for range batches {
		all, err := s.feed.After(ctx, m.at, &run)
		if err != nil {
			return false, err
		}
		for _, entry := range all {
			var e events.Event
			if err := json.Unmarshal(entry.Data, &e); err != nil {
				return false, err
			}
			if e.Kind != events.Frame {
				return false, nil
			}
			m.put(e)
			m.at = entry.Position
		}
		if len(all) < events.Batch {
			return true, nil
		}
	}
	return false, nil
}

func (m *mapped) put(e events.Event) {
	i, ok := m.of[e.Shot]
	if !ok || e.State == "" {
		return
	}
	if at, ok := m.shots[i].numbers.Index(e.Frame); ok && at < len(m.shots[i].states) {
		m.shots[i].states[at] = e.State[0]
	}
}

// runLengths writes letters as how many of each follow each other.
func runLengths(letters []byte) string {
	var out strings.Builder
	for i := 0; i < len(letters); {
		n := i
		for n < len(letters) && letters[n] == letters[i] {
			n++
		}
		out.WriteString(strconv.Itoa(n - i))
		out.WriteByte(letters[i])
		i = n
	}
	return out.String()
}
