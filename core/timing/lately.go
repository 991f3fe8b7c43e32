package timing

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"
)

// What is reckoned with as times are judged by the last frames. Spreads are standard
// deviations of logarithms.
const (
	// fewestLately is how many frames say something.
	fewestLately = 3
	// leastLately is by how much something has to be off for it to count.
	leastLately = 0.05
	// freshLately is after how long a frame says half as much, or after so many times as long as it took, if
	// that is longer: of frames of half an hour few are done in the last one, and it is no more
	// likely for that that whoever made them slow has gone. After staleLately times that it says nothing.
	freshLately, freshFrames, staleLately = 10 * time.Minute, 2, 6
	// singleLately is by how much one frame is off by itself.
	singleLately = 0.2
	// usualLately is by how much things are off on a day like others; oddLately by how much
	// where something is the matter: somebody works there.
	usualLately, oddLately = 0.06, 0.8
	// oddShot is the chance of a shot's frames to have become heavy, or light.
	oddShot = 0.1
	// polishes is how often shots, hosts and crews are judged in turn.
	polishes = 4
)

// Seen is a frame that was done of late.
type Seen struct {
	Shot, Host, Crew string
	Ratio            float64       // of what it took over what was expected of it
	Off              float64       // by how much that may be off itself: the standard deviation of its logarithm
	Took             time.Duration // so long it says how things were
	Ago              time.Duration // it was done
}

// Of is by what factors shots, hosts and crews take longer than expected, or shorter, where
// they are off. A frame of a shot takes a crew the product of the three.
type Of struct {
	Shot, Host map[string]float64
	Crew       map[[2]string]float64 // by host and crew
}

// Factor is by how much longer a frame of a shot takes a crew than was expected.
func (o Of) Factor(shot, host, crew string) float64 {
	return or1(o.Shot[shot]) * or1(o.Host[host]) * or1(o.Crew[[2]string{host, crew}])
}

func or1(f float64) float64 {
	if f == 0 {
		return 1
	}
	return f
}

// Lately judges by the last frames what takes longer than expected now: a shot whose frames
// have become heavy, a host on which somebody works, a crew that is held up. What is common
// to the hosts that render a shot is the shot's, what of the rest is common to a host's crews
// is the host's, so that others that have not rendered it, or nothing of late, are known to
// be slow as well; what is left is the crew's (median polish, Tukey 1977). Common is the middle
// that is nearest to what was expected.
//
// Of each, the middle of its frames counts, weighed by how long each took and how long ago
// that was, so that many quick frames from before do not hide that it is slow now. It is
// drawn towards 1 by as much as so few frames prove little, as things are mostly nearly as
// expected, and sometimes far off: a normal prior of two parts (George and McCulloch 1993). What was expected of a
// shot on a crew may be wrong by itself, where few frames or none were timed there: such a crew's frames say the less
// of its host, however many there are.
//
// Slowed is the part of the time in which something is the matter with a host: the rarer that is, the more it takes
// to be believed of it. Of thirty crews that are looked at every few minutes, one has mostly just had two heavy
// frames.
//
// It holds for the near future only, and is no part of what is learnt.
func Lately(seen []Seen, slowed float64) Of {
	groups := map[[3]string]*rendered{}
	for _, x := range seen {
		fresh := max(freshLately, freshFrames*x.Took)
		if x.Ratio > 0 && !math.IsInf(x.Ratio, 0) && x.Took > 0 && x.Ago < staleLately*fresh {
			key := [3]string{x.Shot, x.Host, x.Crew}
			if groups[key] == nil {
				groups[key] = &rendered{shot: x.Shot, host: x.Host, crew: [2]string{x.Host, x.Crew}}
			}
			groups[key].off = max(groups[key].off, x.Off)
			groups[key].add(math.Log(x.Ratio), x.Took.Seconds()*math.Exp2(-x.Ago.Seconds()/fresh.Seconds()))
		}
	}
	all := make([]*rendered, 0, len(groups))
	for _, key := range slices.SortedFunc(maps.Keys(groups), func(a, b [3]string) int { return slices.Compare(a[:], b[:]) }) {
		all = append(all, groups[key].done())
	}
	shots, hosts, crews := map[string]float64{}, map[string]float64{}, map[[2]string]float64{}
	for range polishes {
		judge(all, shots, func(g *rendered) (string, string) { return g.shot, g.host }, 2, oddShot, func(g *rendered) float64 { return hosts[g.host] + crews[g.crew] })
		judge(all, hosts, func(g *rendered) (string, [2]string) { return g.host, g.crew }, 1, slowed, func(g *rendered) float64 { return shots[g.shot] + crews[g.crew] })
		judge(all, crews, func(g *rendered) ([2]string, string) { return g.crew, g.shot }, 1, slowed, func(g *rendered) float64 { return shots[g.shot] + hosts[g.host] })
	}
	return Of{Shot: factors(shots), Host: factors(hosts), Crew: factors(crews)}
}

// rendered is the frames of one shot on one crew.
type rendered struct {
	shot, host      string
	crew            [2]string
	logs            []weighed
	middle, off     float64
	weight, squares float64 // of the weights, and of their squares
}

type weighed struct{ log, weight float64 }

func (g *rendered) add(log, weight float64) {
	g.logs = append(g.logs, weighed{log, weight})
	g.weight, g.squares = g.weight+weight, g.squares+weight*weight
}

func (g *rendered) done() *rendered {
	g.middle = middleOf(g.logs)
	return g
}

// middleOf is the weighted median.
func middleOf(all []weighed) float64 {
	slices.SortFunc(all, func(a, b weighed) int { return cmp.Compare(a.log, b.log) })
	sum, below := 0.0, 0.0
	for _, x := range all {
		sum += x.weight
	}
	for _, x := range all {
		if below += x.weight; below >= sum/2 {
			return x.log
		}
	}
	return 0
}

// judge sets by how much each thing of a kind is off, once what is other things' is taken
// away. Its parts, such as the hosts of a shot, have one voice each; there have to be so many.
func judge[K, P comparable](all []*rendered, off map[K]float64, of func(*rendered) (K, P), fewest int, odd float64, others func(*rendered) float64) {
	type part struct {
		name              P
		logs              []weighed
		sum, squares, off float64 // of the weights, of their squares, of the groups' weights times how far off they may be, squared
		frames            int
	}
	parts := map[K][]*part{}
	for _, g := range all {
		k, name := of(g)
		at := slices.IndexFunc(parts[k], func(x *part) bool { return x.name == name })
		if at < 0 {
			at = len(parts[k])
			parts[k] = append(parts[k], &part{name: name})
		}
		x := parts[k][at]
		x.logs = append(x.logs, weighed{g.middle - others(g), g.weight})
		x.sum, x.squares, x.frames = x.sum+g.weight, x.squares+g.squares, x.frames+len(g.logs)
		x.off += g.weight * g.weight * g.off * g.off
	}
	for k, list := range parts {
		var middles []float64
		sum, squares, wrong, frames := 0.0, 0.0, 0.0, 0
		for _, x := range list {
			middles = append(middles, middleOf(x.logs))
			sum, squares, wrong, frames = sum+x.sum, squares+x.squares, wrong+x.off, frames+x.frames
		}
		if off[k] = 0; len(middles) >= fewest && frames >= fewestLately && sum > 0 {
			off[k] = drawn(nearest(middles), (singleLately*singleLately*squares+wrong)/(sum*sum), odd)
		}
	}
}

// nearest is the median; of two middle ones the nearer to 0, and 0 if they are on either side.
func nearest(all []float64) float64 {
	slices.Sort(all)
	low, high := all[(len(all)-1)/2], all[len(all)/2]
	switch {
	case low > 0:
		return low
	case high < 0:
		return high
	}
	return 0
}

// drawn is what is to be expected of a logarithm that was seen with a variance, where something is the matter with
// a chance.
func drawn(seen, variance, chance float64) float64 {
	part := func(share, spread float64) (weight, mean float64) {
		all := spread*spread + variance
		return share * math.Exp(-seen*seen/(2*all)) / math.Sqrt(all), seen * spread * spread / all
	}
	usual, asUsual := part(1-chance, usualLately)
	odd, asOdd := part(chance, oddLately)
	if usual+odd == 0 {
		return asOdd // further off than a float can tell
	}
	return (usual*asUsual + odd*asOdd) / (usual + odd)
}

// factors are what is off by enough to count.
func factors[K comparable](off map[K]float64) map[K]float64 {
	out := map[K]float64{}
	for k, log := range off {
		if f := math.Exp(log); math.Abs(f-1) >= leastLately {
			out[k] = f
		}
	}
	return out
}
