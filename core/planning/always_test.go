package planning_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// overfull is shots that take so many times as long as there is until they are due, on owned hosts
// that open each night, or stand open, with few seats and little memory.
func overfull(seed uint64, shots, hosts int, load float64) planning.Problem {
	r := rand.New(rand.NewPCG(seed, 5))
	const hour = planning.Millis(time.Hour / time.Millisecond)
	p := planning.Problem{Format: planning.ProblemFormat, Start: time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC), Currency: "EUR", Goal: planning.Cheapest}
	p.Licences = []planning.Licence{{ID: "fathom", Seats: 1 + r.IntN(4)}}
	rates := make([]float64, hosts)
	for i := range hosts {
		id := fmt.Sprintf("h%02d", i)
		h := planning.Host{ID: id}
		if r.IntN(2) == 0 {
			ram := planning.Memory(16e6 + r.IntN(48)*1e6)
			h.RAM = &ram
		}
		if r.IntN(3) == 0 {
			for night := range planning.Millis(14) {
				h.Windows = append(h.Windows, [2]planning.Millis{night * 24 * hour, night*24*hour + 12*hour})
			}
		} else {
			h.Windows = [][2]planning.Millis{{0, 14 * 24 * hour}}
		}
		gpus := 1 + r.IntN(3)
		for g := range gpus {
			d := fmt.Sprintf("g%d", g)
			h.Crews = append(h.Crews, planning.Crew{ID: d, Devices: []string{d}, BusyPrice: pricing.MustMoney("0.10")})
		}
		if gpus > 1 {
			h.Crews = append(h.Crews, planning.Crew{ID: "g0+g1", Devices: []string{"g0", "g1"}, BusyPrice: pricing.MustMoney("0.20")})
		}
		rates[i] = 0.5 + 1.5*r.Float64()
		p.Hosts = append(p.Hosts, h)
	}
	for i := range shots {
		s := planning.Shot{ID: fmt.Sprintf("s%02d", i), Frames: 50 + r.IntN(400), Deadline: 48 * hour, Priority: r.IntN(2), RAM: planning.Memory(4e6 + r.IntN(24)*1e6)}
		if r.IntN(4) == 0 {
			s.Licence = "fathom"
		}
		// All hosts together take the whole load; each shot its part of it.
		frame := load * 48 * float64(hour) * float64(hosts) * 1.5 / float64(shots) / float64(s.Frames)
		for k, h := range p.Hosts {
			if r.IntN(3) == 0 {
				continue
			}
			for _, c := range h.Crews {
				p.Timings = append(p.Timings, planning.Timing{Shot: s.ID, Host: h.ID, Crew: c.ID, Frame: max(1, planning.Millis(frame/rates[k]/(1+0.85*float64(len(c.Devices)-1))))})
			}
		}
		p.Shots = append(p.Shots, s)
	}
	return p
}

// However much more there is to do than there is time for, and however little time to plan it: there is a plan, or the
// proof that some frame can be rendered nowhere.
func TestThereIsAlwaysAnAnswer(t *testing.T) {
	t.Parallel()
	for seed := range uint64(6) {
		p := overfull(seed, 6+int(seed)*6, 4+int(seed)*8, 0.8+0.2*float64(seed))
		for name, limit := range map[string]time.Duration{"at leisure": 0, "at once": time.Millisecond} {
			if limit == 0 && seed > 3 {
				continue
			}
			plan, err := planning.Solve(t.Context(), p, planning.Options{TimeLimit: limit, Effort: 0.1})
			require.NoError(t, err, "%d %s", seed, name)
			require.NoError(t, planning.Check(p, plan))
			assert.NotEmpty(t, plan.Status)
		}
		ended, cancel := context.WithCancel(t.Context())
		cancel()
		plan, err := planning.Solve(ended, p, planning.Options{})
		require.NoError(t, err, "%d", seed)
		require.NoError(t, planning.Check(p, plan))
	}
}
