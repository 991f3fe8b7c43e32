// Package disruptions reckons with what upsets a run and nobody knows beforehand: somebody
// works at a host for a while and it renders slowly, a host is lost, a shot grows heavier on
// the way, a more urgent run comes and has the hosts first. From what happened in earlier runs it
// says how often that is to be expected.
//
//	rates := disruptions.Learn(disruptions.Seen{HostTime: 400 * time.Hour, Lost: 1})
//	fmt.Println(rates.SlowedEvery, rates.LostEvery)
//
// Rates are means of exponential distributions with a conjugate prior (Gelman et al.,
// Bayesian Data Analysis, 3rd ed., section 2.6): what is assumed weighs as much as one case.
package disruptions

import (
	"math"
	"math/rand/v2"
	"time"
)

// Seen is what happened in earlier runs.
type Seen struct {
	HostTime time.Duration // in which owned hosts took part in them, all together
	Slowed   []Slowdown
	Lost     int             // hosts that were lost and did not come back in their run
	Shots    int             // that were rendered
	Heavier  []float64       // of the shots whose later frames took longer than their first: so many times as long
	RunTime  time.Duration   // that runs took, all together
	Urgent   []time.Duration // for how long runs that came on the way would have had all of a run's hosts
}

// Slowdown is a stretch of time in which a host took longer for everything.
type Slowdown struct {
	Lasted time.Duration
	Times  float64 // as long as before
}

// Rates are how often runs are to be expected to be upset. Those of the zero value never are.
type Rates struct {
	SlowedEvery  time.Duration `json:"slowed_every_ns"` // a host renders so long, in the mean, until it is slowed; 0: it never is
	SlowedFor    time.Duration `json:"slowed_for_ns"`   // in the mean
	SlowedTimes  float64       `json:"slowed_times"`    // frames then take so many times as long, in the mean
	LostEvery    time.Duration `json:"lost_every_ns"`   // a host renders so long, in the mean, until it is lost; 0: it never is
	Heavier      float64       `json:"heavier"`         // the chance of a shot to grow heavier somewhere
	HeavierTimes float64       `json:"heavier_times"`   // its frames then take so many times as long, in the mean
	UrgentEvery  time.Duration `json:"urgent_every_ns"` // a run goes on so long, in the mean, until a more urgent one comes; 0: none does
	UrgentFor    time.Duration `json:"urgent_for_ns"`   // all hosts of one's own are then at that for so long, in the mean
	Cases        int           `json:"cases"`           // that were seen
}

// What is assumed where nothing was seen, and weighs as much as one case: that about once in a
// long weekend somebody works at a host, that a host is lost in six weeks of rendering,
// that one shot of ten is heavier from somewhere on, and that about one weekend of three has a
// job of an hour that is more urgent.
const (
	DefaultUrgentEvery  = 200 * time.Hour
	DefaultUrgentFor    = time.Hour
	DefaultSlowedEvery  = 60 * time.Hour
	DefaultSlowedFor    = 90 * time.Minute
	DefaultSlowedTimes  = 2.0
	DefaultLostEvery    = 1000 * time.Hour
	DefaultShots        = 10
	DefaultHeavierTimes = 1.5
)

// Learn says what is to be expected after what was seen.
func Learn(seen Seen) Rates {
	slowed, times := DefaultSlowedFor, DefaultSlowedTimes
	for _, s := range seen.Slowed {
		slowed, times = slowed+s.Lasted, times+s.Times
	}
	heavier := DefaultHeavierTimes
	for _, h := range seen.Heavier {
		heavier += h
	}
	urgent := DefaultUrgentFor
	for _, u := range seen.Urgent {
		urgent += u
	}
	stretches, shots := len(seen.Slowed)+1, len(seen.Heavier)+1
	free := max(0, seen.HostTime+DefaultSlowedFor-slowed)
	return Rates{
		SlowedEvery:  (DefaultSlowedEvery + free) / time.Duration(stretches),
		SlowedFor:    slowed / time.Duration(stretches),
		SlowedTimes:  times / float64(stretches),
		LostEvery:    (DefaultLostEvery + seen.HostTime) / time.Duration(seen.Lost+1),
		Heavier:      float64(shots) / float64(DefaultShots+max(seen.Shots, len(seen.Heavier))),
		HeavierTimes: heavier / float64(shots),
		UrgentEvery:  (DefaultUrgentEvery + seen.RunTime) / time.Duration(len(seen.Urgent)+1),
		UrgentFor:    urgent / time.Duration(len(seen.Urgent)+1),
		Cases:        len(seen.Slowed) + seen.Lost + len(seen.Heavier) + len(seen.Urgent),
	}
}

// Slowed is the part of the time in which a host is slowed, in the mean.
func (r Rates) Slowed() float64 {
	if r.SlowedEvery <= 0 {
		return 0
	}
	return float64(r.SlowedFor) / float64(r.SlowedEvery+r.SlowedFor)
}

// Over says by what factor a host takes longer over a time from now on that takes so many times as long now. What
// slows it goes on for SlowedFor in the mean, however long it has gone on; what the host gets done meanwhile and
// after it is added up.
func (r Rates) Over(times float64, left time.Duration) float64 {
	if r.SlowedFor <= 0 || left <= 0 || times <= 0 {
		return times
	}
	whole := left.Seconds() / r.SlowedFor.Seconds()
	part := -math.Expm1(-whole) / whole // of the time, in which it is slowed
	return 1 / (1 - part*(1-1/times))
}

// Slow is a stretch in which a host takes so many times as long; without end: it renders
// something else.
type Slow struct {
	From, To time.Time
	Times    float64
}

// mostStretches is how often a host is slowed at most, in one drawing.
const mostStretches = 200

// DrawSlow adds to a list the stretches in which a host is slowed between two times.
func (r Rates) DrawSlow(list []Slow, random *rand.Rand, from, to time.Time) []Slow {
	return draw(list, random, r.SlowedEvery, r.SlowedFor, from, to, func() float64 { return more(random, r.SlowedTimes) })
}

// DrawUrgent adds to a list the stretches in which more urgent runs have one's own hosts.
func (r Rates) DrawUrgent(list []Slow, random *rand.Rand, from, to time.Time) []Slow {
	return draw(list, random, r.UrgentEvery, r.UrgentFor, from, to, func() float64 { return math.Inf(1) })
}

func draw(list []Slow, random *rand.Rand, every, lasts time.Duration, from, to time.Time, times func() float64) []Slow {
	if every <= 0 {
		return list
	}
	for range mostStretches {
		from = from.Add(exponential(random, every))
		if from.After(to) {
			break
		}
		end := from.Add(exponential(random, lasts))
		list = append(list, Slow{from, end, times()})
		from = end
	}
	return list
}

// DrawLost draws when a host is lost that is there from a time on; zero: not before the other.
func (r Rates) DrawLost(random *rand.Rand, from, to time.Time) time.Time {
	if r.LostEvery <= 0 {
		return time.Time{}
	}
	if at := from.Add(exponential(random, r.LostEvery)); at.Before(to) {
		return at
	}
	return time.Time{}
}

// DrawHeavier draws from which part of a shot on (0 to 1) its frames take so many times as
// long, where so much of it is rendered already; 1: nowhere. A shot that was even so far is
// expected to grow heavier only in what is left.
func (r Rates) DrawHeavier(random *rand.Rand, rendered float64) (from, times float64) {
	if random.Float64() >= r.Heavier*(1-rendered) {
		return 1, 1
	}
	return random.Float64(), more(random, r.HeavierTimes)
}

// exponential draws a length of time by its mean, of at most fifty times that.
func exponential(random *rand.Rand, mean time.Duration) time.Duration {
	return time.Duration(min(random.ExpFloat64(), 50) * float64(min(mean, 100_000*time.Hour)))
}

// more draws how many times as long something takes, at least once.
func more(random *rand.Rand, mean float64) float64 { return 1 + random.ExpFloat64()*max(0, mean-1) }
