package planning_test

import (
	"context"
	"fmt"
	"testing"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// rack is one shot on hosts and an offer, of the given size.
func rack(frames, hosts int) planning.Problem {
	step := planning.Millis(3_600_000)
	p := planning.Problem{
		Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest,
		Shots: []planning.Shot{{ID: "s", Frames: frames, Deadline: planning.Millis(frames) * 60_000 / planning.Millis(hosts) * 4 / 5}},
		Offers: []planning.Offer{{
			ID: "o", Source: "tern", MaxServers: 5, Lead: 600_000, Price: pricing.MustMoney("3.40"), Increment: &step,
			Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}, {ID: "g1", Devices: []string{"g1"}}},
		}},
	}
	for _, crew := range []string{"g0", "g1"} {
		p.Timings = append(p.Timings, planning.Timing{Shot: "s", Offer: "o", Crew: crew, Frame: 40_000})
	}
	for i := range hosts {
		id := fmt.Sprintf("h%d", i)
		p.Hosts = append(p.Hosts, planning.Host{
			ID: id, Windows: [][2]planning.Millis{{0, 1 << 40}},
			Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: pricing.MustMoney("0.21")}},
		})
		p.Timings = append(p.Timings, planning.Timing{Shot: "s", Host: id, Crew: "g0", Frame: planning.Millis(50_000 + 1000*i)})
	}
	return p
}

// BenchmarkSolve doubles the frames and the hosts of a problem of one shot.
func BenchmarkSolve(b *testing.B) {
	for _, size := range []struct{ frames, hosts int }{{500, 10}, {1000, 10}, {2000, 10}, {1000, 20}} {
		b.Run(fmt.Sprintf("%dframes-%dhosts", size.frames, size.hosts), func(b *testing.B) {
			p := rack(size.frames, size.hosts)
			for b.Loop() {
				if _, err := planning.Solve(context.Background(), p, planning.Options{}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
