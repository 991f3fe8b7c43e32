package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
)

// slowToOpen takes 3 s to open and half a second for a frame on a rate of 1.
const slowToOpen = "title: slow to open\nframes: 400\nprepare_s: 3\nwork_s: 0.45\nfinish_s: 0.05\nhue: 0.3\n"

// started is how long rendering took, in how many starts, and how long it takes at best by what frames and opening took on each host:
// each opens the scene once, and all end at once.
type started struct {
	took, best time.Duration
	starts     int
}

// startsOn renders frames of it on hosts of one GPU each.
func startsOn(b *testing.B, allowed launchers.Launcher, frames int, models ...string) (out started) {
	h := newHouse(b)
	films := b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(films, "slow.yaml"), []byte(slowToOpen), 0o600))
	var crews []string
	for i, model := range models {
		name := fmt.Sprintf("host-%d", i+1)
		h.runAgentWith(stock.Host{
			Name: name, Source: "loft", CPU: stock.CPU{Model: "Keel 8", Cores: 8, Watts: 90}, MemoryGB: 32,
			Devices: []stock.Device{{ID: "g0", Model: model, MemoryGB: 24, Backends: []string{"compute2"}, LinkWidth: 16, Watts: 300}},
		}, films, allowed)
		crews = append(crews, name+"/g0")
	}
	must[api.Shot](b)(h.admin().PutShot(b.Context(), "slow-010", &api.PutShotParams{}, api.ShotSpec{
		Name: "slow-010", Scene: "slow.yaml", Frames: fmt.Sprintf("1-%d", frames), Width: 64, Height: 36, Launcher: "simulated",
	}))
	h.timed("slow-010", crews...)
	plan := must[api.Plan](b)(h.admin().CreatePlan(b.Context(), &api.CreatePlanParams{}, api.NewPlan{
		Shots: []string{"slow-010"}, By: h.now().Add(time.Hour), Devices: "gpu", Goal: api.NewPlanGoalFastest, Budget: "50.00",
	}))
	run := h.awaitOver(must[api.Run](b)(h.admin().StartRun(b.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: plan.OutsideCost})))
	eachDoneOnce(b, h.database, run, frames)
	seconds := query[float64](b, h.database, "SELECT extract(epoch FROM max(done_at))::float8 - extract(epoch FROM $2::timestamptz)::float8 FROM frames WHERE run_id = $1", run.Id, run.Created)
	best := query[float64](b, h.database, `SELECT avg(opening) + ($2 / sum(1 / frame))::float8 FROM (
		SELECT avg((measured->>'seconds')::float8 - coalesce((measured->>'opening_part_s')::float8, 0)) AS frame, coalesce(max((measured->>'opening_s')::float8), 0) AS opening
		FROM tries WHERE run_id = $1 AND outcome = 'done' GROUP BY host) x`, run.Id, frames)
	alone := query[int](b, h.database, "SELECT count(*) FROM frames WHERE run_id = $1 AND start = 0", run.Id)
	return started{
		took: time.Duration(seconds * float64(time.Second)), best: time.Duration(best * float64(time.Second)),
		starts: alone + query[int](b, h.database, "SELECT count(DISTINCT (start, host)) FROM frames WHERE run_id = $1 AND start > 0", run.Id),
	}
}

// A scene that is slow to open on one crew, with a start for each frame and with starts of several.
func BenchmarkStartsOfSeveral(b *testing.B) {
	all, err := launchers.Shipped()
	require.NoError(b, err)
	several, one := all["simulated"], all["simulated"]
	one.Several = nil
	for b.Loop() {
		was, is := startsOn(b, one, 24, "Halyard 24"), startsOn(b, several, 24, "Halyard 24")
		b.ReportMetric(was.took.Seconds()/24, "s/frame-alone")
		b.ReportMetric(is.took.Seconds()/24, "s/frame")
		b.ReportMetric(float64(was.took)/float64(is.took), "times-as-fast")
		b.ReportMetric(float64(is.starts), "starts")
	}
}

// 400 frames on four unequal crews, beside the best division: of what frames took, and of what the scene says that they take, to which
// starting a process, writing a picture and the like of this machine add.
func BenchmarkTheLastFrameOfAStart(b *testing.B) {
	all, err := launchers.Shipped()
	require.NoError(b, err)
	const frames = 400
	rate := 0.0
	for _, r := range []float64{1, 0.56, 1.38, 0.31} {
		rate += 1 / (0.45/r + 0.05)
	}
	for b.Loop() {
		x := startsOn(b, all["simulated"], frames, "Halyard 24", "Halyard 12", "Topsail 24", "Halyard 8")
		b.ReportMetric(x.took.Seconds(), "s")
		b.ReportMetric(float64(x.took)/float64(x.best), "times-best")
		b.ReportMetric(x.took.Seconds()/(3+frames/rate), "times-best-by-the-scene")
		b.ReportMetric(float64(x.starts), "starts")
	}
}
