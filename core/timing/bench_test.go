package timing

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

// many is what a large house has timed: shots by devices of as many models, four
// frames of each shot, one of them on a crew of two.
func many(shots, devices int) ([]Observation, []Place) {
	rnd := rand.New(rand.NewPCG(7, 7))
	rates, places := make([]float64, devices), make([]Place, devices)
	for i := range places {
		rates[i] = math.Exp(0.5 * rnd.NormFloat64())
		places[i] = Place{Host: fmt.Sprintf("h%d", i/4), Crew: fmt.Sprintf("g%d", i%4), Members: []Member{{Model: fmt.Sprintf("model %d", i), Link: "16"}}}
	}
	var out []Observation
	for s := range shots {
		fixed, work := 3+10*rnd.Float64(), 20*math.Exp(1.5*rnd.Float64())
		for k := range 4 {
			i := rnd.IntN(devices)
			p, rate := places[i], rates[i]
			if k == 3 {
				p = Place{Host: p.Host, Crew: "pair", Members: []Member{p.Members[0], p.Members[0]}}
				rate *= 1.97
			}
			out = append(out, Observation{Subject: fmt.Sprintf("s%d", s), Place: p, Seconds: (fixed + work/rate) * math.Exp(0.03*rnd.NormFloat64())})
		}
	}
	return out, places
}

// BenchmarkFit fits 1,000 shots on devices of 300 models.
func BenchmarkFit(b *testing.B) {
	observed, _ := many(1000, 300)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Fit(observed); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkPredict predicts all 300,000 pairs, each with its interval.
func BenchmarkPredict(b *testing.B) {
	observed, places := many(1000, 300)
	m, err := Fit(observed)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		for s := range 1000 {
			for _, p := range places {
				if _, err := m.Predict(fmt.Sprintf("s%d", s), p, nil, "", false); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
}

// BenchmarkRefit takes in one more frame of one of 1,000 shots on devices of 300 models.
func BenchmarkRefit(b *testing.B) {
	observed, _ := many(1000, 300)
	m, err := Fit(observed)
	if err != nil {
		b.Fatal(err)
	}
	observed = append(observed, observed[17])
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Refit(observed, m); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkFirstQuestion asks of a shot of which nothing was asked yet, timed on one crew or on 30, two frames each.
func BenchmarkFirstQuestion(b *testing.B) {
	for _, crews := range []int{1, 30} {
		b.Run(fmt.Sprint(crews), func(b *testing.B) {
			observed, places := many(30, 30)
			for i := range 2 * crews {
				observed = append(observed, Observation{Subject: "fresh", Place: places[i/2], Seconds: 40})
			}
			m, err := Fit(observed)
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				m.draws = nil
				if _, err := m.Predict("fresh", places[7], nil, "", false); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
