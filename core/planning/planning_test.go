package planning_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/planning"
	"rotanex.example/core/planning/planningtest"
	"rotanex.example/core/pricing"
)

func TestSolveOneShot(t *testing.T) {
	plan := planningtest.Solve(t, planningtest.Parse(t, planningtest.Gale))
	assert.Equal(t, planning.Meets, plan.Status)
	// By hand: anvil does 36 + 18 frames before the deadline for 54 × 100 s × 0.12/h =
	// 0.18; 46 frames are left. One server for an hour has 2640 s to use: 44 frames
	// for 2.50. For two hours it does all 46 for 4.50; a farm of two frames beside one
	// hour costs its minimum charge, 3.00; the farm alone does 46 for 46 × (0.0375 + 0.01)
	// = 2.185, raised to 3.00. So: the farm, and with it the least that anvil can do:
	// more frames at 0.0475 stay free up to 63, so anvil does 37 for 0.1233.
	assert.Equal(t, "3.12", plan.Cost.String())
	assert.Equal(t, plan.Cost.String(), plan.CostBound.String(), "one shot is solved exactly")
	assert.Empty(t, plan.Servers)
}

func TestSolveIsDeterministic(t *testing.T) {
	first, err := json.Marshal(planningtest.Solve(t, planningtest.Parse(t, planningtest.Gale)))
	require.NoError(t, err)
	for range 5 {
		again, err := json.Marshal(planningtest.Solve(t, planningtest.Parse(t, planningtest.Gale)))
		require.NoError(t, err)
		require.JSONEq(t, string(first), string(again))
	}
}

func TestSolveSaysWhatCannotBe(t *testing.T) {
	late := planningtest.Parse(t, strings.Replace(planningtest.Gale, `"deadline_s":7200`, `"deadline_s":1500`, 1))
	plan := planningtest.Solve(t, late)
	assert.Equal(t, planning.Late, plan.Status)

	over := planningtest.Parse(t, strings.Replace(planningtest.Gale, `"goal":"cheapest"`, `"goal":"cheapest","budget":"3.11"`, 1))
	plan = planningtest.Solve(t, over)
	assert.Equal(t, planning.OverBudget, plan.Status)
	assert.Equal(t, "3.12", plan.Cost.String())

	fastest := planningtest.Parse(t, strings.Replace(planningtest.Gale, `"goal":"cheapest"`, `"goal":"fastest","budget":"20.00"`, 1))
	quick := planningtest.Solve(t, fastest)
	assert.Equal(t, planning.Meets, quick.Status)
	assert.Less(t, quick.Finish, planningtest.Solve(t, planningtest.Parse(t, planningtest.Gale)).Finish)

	nowhere := planningtest.Parse(t, strings.Replace(planningtest.Gale, `"ram_gb":18`, `"ram_gb":65`, 1))
	nowhere.Farms, nowhere.Timings = nil, nowhere.Timings[:2]
	plan = planningtest.Solve(t, nowhere)
	assert.Equal(t, planning.Impossible, plan.Status)
	assert.Equal(t, "gale-010", plan.Impossible[0].Shot)
	assert.Contains(t, plan.Impossible[0].Why, "enough host memory")
}

func TestSeveralShotsShareMachines(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	second := p.Shots[0]
	second.ID, second.Frames, second.Deadline = "gale-020", 60, 9000_000
	p.Shots = append(p.Shots, second)
	for _, row := range p.Timings {
		row.Shot = "gale-020"
		p.Timings = append(p.Timings, row)
	}
	for _, row := range p.Transfers {
		row.Shot = "gale-020"
		p.Transfers = append(p.Transfers, row)
	}
	plan := planningtest.Solve(t, p)
	assert.Equal(t, planning.Meets, plan.Status)
	assert.LessOrEqual(t, plan.CostBound.Cmp(plan.Cost), 0)
}

// Every way to spoil a good plan is found out, by the rule it breaks.
func TestCheckFindsEveryViolation(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	p.Farms, p.Timings = nil, p.Timings[:2] // so that a server is needed, and the host too
	p.Shots[0].Frames = 150
	p.Offers[0].MaxServers = 1
	p.Licences = []planning.Licence{{ID: "fathom", Seats: 9}}
	p.Shots[0].Licence = "fathom"
	good := planningtest.Solve(t, p)
	require.NotEmpty(t, good.Servers)
	for name, c := range map[string]struct {
		rule  string
		spoil func(plan *planning.Plan, p *planning.Problem)
	}{
		"a frame too few":       {"rule 1", func(x *planning.Plan, _ *planning.Problem) { x.Bookings[0].Frames-- }},
		"no frames":             {"rule 1", func(x *planning.Plan, _ *planning.Problem) { x.Bookings[0].Frames = 0 }},
		"a crew without timing": {"rule 2", func(x *planning.Plan, _ *planning.Problem) { x.Bookings[0].Crew = "g9" }},
		"too short":             {"rule 3", func(x *planning.Plan, _ *planning.Problem) { x.Bookings[0].End-- }},
		"a device used twice":   {"rule 4", func(x *planning.Plan, _ *planning.Problem) { x.Bookings = append(x.Bookings, x.Bookings[0]) }},
		"too little memory":     {"rule 5", func(_ *planning.Plan, p *planning.Problem) { p.Shots[0].RAM = 65_000_000 }},
		"outside open hours":    {"rule 6", func(_ *planning.Plan, p *planning.Problem) { p.Hosts[0].Windows = nil }},
		"before the lead":       {"rule 7", func(x *planning.Plan, _ *planning.Problem) { x.Servers[0].From++ }},
		"too many servers":      {"rule 7", func(_ *planning.Plan, p *planning.Problem) { p.Offers[0].MaxServers = 0 }},
		"a server twice":        {"rule 7", func(x *planning.Plan, _ *planning.Problem) { x.Servers = append(x.Servers, x.Servers[0]) }},
		"before it is ready":    {"rule 9", func(_ *planning.Plan, p *planning.Problem) { p.Shots[0].Ready = 1 }},
		"no upload":             {"rule 10", func(x *planning.Plan, _ *planning.Problem) { x.Uploads = nil }},
		"a short upload":        {"rule 10", func(x *planning.Plan, _ *planning.Problem) { x.Uploads[0].End-- }},
		"too few seats":         {"rule 11", func(_ *planning.Plan, p *planning.Problem) { p.Licences[0].Seats = 0 }},
		"seats that are not let": {"rule 11", func(x *planning.Plan, _ *planning.Problem) {
			x.ExtraSeats = []planning.ExtraSeat{{Licence: "fathom", Seats: 1}}
		}},
		"past the deadline": {"rule 12", func(_ *planning.Plan, p *planning.Problem) { p.Shots[0].Deadline = good.Finish - 1 }},
		"past the budget":   {"rule 13", func(_ *planning.Plan, p *planning.Problem) { p.Budget = new(pricing.MustMoney("0.01")) }},
		"another cost":      {"cost:", func(x *planning.Plan, _ *planning.Problem) { x.Cost = x.Cost.Plus(pricing.MustMoney("0.01")) }},
		"another finish":    {"finish", func(x *planning.Plan, _ *planning.Problem) { x.Finish++ }},
		"a bound too high":  {"cost_bound", func(x *planning.Plan, _ *planning.Problem) { x.CostBound = x.Cost.Plus(pricing.MustMoney("0.01")) }},
		"late without need": {"status", func(x *planning.Plan, _ *planning.Problem) { x.Status = planning.Late }},
		"an unknown status": {"status", func(x *planning.Plan, _ *planning.Problem) { x.Status = "fine" }},
	} {
		spoilt, problem := copied(t, good), copied(t, p)
		c.spoil(&spoilt, &problem)
		assert.ErrorContains(t, planning.Check(problem, spoilt), c.rule, name)
	}
}

func copied[T any](t *testing.T, v T) (out T) {
	t.Helper()
	data, err := json.Marshal(v)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &out))
	return out
}

func TestParseProblemNamesWhatIsWrong(t *testing.T) {
	for _, c := range []struct{ old, new, says string }{
		{`rotanex-problem-1`, `other`, `format "other"`},
		{`"goal":"cheapest"`, `"goal":"best"`, `goal "best"`},
		{`"frames":100`, `"frames":0`, `frames 0`},
		{`"frame_s":100`, `"frame_s":0`, `want above 0`},
		{`"frame_s":100`, `"frame_s":0.0001`, `more than three decimals`},
		{`"frame_s":100`, `"frame_s":"100"`, `not a number of seconds`},
		{`"busy_price_h":"0.12"`, `"busy_price_h":"-1"`, `below 0`},
		{`"busy_price_h":"0.12"`, `"busy_price_h":"cheap"`, `not a decimal`},
		{`"host":"anvil","crew":"g0"`, `"host":"anvil","crew":"g1"`, `no crew "g1" on host "anvil"`},
		{`"host":"anvil","crew"`, `"host":"bench","crew"`, `no host "bench"`},
		{`"devices":["g0"],"busy`, `"devices":[],"busy`, `has no devices`},
		{`"increment_s":3600`, `"increment_s":0`, `increment_s`},
		{`[5400,9000]`, `[9000,5400]`, `window ends before it starts`},
	} {
		_, err := planning.ParseProblem(strings.NewReader(strings.Replace(planningtest.Gale, c.old, c.new, 1)))
		assert.ErrorContains(t, err, c.says)
	}
}

func FuzzParseProblem(f *testing.F) {
	f.Add([]byte(planningtest.Gale))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := planning.ParseProblem(bytes.NewReader(data))
		if err != nil || len(p.Shots) > 2 || len(p.Timings) > 6 || p.Shots[0].Frames > 500 {
			return
		}
		for _, o := range p.Offers {
			if o.MaxServers > 3 {
				return
			}
		}
		if plan, err := planning.Solve(t.Context(), p, planning.Options{}); err == nil {
			require.NoError(t, planning.Check(p, plan))
		}
	})
}

// drawn makes a random problem of one shot, small enough to try everything.
func drawn(t *rapid.T) planning.Problem {
	sec := func(name string, low, high int) planning.Millis {
		return planning.Millis(rapid.IntRange(low, high).Draw(t, name)) * 500
	}
	price := func(name string) pricing.Money {
		return pricing.MustMoney(fmt.Sprintf("%d.%02d", rapid.IntRange(0, 40).Draw(t, name), rapid.IntRange(0, 99).Draw(t, name+" cents")))
	}
	p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest, Shots: []planning.Shot{{
		ID: "s", Frames: rapid.IntRange(1, 7).Draw(t, "frames"), Ready: sec("ready", 0, 4), Deadline: sec("deadline", 20, 60),
	}}}
	for i := range rapid.IntRange(0, 2).Draw(t, "hosts") {
		id := fmt.Sprintf("h%d", i)
		open := sec("open", 0, 30)
		p.Hosts = append(p.Hosts, planning.Host{
			ID: id, Windows: [][2]planning.Millis{{open, open + sec("length", 0, 60)}},
			Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}, BusyPrice: price("busy")}},
		})
		p.Timings = append(p.Timings, planning.Timing{Shot: "s", Host: id, Crew: "g0", Frame: sec("frame", 3, 20)})
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "offers") {
		id := fmt.Sprintf("o%d", i)
		step := sec("increment", 1, 20)
		crews := []planning.Crew{{ID: "g0", Devices: []string{"g0"}}, {ID: "g1", Devices: []string{"g1"}}}
		o := planning.Offer{
			ID: id, Source: "tern", MaxServers: rapid.IntRange(1, 2).Draw(t, "servers"), Lead: sec("lead", 0, 8), Wrap: sec("wrap", 0, 3),
			Price: price("hour").Times(50), Fee: price("fee"), Increment: &step, Minimum: sec("minimum", 0, 40), Crews: crews[:rapid.IntRange(1, 2).Draw(t, "crews")],
		}
		p.Offers = append(p.Offers, o)
		for _, c := range o.Crews {
			p.Timings = append(p.Timings, planning.Timing{Shot: "s", Offer: id, Crew: c.ID, Frame: sec("frame", 3, 20)})
		}
	}
	if rapid.Bool().Draw(t, "farm") {
		p.Farms = []planning.Farm{{
			ID: "f", Source: "saltmarsh", Nodes: rapid.IntRange(1, 3).Draw(t, "nodes"), Lead: sec("lead", 0, 8),
			NodePrice: price("node").Times(40), FramePrice: price("frame price"), MinimumCharge: price("least"),
		}}
		p.Timings = append(p.Timings, planning.Timing{Shot: "s", Farm: "f", Frame: sec("frame", 3, 20)})
	}
	p.Transfers = []planning.Transfer{{Shot: "s", Source: "tern", Upload: sec("upload", 0, 10), Delivery: sec("delivery", 0, 4)}}
	return p
}

// cheapestByTrying is the least cost of meeting the deadline, found by trying every
// division of the frames over every place: the long way round, written apart from
// the solver. Nil where no division is in time.
func cheapestByTrying(p planning.Problem) *big.Rat {
	type place struct {
		most int                       // frames that fit before the deadline
		cost func(frames int) *big.Rat // of so many frames there
	}
	shot := p.Shots[0]
	upload, delivery := p.Transfers[0].Upload, p.Transfers[0].Delivery
	var places []place
	hours := func(price pricing.Money, ms planning.Millis) *big.Rat {
		return new(big.Rat).Mul(price.Rat(), big.NewRat(int64(ms), 3_600_000))
	}
	frames := map[string]planning.Millis{}
	for _, t := range p.Timings {
		frames[t.Host+t.Offer+t.Farm+t.Crew] = t.Frame
	}
	for _, h := range p.Hosts {
		f := frames[h.ID+"g0"]
		room := min(h.Windows[0][1], shot.Deadline) - max(h.Windows[0][0], shot.Ready)
		places = append(places, place{int(max(0, room) / f), func(n int) *big.Rat { return hours(h.Crews[0].BusyPrice, planning.Millis(n)*f) }})
	}
	for _, o := range p.Offers {
		room := max(0, shot.Deadline-delivery-max(o.Lead, shot.Ready+upload))
		most := 0
		for _, c := range o.Crews {
			most += int(room / frames[o.ID+c.ID])
		}
		for range o.MaxServers {
			places = append(places, place{most, func(n int) *big.Rat {
				if n == 0 {
					return new(big.Rat)
				}
				// The shortest work in which the crews do n frames, by trying every instant.
				var work planning.Millis
				for done := 0; done < n; {
					work += 500
					done = 0
					for _, c := range o.Crews {
						done += int(work / frames[o.ID+c.ID])
					}
				}
				step := *o.Increment
				billed := max(o.Minimum, (o.Lead+work+o.Wrap+step-1)/step*step)
				return new(big.Rat).Add(hours(o.Price, billed), o.Fee.Rat())
			}})
		}
	}
	for _, f := range p.Farms {
		each := frames[f.ID]
		room := max(0, shot.Deadline-max(f.Lead, shot.Ready))
		places = append(places, place{f.Nodes * int(room/each), func(n int) *big.Rat {
			if n == 0 {
				return new(big.Rat)
			}
			charge := new(big.Rat).Add(hours(f.NodePrice, planning.Millis(n)*each), f.FramePrice.Times(int64(n)).Rat())
			if least := f.MinimumCharge.Rat(); charge.Cmp(least) < 0 {
				return least
			}
			return charge
		}})
	}
	var best *big.Rat
	var try func(i, left int, cost *big.Rat)
	try = func(i, left int, cost *big.Rat) {
		if left == 0 {
			if best == nil || cost.Cmp(best) < 0 {
				best = cost
			}
			return
		}
		if i == len(places) {
			return
		}
		for n := 0; n <= min(left, places[i].most); n++ {
			try(i+1, left-n, new(big.Rat).Add(cost, places[i].cost(n)))
		}
	}
	try(0, shot.Frames, new(big.Rat))
	return best
}

func TestSmallProblemsAgainstTryingEverything(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		plan := planningtest.Solve(t, p)
		best := cheapestByTrying(p)
		if best == nil {
			assert.NotEqual(t, planning.Meets, plan.Status)
			return
		}
		require.Equal(t, planning.Meets, plan.Status)
		want := pricing.FromRat(best)
		assert.Equal(t, want.String(), plan.Cost.String())
		assert.LessOrEqual(t, plan.CostBound.Cmp(want.Rounded()), 0, "bound %s, cost %s", plan.CostBound, want)
	})
}

// Any number of shots with gangs, memory and seats: whatever is answered is valid,
// and no bound is above the cost of a plan that is in time.
func TestWhateverIsAnsweredIsValid(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := drawn(t)
		ram := planning.Memory(rapid.IntRange(10, 40).Draw(t, "ram")) * 1_000_000
		for i := range p.Hosts {
			p.Hosts[i].RAM = &ram
			p.Hosts[i].Crews = append(p.Hosts[i].Crews,
				planning.Crew{ID: "g1", Devices: []string{"g1"}}, planning.Crew{ID: "g0+g1", Devices: []string{"g0", "g1"}})
		}
		p.Licences = []planning.Licence{{ID: "fathom", Seats: rapid.IntRange(1, 3).Draw(t, "seats")}}
		for i := range rapid.IntRange(0, 2).Draw(t, "more shots") {
			shot := p.Shots[0]
			shot.ID, shot.RAM = fmt.Sprintf("s%d", i), planning.Memory(rapid.IntRange(1, 30).Draw(t, "needs"))*1_000_000
			if rapid.Bool().Draw(t, "licensed") {
				shot.Licence = "fathom"
			}
			p.Shots = append(p.Shots, shot)
		}
		for _, s := range p.Shots[1:] {
			for _, row := range p.Timings {
				if row.Shot == "s" {
					row.Shot = s.ID
					p.Timings = append(p.Timings, row)
					if row.Host != "" && rapid.Bool().Draw(t, "gang") {
						row.Crew, row.Frame = "g0+g1", row.Frame*2/3
						p.Timings = append(p.Timings, row)
					}
				}
			}
		}
		plan, err := planning.Solve(context.Background(), p, planning.Options{Effort: 0.3})
		if err != nil {
			require.ErrorContains(t, err, "no plan found")
			return
		}
		require.NoError(t, planning.Check(p, plan))
	})
}

// The planning problems with known optimum, and their judge, lie beside a checkout
// of the project where it is developed; without them there is nothing to do here.
func TestKnownProblems(t *testing.T) {
	folder := filepath.Join("..", "..", "..", "shared", "planning")
	files, _ := filepath.Glob(filepath.Join(folder, "public", "[glmrstx]-*.json"))
	python, err := exec.LookPath("python3")
	if len(files) == 0 || err != nil {
		t.Skip("no known problems here")
	}
	if testing.Short() {
		t.Skip("the known problems take a quarter of a minute")
	}
	t.Parallel()
	for _, file := range files {
		if strings.HasSuffix(file, ".best.json") {
			continue
		}
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		plan := planningtest.Solve(t, planningtest.Parse(t, string(data)))
		answer, err := json.Marshal(plan)
		require.NoError(t, err)
		to := filepath.Join(t.TempDir(), "plan.json")
		require.NoError(t, os.WriteFile(to, answer, 0o600))
		said, err := exec.Command(python, filepath.Join(folder, "judge.py"), file, to, "--best", strings.TrimSuffix(file, ".json")+".best.json").CombinedOutput()
		require.NoError(t, err, "%s", said)
		var ratio float64
		if _, after, ok := strings.Cut(string(said), "ratio="); ok {
			_, _ = fmt.Sscanf(after, "%f", &ratio)
		}
		// Passing seats around is where the planner is weakest; see docs/planning.md.
		most := 1.02
		if strings.HasPrefix(filepath.Base(file), "l-") {
			most = 1.15
		}
		assert.LessOrEqual(t, ratio, most, "%s: %s", filepath.Base(file), said)
	}
}

// It gives its best so far whenever its context ends, and no worse with more time.
func TestTimeAndContext(t *testing.T) {
	p := planningtest.Parse(t, planningtest.Gale)
	p.Shots[0].Licence, p.Licences = "fathom", []planning.Licence{{ID: "fathom", Seats: 1, ExtraSeats: 2, ExtraSeatPrice: pricing.MustMoney("0.40")}}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	hasty, err := planning.Solve(ended, p, planning.Options{})
	require.NoError(t, err)
	require.NoError(t, planning.Check(p, hasty))
	patient, err := planning.Solve(t.Context(), p, planning.Options{TimeLimit: 300 * time.Millisecond})
	require.NoError(t, err)
	assert.LessOrEqual(t, patient.Cost.Cmp(hasty.Cost), 0)
	assert.GreaterOrEqual(t, patient.CostBound.Cmp(hasty.CostBound), 0)
}

// A server's crews were given frames of a licensed shot on both sides of a time in which
// all seats are held: it holds its seat in between as well.
func TestASeatIsHeldBetweenFrames(t *testing.T) {
	data, err := os.ReadFile(filepath.Join("testdata", "seat-beside-a-gap.json"))
	require.NoError(t, err)
	var p planning.Problem
	require.NoError(t, json.Unmarshal(data, &p))
	plan, err := planning.Solve(t.Context(), p, planning.Options{})
	require.NoError(t, err)
	require.NoError(t, planning.Check(p, plan))
	assert.Equal(t, planning.Meets, plan.Status)
}
