package bench

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/processes"
)

//go:embed history.sql
var history string

// Of the state that lists are measured on.
const (
	listHosts  = 24
	listShots  = 40
	smallShot  = "reel-001"
	smallCount = 100
)

// Lists measures what pages, lists and commands ask, with one large run open and many that ended.
func Lists(ctx context.Context, c Config) (lines []Line, err error) {
	w, err := open(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	w.Agents, w.Idle = listHosts, 0
	h, err := w.start(ctx, "lists")
	if err != nil {
		return nil, err
	}
	big, begun, err := h.studio(ctx)
	if err != nil {
		return nil, err
	}
	lines = append(lines, begun)
	present, err := h.present(ctx)
	if err != nil {
		return nil, err
	}
	if c.Hold {
		h.say("  %s with the token %s; Ctrl-C ends it", h.address, h.token)
		<-ctx.Done()
		return nil, present.end()
	}
	measure, is := map[string]func(context.Context, string) ([]Line, error){"console": h.console, "viewers": h.viewed}[c.Only]
	if !is {
		measure = h.calls
	}
	found, err := measure(ctx, big)
	return append(lines, found...), errors.Join(err, present.end())
}

func shotName(n int) string { return fmt.Sprintf("coda-%03d", n) }

// studio makes hosts, shots and times, a plan of all shots and a run of it, and a history of others behind it.
func (h *house) studio(ctx context.Context) (big string, begun Line, err error) {
	if err := h.fill(ctx, map[string]any{"rendering": 1, "frames": 0, "shots": 1}); err != nil {
		return "", begun, err
	}
	admin, err := h.as(h.token)
	if err != nil {
		return "", begun, err
	}
	if _, err := sql(ctx, h.database, "DELETE FROM runs;", nil); err != nil {
		return "", begun, err
	}
	var hands []*hand
	for n := range listHosts {
		a, err := h.hand(n + 1)
		if err != nil {
			return "", begun, err
		}
		hands = append(hands, a)
	}
	var names []string
	put := func(name string, frames int) error {
		_, err := client.Decode[api.Shot](admin.PutShot(ctx, name, &api.PutShotParams{}, api.ShotSpec{Name: name, Scene: "coda.yaml", Frames: fmt.Sprintf("1-%d", frames), Width: 64, Height: 36, Launcher: "simulated"}))
		if err != nil {
			return err
		}
		return h.timed(ctx, admin, hands[0], name)
	}
	for n := range listShots {
		if err := put(shotName(n+1), h.Frames/listShots); err != nil {
			return "", begun, err
		}
		names = append(names, shotName(n+1))
	}
	if err := put(smallShot, smallCount); err != nil {
		return "", begun, err
	}
	for _, a := range hands { // each looks for the files of the shots
		for range 2 {
			if err := a.beat(ctx); err != nil {
				return "", begun, err
			}
		}
	}
	small, _, err := h.run(ctx, admin, smallShot)
	if err != nil {
		return "", begun, err
	}
	big, took, err := h.run(ctx, admin, names...)
	if err != nil {
		return "", begun, err
	}
	h.say("  a run of %d frames in %d shots began in %s", h.Frames, listShots, took.Round(time.Millisecond))
	began := time.Now()
	_, err = sql(ctx, h.database, history, map[string]any{"open": big, "small": small, "ended": h.Ended})
	h.say("  its history in %s", time.Since(began).Round(time.Second))
	if err == nil {
		err = h.settled(ctx)
	}
	return big, atMost(fmt.Sprintf("beginning a run of %d frames", h.Frames), "s", 20, []float64{took.Seconds()}), err
}

// settled waits until the service has written down what the runs that ended came to, as it does with those of long ago.
func (h *house) settled(ctx context.Context) error {
	return until(ctx, "what past runs came to", func() bool {
		n, err := sql(ctx, h.database, "SELECT count(*) >= :ended FROM settled WHERE part = 'run';", map[string]any{"ended": h.Ended})
		return err == nil && strings.TrimSpace(n) == "t"
	})
}

// timed has a shot timed on a host, two frames after the one that warms up.
func (h *house) timed(ctx context.Context, admin *client.Client, a *hand, shot string) error {
	if _, err := client.Decode[api.Trial](admin.CreateTrial(ctx, &api.CreateTrialParams{}, api.NewTrial{Shot: shot, Host: a.name, Crew: "g0", Frames: 2})); err != nil {
		return err
	}
	for left := 3; left > 0; {
		leases, err := a.lease(ctx)
		if err != nil {
			return err
		}
		for _, l := range leases {
			if err := a.deliver(ctx, l); err != nil {
				return err
			}
			left--
		}
		a.held = nil
	}
	return nil
}

// run plans shots and starts a run of the plan; took is how long that start took.
func (h *house) run(ctx context.Context, admin *client.Client, shots ...string) (id string, took time.Duration, err error) {
	frames := h.Frames / listHosts * 10
	by := time.Now().Add(time.Duration(frames)*2*time.Second + time.Hour)
	plan, err := client.Decode[api.Plan](admin.CreatePlan(ctx, &api.CreatePlanParams{}, api.NewPlan{Shots: shots, By: by, TimeLimitS: 5}))
	if err != nil {
		return "", 0, err
	}
	if plan.Status == api.PlanStatusImpossible {
		return "", 0, fmt.Errorf("no plan: %+.600v", plan.LeftOut)
	}
	began := time.Now()
	run, err := client.Decode[api.Run](admin.StartRun(ctx, &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id}))
	return run.Id.String(), time.Since(began), err
}

// calls times the calls that pages make, and the commands.
func (h *house) calls(ctx context.Context, big string) (lines []Line, err error) {
	for _, call := range []struct {
		what  string
		path  string
		asked float64 // milliseconds
	}{
		{"GET /runs?limit=100", "/runs?limit=100", 30},
		{"GET /runs/BIG", "/runs/" + big, 20},
		{"GET /runs/BIG/ledger", "/runs/" + big + "/ledger", 300},
		{"GET /runs/BIG/frames?limit=1000", "/runs/" + big + "/frames?limit=1000", 300},
		{"GET /schedule", "/schedule", 300},
		{"GET /entries", "/entries", 300},
		{"GET /plans?limit=100", "/plans?limit=100", 300},
		{"GET /shots", "/shots", 300},
		{"GET /hosts", "/hosts", 300},
		{"GET /shots/S/comparison", "/shots/" + shotName(1) + "/comparison", 1000},
		{"GET /metrics", "/metrics", 10},
	} {
		var all []float64
		first := 0.0
		for n := range 2 + 3*h.Rounds {
			took, size, err := h.get(ctx, call.path)
			if err != nil {
				return lines, fmt.Errorf("%s: %w", call.what, err)
			}
			if n == 0 {
				first = took
				h.say("  %s: first %.0f ms, %d KB", call.what, took, size/1000)
				continue
			}
			if all = append(all, took); took > 10_000 {
				break
			}
		}
		line := atMost(call.what, "ms", call.asked, []float64{median(all)})
		line.Found += fmt.Sprintf(", first %.0f ms", first)
		lines = append(lines, line)
	}
	for _, args := range [][]string{{"runs", "list"}, {"runs", "show", big}, {"ledger", big}, {"frames", "list", big}} {
		began := time.Now()
		cmd := exec.CommandContext(ctx, filepath.Join(h.Bin, "rotanex"), args...)
		cmd.Env = append(processes.Environment(h.Bin), "ROTANEX_SERVICE="+h.address, "ROTANEX_TOKEN="+h.token)
		said, err := cmd.CombinedOutput()
		if err != nil {
			return lines, fmt.Errorf("rotanex %s: %w: %.300s", strings.Join(args, " "), err, said)
		}
		lines = append(lines, atMost("rotanex "+strings.Replace(strings.Join(args, " "), big, "BIG", 1), "ms", 300, []float64{float64(time.Since(began).Milliseconds())}))
	}
	_, memory := usage(h.service.Pid())
	agent, err := h.agent(ctx)
	return append(lines, atMost("the service holds", "MB", 300, []float64{float64(memory) / 1e6}), atMost("an agent holds", "MB", 40, []float64{agent})), err
}

// agent has a host join with an agent as it ships, and says how many megabytes that holds.
func (h *house) agent(ctx context.Context) (megabytes float64, err error) {
	const host = "host-joined"
	admin, err := h.as(h.token)
	if err != nil {
		return 0, err
	}
	join, err := client.Decode[api.MadeToken](admin.CreateToken(ctx, api.NewToken{Name: "join", Role: "agent", Host: host}))
	if err != nil {
		return 0, err
	}
	program, err := h.group.Start(host, processes.Environment(h.Bin), filepath.Join(h.Bin, "rotanex-agent"), "--service", h.address, "--host", host, "--join-token", join.Secret,
		"--state-dir", filepath.Join(h.State, host), "--allow", "simulated")
	if err != nil {
		return 0, err
	}
	err = until(ctx, host, func() bool {
		joined, err := client.Decode[api.Host](admin.GetHost(ctx, host))
		return err == nil && joined.Agent == "up"
	})
	rest(ctx, max(10*time.Second, h.For))
	_, memory := usage(program.Pid())
	return float64(memory) / 1e6, err
}

// get asks for a path and reads the answer: milliseconds and bytes.
func (h *house) get(ctx context.Context, path string) (took float64, size int64, err error) {
	at := h.address + "/api/v1" + path
	if path == "/metrics" {
		at = h.address + path
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return 0, 0, err
	}
	request.Header.Set("Authorization", "Bearer "+h.token)
	began := time.Now()
	answer, err := (&http.Client{Transport: wire}).Do(request)
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = answer.Body.Close() }()
	size, err = io.Copy(io.Discard, answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("answered with %s", answer.Status)
	}
	return float64(time.Since(began).Microseconds()) / 1000, size, err
}
