package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/service/app"
	"rotanex.example/simulator"
)

// gannet is a farm whose nodes are like eddy's one device. It bills by core-GHz-hour
// in crowns.
var gannet = stock.Farm{
	Name: "gannet-day", Source: "gannet", Nodes: 6, LeadS: 60, CPU: stock.CPU{Model: "Keel 24", Cores: 24, MHz: 3000}, MemoryGB: 128, Devices: eddy.Devices, Launchers: []string{"simulated"},
	Work: pricing.Work{CoreGHzHour: pricing.MustMoney("0.05"), MinimumCharge: pricing.MustMoney("1.00")},
}

// Costs are the same wherever they are told: with tax, and with a farm's minimum charge.
func TestCostsAreTheSameEverywhere(t *testing.T) {
	h, _, run := farmHouse(t, nil)
	farm := crewOf(t, h.comparison("coda-060"), "gannet-day/"+gannet.Crew().ID)
	untaxed := gannet.HourPrice().Float()*farm.Seconds/3600 + gannet.Work.Frame.Float()
	cost, err := strconv.ParseFloat(farm.FrameCost, 64)
	require.NoError(t, err)
	assert.InDelta(t, untaxed*1.25/11.5, cost, 1e-4, "tax and exchange rate are in it")

	plan := must[api.Plan](t)(h.admin().GetPlan(t.Context(), run.Plan))
	ledger := must[api.Ledger](t)(h.admin().GetLedger(t.Context(), run.Id))
	entries := must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Run: &run.Id}))
	assert.Equal(t, plan.Cost, run.PlannedCost)
	assert.Equal(t, plan.Cost, ledger.PlannedCost)
	assert.Equal(t, plan.Cost, entries.Estimated)
	top := ""
	for _, s := range plan.Sources {
		top += s.MinimumCharge
	}
	assert.NotEmpty(t, top, "the farm's minimum charge is more than the work planned there")
}

// farmFactor is how many times as fast as life these tests are.
const farmFactor = 60

// farmHouse is a house with a run that needs the farm beside eddy, whose agent never
// takes a frame.
func farmHouse(t *testing.T, change func(*simulator.Farm)) (*house, *simulator.Farm, api.Run) {
	t.Helper()
	return farmHouseBehind(t, change, func(farm http.Handler) http.Handler { return farm })
}

// farmHouseBehind is one whose farm is reached through something in front of it.
func farmHouseBehind(t *testing.T, change func(*simulator.Farm), front func(http.Handler) http.Handler) (*house, *simulator.Farm, api.Run) {
	t.Helper()
	h, f := farmBeside(t, change, front, func(h *house, _ string) { h.trialByHand(h.hand(eddy), "coda-060", "eddy", "g0") })
	plan, run := h.started(300*time.Second, "coda-060")
	require.Equal(t, api.PlanStatusMeets, plan.Status)
	require.NotEmpty(t, plan.OutsideCost, "the farm is needed to be in time")
	return h, f, run
}

// farmBeside is a house with a farm and a shot that timing has timed on eddy.
func farmBeside(t *testing.T, change func(*simulator.Farm), front func(http.Handler) http.Handler, timing func(h *house, films string)) (*house, *simulator.Farm) {
	t.Helper()
	films := scenes(t)
	f := &simulator.Farm{Tiers: map[string]stock.Farm{"gannet-day": gannet}, ClockFactor: farmFactor, Folder: t.TempDir(), Analysis: 10 * time.Second, Queue: 5 * time.Second, Log: slog.New(slog.DiscardHandler), Secret: "crowns"}
	if change != nil {
		change(f)
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	server := httptest.NewServer(front(f.Handler(ctx)))
	t.Cleanup(func() { server.Close(); stop(); f.Wait() })
	h := newHouse(t, func(c *app.Config) { c.ClockFactor = farmFactor })
	secret := "crowns"
	must[api.Source](t)(h.admin().PutSource(t.Context(), "gannet", api.NewSource{Secret: &secret, Spec: api.SourceSpec{Name: "gannet", Kind: "farm", Address: server.URL, Card: api.RateCard{Currency: "NOK", Tax: "0.25"}}}))
	spec, err := convert[api.Farm](gannet)
	require.NoError(t, err)
	must[api.Farm](t)(h.admin().PutFarm(t.Context(), "gannet-day", spec))
	h.putShot("coda-060", "1-40", nil)
	timing(h, films)
	// Without an exchange rate it cannot be priced, and so is not used.
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(150 * time.Second)}))
	assert.Contains(t, plan.LeftOut[len(plan.LeftOut)-1].Why, "no exchange rate from NOK to EUR")
	rates := bytes.NewReader([]byte("date,from,to,rate\n2020-01-01,EUR,NOK,11.50\n"))
	must[map[string]any](t)(h.admin().ImportRatesWithBody(t.Context(), "text/csv", rates))
	h.putPackage("coda-060", films)
	return h, f
}

// putPackage stores the only scene as the shot's package.
func (h *house) putPackage(shot, films string) {
	h.t.Helper()
	data, err := os.ReadFile(filepath.Join(films, "coda.yaml"))
	require.NoError(h.t, err)
	sum := sha256.Sum256(data)
	name := hex.EncodeToString(sum[:])
	files := []api.PackageFile{{Path: "coda.yaml", Size: int64(len(data)), Chunks: []string{name}}}
	early := refused(h.t, 409)(h.admin().PutPackage(h.t.Context(), shot, api.NewPackage{Files: files}))
	assert.Contains(h.t, early.Error(), "are not here yet")
	wrong := refused(h.t, 422)(h.admin().PutChunkWithBody(h.t.Context(), name, "application/octet-stream", bytes.NewReader(data[1:])))
	assert.Contains(h.t, wrong.Error(), "SHA-256")
	require.NoError(h.t, client.Check(h.admin().PutChunkWithBody(h.t.Context(), name, "application/octet-stream", bytes.NewReader(data))))
	lacking := refused(h.t, 422)(h.admin().PutPackage(h.t.Context(), shot, api.NewPackage{Files: []api.PackageFile{{Path: "other.yaml", Size: int64(len(data)), Chunks: []string{name}}}}))
	assert.Contains(h.t, lacking.Error(), "needs it and it is not in the package")
	must[api.Package](h.t)(h.admin().PutPackage(h.t.Context(), shot, api.NewPackage{Files: files}))
}

// job waits until the run's first job is in a state.
func (h *house) job(run api.Run, state api.FarmJobState) api.FarmJob {
	h.t.Helper()
	h.until("the job to be "+string(state), func() bool {
		jobs := h.run(run).FarmJobs
		return len(jobs) > 0 && jobs[0].State == state
	})
	return h.run(run).FarmJobs[0]
}

func TestAFarmRendersWhatAPersonHasAccepted(t *testing.T) {
	h, _, run := farmHouse(t, func(f *simulator.Farm) { f.FailOneIn = 4 })
	held := h.job(run, api.FarmJobStateHeld)
	assert.Len(t, held.Proofs, 3)
	h.until("the proof frames to be home, to be looked at", func() bool {
		x := h.job(run, api.FarmJobStateHeld)
		return x.Done+x.Failed >= 3
	})
	h.restart() // whatever dies, the job goes on where it was
	judged := must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), held.Id, api.JudgeProofsJSONRequestBody{Accept: true}))
	assert.True(t, *judged.Accepted)
	refused(t, 409)(h.admin().JudgeProofs(t.Context(), held.Id, api.JudgeProofsJSONRequestBody{Accept: false}))
	ended := h.job(run, api.FarmJobStateEnded)
	assert.Positive(t, ended.Done)
	assert.NotEmpty(t, ended.Charge)
	assert.Positive(t, ended.RenderedS)
	assert.NotEqual(t, ended.RenderedS, ended.ElapsedS, "summed and elapsed time are told apart")

	// The ledger's own sum is what the farm's meter says, converted once.
	metered := query[string](t, h.database, "SELECT sum(amount)::text FROM charges WHERE source = 'gannet'")
	amount := pricing.MustMoney(metered)
	want := amount.Scaled(pricing.MustMoney("1.25").Rat())
	rate := pricing.MustMoney("11.50").Rat()
	want = want.Scaled(rate.Inv(rate))
	assert.Equal(t, want.String(), h.chargedBy(run, "gannet").String())
	source := "gannet"
	entries := must[api.EntryList](t)(h.admin().ListEntries(t.Context(), &api.ListEntriesParams{Run: &run.Id, Source: &source}))
	assert.Contains(t, entries.Items[0].Metered, "NOK")

	sources := must[struct{ Items []api.Source }](t)(h.admin().ListSources(t.Context()))
	assert.Positive(t, sources.Items[0].Waits[0].Seen, "what was learnt of it")
	compared := must[api.SourceComparison](t)(h.admin().CompareRunSources(t.Context(), run.Id))
	assert.Equal(t, api.SourceComparisonBasisCharged, compared.Basis)
}

func TestProofFramesThatAreRefusedEndTheJob(t *testing.T) {
	h, _, run := farmHouse(t, nil)
	held := h.job(run, api.FarmJobStateHeld)
	must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), held.Id, api.JudgeProofsJSONRequestBody{Accept: false}))
	ended := h.job(run, api.FarmJobStateEnded)
	assert.Equal(t, "the proof frames were refused", ended.Trouble)
	counts := h.run(run).Counts
	assert.Equal(t, 40, counts.Waiting+counts.Done+counts.Rendering, "no frame is lost")
	assert.Zero(t, counts.Rendering, "what the farm had waits for others")
	assert.Equal(t, "1.00", query[string](t, h.database, "SELECT amount::numeric(9,2)::text FROM charges"), "three frames cost the minimum charge")
}

func TestAFarmThatCannotSaysSoBeforeItIsPaid(t *testing.T) {
	h, _, run := farmHouse(t, func(f *simulator.Farm) {
		tier := f.Tiers["gannet-day"]
		tier.Launchers = []string{"povray"}
		f.Tiers["gannet-day"] = tier
	})
	ended := h.job(run, api.FarmJobStateEnded)
	assert.Contains(t, ended.Trouble, "we do not have simulated")
	assert.Zero(t, h.run(run).Counts.Rendering)
	assert.Equal(t, "0.00", h.chargedBy(run, "gannet").String())
}

func TestProofFramesAreLookedAtInTheConsole(t *testing.T) {
	h, _, run := farmHouse(t, nil)
	h.job(run, api.FarmJobStateHeld)
	b := h.open("light")
	b.goTo("/sources")
	b.shows("NOK plus 25 % tax")
	b.shows("Ledger of all runs, by entry")
	assert.Empty(t, b.axe(), "sources")
	b.goTo("/shots/coda-060/sources")
	b.shows("best mix")
	assert.Empty(t, b.axe(), "a shot's sources")
	b.goTo("/runs/" + run.Id.String())
	b.shows("Proof frames of coda-060 at gannet-day")
	assert.Empty(t, b.axe(), "the run")
	b.shows("Accept, and release")
	read[bool](b, `[...document.querySelectorAll("button")].find((x) => x.textContent.startsWith("Accept, and release")).click() === undefined`)
	h.job(run, api.FarmJobStateEnded)
}

// cutting is what stands in front of a farm and cuts one call of its life off: before
// it is done, after it, or half-way through the answer.
type cutting struct {
	method, path string // of the call: its method and how its path ends
	trouble      string
	once         sync.Once
	reached      chan struct{}
	goOn         chan struct{} // closed at once where nobody dies
}

func (c *cutting) before(farm http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mine := false
		if last := r.URL.Path[strings.LastIndex(r.URL.Path, "/"):]; r.Method == c.method && (c.path == "" || strings.HasPrefix(last, c.path) || strings.Contains(r.URL.Path, c.path)) {
			c.once.Do(func() { mine = true })
		}
		if !mine {
			farm.ServeHTTP(w, r)
			return
		}
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		if c.trouble != "before" {
			farm.ServeHTTP(httptest.NewRecorder(), r)
		}
		close(c.reached)
		<-c.goOn
		if c.trouble == "half" {
			w.Header().Set("Content-Length", "4000")
			_, _ = w.Write([]byte(`{"name":`))
		}
		panic(http.ErrAbortHandler)
	})
}

// TestAFarmsJobSurvivesWhateverDies cuts every kind of call of a farm's job off in
// turn, and lets the service die in the middle of it: no frame is lost or doubled, there
// is one job, and its meter agrees with the ledger to the cent.
func TestAFarmsJobSurvivesWhateverDies(t *testing.T) {
	t.Parallel()
	for _, call := range []struct{ what, method, path string }{
		{"sending a chunk", "PUT", "/chunks/"},
		{"handing in", "PUT", "/jobs/"},
		{"looking", "GET", "/jobs/"},
		{"fetching a picture", "GET", "/frames/"},
		{"releasing", "POST", "/release"},
		{"ending", "DELETE", "/jobs/"},
	} {
		for _, trouble := range []string{"before", "half", "dies before", "dies after"} {
			t.Run(call.what+", "+trouble, func(t *testing.T) {
				cut := &cutting{method: call.method, path: call.path, reached: make(chan struct{}), goOn: make(chan struct{})}
				var dies bool
				goOn := sync.OnceFunc(func() { close(cut.goOn) })
				if cut.trouble, dies = strings.CutPrefix(trouble, "dies "); !dies {
					goOn()
				}
				h, _, run := farmHouseBehind(t, nil, cut.before)
				t.Cleanup(goOn)
				reached := cut.reached
				h.until("the job to be ended", func() bool {
					select {
					case <-reached:
						reached = nil
						if dies {
							h.restart()
							goOn()
						}
					default:
					}
					jobs := h.run(run).FarmJobs
					if jobs[0].State == api.FarmJobStateHeld && jobs[0].Accepted == nil {
						must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), jobs[0].Id, api.JudgeProofsJSONRequestBody{Accept: true}))
					}
					return jobs[0].State == api.FarmJobStateEnded
				})
				job := h.run(run).FarmJobs[0]
				assert.Equal(t, job.Frames, job.Done, "every frame came home once: %+v", job)
				assert.Equal(t, job.Done, query[int](t, h.database, "SELECT count(*) FROM frames WHERE state = 'done' AND host = 'gannet-day'"))
				h.meterAgrees(run, h.run(run).FarmJobs)
			})
		}
	}
}

// A plan for the rest may send frames of a shot to a farm that had some of it before: each
// job has its own frames and charge, and the farm's minimum charge is paid once.
func TestAPlanForTheRestUsesTheFarmAgain(t *testing.T) {
	h, _, run := farmHouse(t, nil)
	held := h.job(run, api.FarmJobStateHeld)
	must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), held.Id, api.JudgeProofsJSONRequestBody{Accept: false}))
	h.job(run, api.FarmJobStateEnded)

	rest := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, Run: &run.Id, By: h.now().Add(120 * time.Second)}))
	require.NotEmpty(t, rest.OutsideCost, "its proof frames taught how fast it is; still eddy alone is too slow")
	little := refused(t, 422)(h.admin().SetRunPlan(t.Context(), run.Id, api.SetRunPlanJSONRequestBody{Plan: rest.Id, Spend: "0.01"}))
	assert.Contains(t, little.Error(), "is less than the EUR")
	must[api.Run](t)(h.admin().SetRunPlan(t.Context(), run.Id, api.SetRunPlanJSONRequestBody{Plan: rest.Id, Spend: "20.00"}))
	second := func() api.FarmJob {
		for _, j := range h.run(run).FarmJobs {
			if j.Id != held.Id {
				return j
			}
		}
		return api.FarmJob{}
	}
	h.until("the proof frames of the second job", func() bool { return second().State == api.FarmJobStateHeld })
	must[api.FarmJob](t)(h.admin().JudgeProofs(t.Context(), second().Id, api.JudgeProofsJSONRequestBody{Accept: true}))
	h.until("the second job to be ended", func() bool { return second().State == api.FarmJobStateEnded })
	jobs := h.run(run).FarmJobs
	require.Len(t, jobs, 2)
	done := 0
	for _, j := range jobs {
		done += j.Done
		assert.NotEmpty(t, j.Charge)
	}
	assert.Equal(t, query[int](t, h.database, "SELECT count(*) FROM frames WHERE run_id = $1 AND state = 'done' AND host = 'gannet-day'", run.Id), done, "each frame counts for the job that brought it")
	assert.Equal(t, second().Frames, second().Done)
	h.meterAgrees(run, jobs)
}

// meterAgrees asserts that the farm's own meter and the ledger agree to the cent.
func (h *house) meterAgrees(run api.Run, jobs []api.FarmJob) {
	h.t.Helper()
	source := must[struct{ Items []api.Source }](h.t)(h.admin().ListSources(h.t.Context())).Items[0]
	var metered pricing.Money
	for _, j := range jobs {
		seen, err := providers.RemoteFarm{Remote: providers.Remote{Address: source.Spec.Address, Secret: "crowns"}}.Look(h.t.Context(), j.Id.String())
		require.NoError(h.t, err)
		metered = metered.Plus(seen.Charge)
	}
	rate := pricing.MustMoney("11.50").Rat()
	assert.Equal(h.t, metered.Scaled(pricing.MustMoney("1.25").Rat()).Scaled(rate.Inv(rate)).String(), h.chargedBy(run, source.Spec.Name).String())
}

// Sources can be named in a plan's choices, one's own and farms like any other, and what
// a plan costs is told by source.
func TestSourcesAreNamedInChoicesAndCosts(t *testing.T) {
	h, _ := farmBeside(t, nil, func(farm http.Handler) http.Handler { return farm }, func(h *house, _ string) { h.trialByHand(h.hand(eddy), "coda-060", "eddy", "g0") })
	ask := api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(time.Hour)} // ample, as the clock runs on while it is asked
	costs := func(without ...string) map[string]int {
		ask.Without = without
		plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, ask))
		out := map[string]int{}
		for _, s := range plan.Sources {
			out[s.Source] = s.Frames
		}
		for _, b := range plan.Bookings {
			assert.NotEmpty(t, b.Source)
		}
		return out
	}
	assert.Equal(t, map[string]int{"joined": 40}, costs())
	assert.Equal(t, map[string]int{"gannet": 40}, costs("joined"))
	assert.Equal(t, map[string]int{"joined": 40}, costs("gannet"))
	ask.Without = []string{"nowhere"}
	unknown := refused(t, 422)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, ask))
	assert.Contains(t, unknown.Error(), "there are eddy, gannet, gannet-day, joined")
}
