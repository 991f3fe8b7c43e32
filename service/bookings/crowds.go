package bookings

import (
	"sync"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"
	"gorm.io/gorm"
)

// Few is how many waiting frames of a shot are few: then who takes which is weighed to the frame. Of more than that a frame more
// or less changes nothing, so that what was read a moment ago will do.
const Few = 256

// moment is how long that is, of the wall clock. Of a clock that stands nothing is kept.
const moment = 250 * time.Millisecond

// recounted is how long a count of many frames will do.
const recounted = 5 * time.Second

// Crowds are the crews that are booked for shots, with how many frames wait, as helpers ask for them: each that asks would else
// read all crews and count all frames.
type Crowds struct {
	mu sync.Mutex
	of *lru.Cache[ShotOf, *crowd]
}

// ShotOf names a shot of a run.
type ShotOf struct {
	Run  uuid.UUID
	Shot string
}

type crowd struct {
	mu      sync.Mutex
	read    time.Time
	crews   []*Crew
	counted time.Time
	waiting int
}

// NewCrowds makes it.
func NewCrowds() *Crowds {
	of, _ := lru.New[ShotOf, *crowd](1000) // fails for sizes below one
	return &Crowds{of: of}
}

// Of are the crews that are booked for a shot of a run, and how many of its frames wait: exactly, where they are few. What it
// returns is not to be changed.
func (c *Crowds) Of(tx *gorm.DB, wall time.Time, run uuid.UUID, shot string) ([]*Crew, int, error) {
	few, err := CountWaiting(tx, run, shot, Few+1)
	if err != nil {
		return nil, 0, err
	}
	if few <= Few {
		crews, err := OfRun(tx, wall, run, shot)
		return crews, few, err
	}
	x := c.find(ShotOf{run, shot})
	x.mu.Lock()
	defer x.mu.Unlock()
	if !young(wall.Sub(x.counted), recounted) {
		if x.waiting, err = CountWaiting(tx, run, shot, 0); err != nil {
			return nil, 0, err
		}
		x.counted = wall
	}
	if !young(wall.Sub(x.read), moment) {
		if x.crews, err = OfRun(tx, wall, run, shot); err != nil {
			return nil, 0, err
		}
		x.read = wall
	}
	return x.crews, max(x.waiting, Few+1), nil
}

func young(age, of time.Duration) bool { return age > 0 && age < of }

func (c *Crowds) find(key ShotOf) *crowd {
	c.mu.Lock()
	defer c.mu.Unlock()
	x, ok := c.of.Get(key)
	if !ok {
		x = &crowd{}
		c.of.Add(key, x)
	}
	return x
}
