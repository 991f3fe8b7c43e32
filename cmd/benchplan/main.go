// Benchplan solves every problem of a folder, one after another on one core, and
// prints what came of it as a table in Markdown; then how time grows with the
// shots, hosts and frames of a made-up problem. Where judge.py lies beside the
// folder it judges every answer.
//
//	go run ./cmd/benchplan ../shared/planning/public
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

func main() {
	number := flag.Int("drawn", 40, "how many problems of each kind an exact solver is held against")
	flag.Parse()
	runtime.GOMAXPROCS(1)
	err := error(nil)
	if flag.NArg() == 1 {
		err = known(flag.Arg(0))
	}
	if err = errors.Join(err, beside(*number), again()); err != nil {
		fmt.Fprintln(os.Stderr, "benchplan:", err)
		os.Exit(1)
	}
	growth()
}

func known(folder string) error {
	files, err := filepath.Glob(filepath.Join(folder, "*.json"))
	if err != nil {
		return err
	}
	return inFolder(func(plans string) error { return knownIn(folder, files, plans) })
}

// inFolder does something with a folder that is there as long.
func inFolder(do func(folder string) error) error {
	folder, err := os.MkdirTemp("", "benchplan-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(folder) }()
	return do(folder)
}

func knownIn(folder string, files []string, plans string) error {
	fmt.Println("| problem | seconds | cost | bound | judge |\n|---|---:|---:|---:|---|")
	judge := filepath.Join(folder, "..", "judge.py")
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".json")
		if strings.HasSuffix(name, ".best") {
			continue
		}
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		problem, err := planning.ParseProblem(f)
		_ = f.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		begun := time.Now()
		plan, err := planning.Solve(context.Background(), problem, planning.Options{})
		took := time.Since(begun)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		data, err := json.Marshal(plan)
		if err != nil {
			return err
		}
		to := filepath.Join(plans, name+".json")
		if err := os.WriteFile(to, data, 0o600); err != nil {
			return err
		}
		said := "–"
		if _, err := os.Stat(judge); err == nil {
			out, _ := exec.Command("python3", judge, file, to, "--best", strings.TrimSuffix(file, ".json")+".best.json").Output()
			lines := strings.Split(strings.TrimSpace(string(out)), "\n")
			said = lines[len(lines)-1]
		}
		fmt.Printf("| %s | %.2f | %s | %s | %s |\n", name, took.Seconds(), plan.Cost, plan.CostBound, said)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	fmt.Printf("\nMemory taken from the system: %d MB.\n", m.Sys>>20)
	if _, err := os.Stat(judge); err == nil {
		out, _ := exec.Command("python3", judge, "--all", folder, plans).Output()
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		fmt.Println("\n    " + lines[len(lines)-1])
	}
	return nil
}

// growth doubles the shots, hosts and frames of a made-up problem, each by itself.
func growth() {
	fmt.Println("\n| shots | hosts | frames a shot | seconds | bound gap |\n|---:|---:|---:|---:|---:|")
	measure := func(shots, hosts, frames int) float64 {
		p := weekend(shots, hosts, frames)
		begun := time.Now()
		plan, err := planning.Solve(context.Background(), p, planning.Options{})
		took := time.Since(begun).Seconds()
		if err != nil {
			fmt.Println(err)
			return took
		}
		fmt.Printf("| %d | %d | %d | %.2f | %.1f %% |\n", shots, hosts, frames, took, 100*(1-plan.CostBound.Float()/plan.Cost.Float()))
		return took
	}
	base := measure(30, 20, 200)
	by := map[string]float64{"shots": measure(60, 20, 200), "hosts": measure(30, 40, 200), "frames": measure(30, 20, 400)}
	fmt.Println()
	for _, what := range []string{"shots", "hosts", "frames"} {
		fmt.Printf("Twice the %s take %.2f times as long: exponent %.2f.\n", what, by[what]/base, math.Log2(by[what]/base))
	}
}

// weekend is shots on hosts that are free at night, with an offer.
func weekend(shots, hosts, frames int) planning.Problem {
	r := rand.New(rand.NewPCG(1, 2))
	hour := planning.Millis(3_600_000)
	p := planning.Problem{Format: planning.ProblemFormat, Currency: "EUR", Goal: planning.Cheapest}
	step := hour
	p.Offers = []planning.Offer{{
		ID: "tern-quad", Source: "tern", MaxServers: shots, Lead: 900_000, Price: pricing.MustMoney("8.20"), Increment: &step, Minimum: 3 * hour,
		Crews: []planning.Crew{{ID: "g0", Devices: []string{"g0"}}, {ID: "g1", Devices: []string{"g1"}}},
	}}
	for i := range hosts {
		h := planning.Host{ID: fmt.Sprintf("h%03d", i), Windows: [][2]planning.Millis{{0, 14 * hour}, {24 * hour, 38 * hour}}}
		for g := range 1 + i%2 {
			id := fmt.Sprintf("g%d", g)
			h.Crews = append(h.Crews, planning.Crew{ID: id, Devices: []string{id}, BusyPrice: pricing.MustMoney(fmt.Sprintf("0.%02d", 10+r.IntN(40)))})
		}
		p.Hosts = append(p.Hosts, h)
	}
	for i := range shots {
		id := fmt.Sprintf("s%03d", i)
		// As much work as the hosts can do in four fifths of their time.
		work := float64(hosts) * 1.5 * 28 * 3600 * 0.8 / float64(shots*frames)
		p.Shots = append(p.Shots, planning.Shot{ID: id, Frames: frames, Deadline: []planning.Millis{14, 30, 38}[i%3] * hour})
		p.Timings = append(p.Timings, planning.Timing{Shot: id, Offer: "tern-quad", Crew: "g0", Frame: planning.Millis(work * 500)},
			planning.Timing{Shot: id, Offer: "tern-quad", Crew: "g1", Frame: planning.Millis(work * 500)})
		for _, h := range p.Hosts {
			for _, c := range h.Crews {
				p.Timings = append(p.Timings, planning.Timing{Shot: id, Host: h.ID, Crew: c.ID, Frame: planning.Millis(work * 1000 * (0.5 + r.Float64()))})
			}
		}
	}
	return p
}
