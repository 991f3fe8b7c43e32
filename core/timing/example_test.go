package timing_test

import (
	"fmt"

	"rotanex.example/core/timing"
)

// One device and both of a model were timed; what three would take is predicted from them.
func ExampleModel_Predict() {
	gpu := timing.Member{Model: "Halyard 12"}
	place := func(crew string, n int) timing.Place {
		p := timing.Place{Host: "eddy", Crew: crew, Backend: "compute2"}
		for range n {
			p.Members = append(p.Members, gpu)
		}
		return p
	}
	var seen []timing.Observation
	for i, s := range []float64{100, 101, 99} {
		part := fmt.Sprint(i)
		seen = append(seen, timing.Observation{Subject: "coda-060", Place: place("g0", 1), Part: part, Seconds: s, Fixed: 4, Load: 6},
			timing.Observation{Subject: "coda-060", Place: place("g0+g1", 2), Part: part, Seconds: 0.55 * s, Fixed: 4, Load: 6})
	}
	model, _ := timing.Fit(seen)
	p, _ := model.Predict("coda-060", place("g0+g1+g2", 3), nil, "", false)
	fmt.Println("between a third of one and what two take:", p.Seconds > 100.0/3 && p.Seconds < 55)
	fmt.Println("with an interval:", p.Low < p.Seconds && p.Seconds < p.High)
	// Output:
	// between a third of one and what two take: true
	// with an interval: true
}
