package timing

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Sample is times in seconds with the frames that they are of; Frames is nil where
// these are not known.
type Sample struct {
	Seconds []float64
	Frames  []int
}

// Difference is what two samples say of how much faster b is than a.
type Difference struct {
	Ratio  float64 `json:"ratio"` // a's time over b's: above 1, b is faster
	Low    float64 `json:"low"`   // of the ratio's 95 % interval
	High   float64 `json:"high"`
	Shown  bool    `json:"shown"`  // the interval leaves 1 out
	Method string  `json:"method"` // the test or interval, by its name
}

const level = 0.95

// Differ compares two samples. Where the same three frames or more were timed on
// both, it is the paired t interval of the logs frame by frame, so that heavy and
// light frames do not pass for noise; else, with five times or more of each, the
// Hodges-Lehmann estimate with the interval that inverts the Mann-Whitney U test;
// else Welch's t interval of the logs. With a single time of one of them nothing can
// be shown.
func Differ(a, b Sample) Difference {
	if logs := paired(a, b); len(logs) >= 3 {
		return pairedT(logs)
	}
	x, y := logsOf(a.Seconds), logsOf(b.Seconds)
	const fewForRanks = 5
	switch {
	case len(x) >= fewForRanks && len(y) >= fewForRanks:
		return hodgesLehmann(x, y)
	case len(x) >= 2 && len(y) >= 2:
		return welch(x, y)
	}
	d := Difference{Method: "one time only: no difference can be shown", High: math.MaxFloat64}
	if len(x) > 0 && len(y) > 0 {
		d.Ratio = math.Exp(stat.Mean(x, nil) - stat.Mean(y, nil))
	}
	return d
}

func logsOf(seconds []float64) []float64 {
	out := make([]float64, len(seconds))
	for i, s := range seconds {
		out[i] = math.Log(s)
	}
	return out
}

// paired returns the log of a over b for every frame that both have.
func paired(a, b Sample) []float64 {
	sums, counts := map[int]float64{}, map[int]int{}
	for i, f := range b.Frames {
		sums[f] += math.Log(b.Seconds[i])
		counts[f]++
	}
	mine, times := map[int]float64{}, map[int]int{}
	for i, f := range a.Frames {
		mine[f] += math.Log(a.Seconds[i])
		times[f]++
	}
	var out []float64
	for f, n := range times {
		if counts[f] > 0 {
			out = append(out, mine[f]/float64(n)-sums[f]/float64(counts[f]))
		}
	}
	slices.Sort(out) // a map has no order, and sums depend on theirs
	return out
}

func (d Difference) shown() Difference {
	d.Shown = d.Low > 1 || d.High < 1
	return d
}

func pairedT(logs []float64) Difference {
	mean, sd := stat.MeanStdDev(logs, nil)
	n := float64(len(logs))
	half := distuv.StudentsT{Sigma: 1, Nu: n - 1}.Quantile((1+level)/2) * sd / math.Sqrt(n)
	return Difference{
		Ratio: math.Exp(mean), Low: math.Exp(mean - half), High: math.Exp(mean + half),
		Method: fmt.Sprintf("paired t interval of the logs over %d frames", len(logs)),
	}.shown()
}

func welch(x, y []float64) Difference {
	mx, vx := stat.MeanVariance(x, nil)
	my, vy := stat.MeanVariance(y, nil)
	ex, ey := vx/float64(len(x)), vy/float64(len(y))
	half := 0.0
	if ex+ey > 0 {
		nu := (ex + ey) * (ex + ey) / (ex*ex/float64(len(x)-1) + ey*ey/float64(len(y)-1))
		half = distuv.StudentsT{Sigma: 1, Nu: nu}.Quantile((1+level)/2) * math.Sqrt(ex+ey)
	}
	return Difference{
		Ratio: math.Exp(mx - my), Low: math.Exp(mx - my - half), High: math.Exp(mx - my + half),
		Method: fmt.Sprintf("Welch's t interval of the logs, %d and %d times", len(x), len(y)),
	}.shown()
}

func hodgesLehmann(x, y []float64) Difference {
	var d []float64
	for _, a := range x {
		for _, b := range y {
			d = append(d, a-b)
		}
	}
	slices.Sort(d)
	m, n := len(x), len(y)
	k := leftOut(m, n)
	return Difference{
		Ratio: math.Exp(median(d)), Low: math.Exp(d[k]), High: math.Exp(d[len(d)-1-k]),
		Method: fmt.Sprintf("Hodges-Lehmann interval of the Mann-Whitney U test, %d and %d times", m, n),
	}.shown()
}

// exactly is up to how many times of each the chances of U are counted out: that takes the square of the one times that of the other.
const exactly = 40

// leftOut is how many of the smallest and of the largest differences of samples of m and n the interval leaves out: as many as U may be
// below while that is less likely than half of what may be missed. Of larger samples that is taken from the normal distribution, with the
// correction for U being whole (Mann and Whitney 1947).
func leftOut(m, n int) (k int) {
	if max(m, n) > exactly {
		a, b := float64(m), float64(n)
		spread := math.Sqrt(a * b * (a + b + 1) / 12)
		return max(0, int(math.Floor(a*b/2+0.5-distuv.UnitNormal.Quantile((1+level)/2)*spread)))
	}
	below := 0.0
	for ways := rankWays(m, n); below+ways[k] <= (1-level)/2; k++ {
		below += ways[k]
	}
	return k
}

// rankWays returns the chance of each value of Mann and Whitney's U for samples of m
// and n without a difference, exactly (Mann and Whitney 1947, their recurrence).
func rankWays(m, n int) []float64 {
	// p[j][u] is the chance for i values of one sample and j of the other.
	p := make([][]float64, n+1)
	for j := range p {
		p[j] = []float64{1}
	}
	for i := 1; i <= m; i++ {
		next := make([][]float64, n+1)
		next[0] = []float64{1}
		for j := 1; j <= n; j++ {
			next[j] = make([]float64, i*j+1)
			for u := range next[j] {
				if v := u - j; v >= 0 && v < len(p[j]) {
					next[j][u] += float64(i) / float64(i+j) * p[j][v]
				}
				if u < len(next[j-1]) {
					next[j][u] += float64(j) / float64(i+j) * next[j-1][u]
				}
			}
		}
		p = next
	}
	return p[n]
}

// MedianInterval returns the 90 % interval of the median of times, from their order
// statistics; false with fewer than five times, which cannot give one.
func MedianInterval(seconds []float64) (low, high float64, ok bool) {
	n := len(seconds)
	sorted := slices.Sorted(slices.Values(seconds))
	b := distuv.Binomial{N: float64(n), P: 0.5}
	k := 0
	for k < n/2 && 2*b.CDF(float64(k)) <= 0.1 {
		k++
	}
	if k == 0 {
		return 0, 0, false
	}
	return sorted[k-1], sorted[n-k], true
}

// Precise reports whether repeats, by frame, say the median to within a share of it:
// each frame's times are set beside their own median, so that heavy and light frames
// do not count as noise.
func Precise(byFrame map[int][]float64, within float64) bool {
	var all []float64
	for _, times := range byFrame {
		if s, ok := Summarise(times); ok {
			for _, t := range times {
				all = append(all, t/s.Median)
			}
		}
	}
	low, high, ok := MedianInterval(all)
	return ok && max(high-1, 1-low) <= within
}
