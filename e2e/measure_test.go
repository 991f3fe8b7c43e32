package e2e

import (
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/cli"
)

func crewOf(t testing.TB, c api.Comparison, name string) api.CrewFigures {
	t.Helper()
	i := slices.IndexFunc(c.Crews, func(x api.CrewFigures) bool { return x.Place+"/"+x.Crew == name })
	require.GreaterOrEqual(t, i, 0, name)
	return c.Crews[i]
}

func (h *house) comparison(shot string) api.Comparison {
	h.t.Helper()
	return must[api.Comparison](h.t)(h.admin().CompareShot(h.t.Context(), shot, &api.CompareShotParams{}))
}

// speeds are of devices by host: what a frame's work of ten seconds is divided by.
var speeds = map[string]map[string]float64{"bellows": {"g0": 1, "g1": 0.7, "cpu": 0.12}, "eddy": {"g0": 1.2, "cpu": 0.18}}

// renders delivers what an agent is given, each frame in the time that its crew takes: the
// same on a busy machine.
func (a hand) renders(host string) {
	a.t.Helper()
	for _, l := range a.lease() {
		speed := 0.0
		for _, d := range l.Devices {
			speed += speeds[host][d]
		}
		data := frame(l.Width, l.Height)
		sum := sha256.Sum256(data)
		must[struct{}](a.t)(a.send(l, data))
		must[struct{}](a.t)(a.PutResult(a.t.Context(), l.Lease, l.Fence, api.Result{
			Boot: a.boot, Outcome: api.ResultOutcomeDone, Sha256: hex.EncodeToString(sum[:]), Bytes: int64(len(data)),
			Measured: api.Measured{Seconds: (0.6 + 10/speed) * (1 + 0.01*float64(l.Frame%3)), Conditions: map[string]string{"power": "ac"}},
		}))
	}
}

func TestASweepTimesWhatTellsMost(t *testing.T) {
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	h := newHouse(t, withWall(clock))
	one, two := h.hand(bellows), h.hand(eddy)
	h.putShot("coda-060", "1-24", map[string]string{"samples": "128"})
	before := h.comparison("coda-060")
	assert.Contains(t, before.Note, "rotanex trials sweep coda-060")
	assert.Empty(t, before.Baseline)

	swept := make(chan string)
	go func() {
		_, out, errs := h.rotanex("trials", "sweep", "coda-060", "--budget", "10m", "--frames", "2")
		swept <- out + errs
	}()
	said := ""
	h.until("the sweep to be over", func() bool {
		clock.Advance(100 * time.Millisecond)
		one.renders("bellows")
		two.renders("eddy")
		select {
		case said = <-swept:
			return true
		default:
			return false
		}
	})
	assert.Contains(t, said, "a single Halyard 24 was not timed")
	assert.Contains(t, said, "The sweep is over: every crew that could be timed is known well enough")
	got := h.comparison("coda-060")
	for _, name := range []string{"bellows/g0", "bellows/g1", "eddy/g0", "bellows/g0+g1"} {
		c := crewOf(t, got, name)
		assert.Equal(t, api.CrewFiguresBasisMeasured, c.Basis, name)
		assert.Equal(t, 2, c.Timed, name)
		assert.Less(t, c.LowS, c.Seconds, name)
		assert.Greater(t, c.HighS, c.Seconds, name)
		assert.Positive(t, c.SamplesSecond, name)
	}
	assert.Equal(t, "bellows/g1", got.Baseline, "the slowest measured GPU")
	for _, c := range got.Crews {
		if c.Seconds > 0 && c.Seconds < 4*crewOf(t, got, "bellows/g0").Seconds {
			assert.Less(t, c.HighS, 1.36*c.LowS, "good enough was 1.35: %s/%s", c.Place, c.Crew)
		}
	}
	assert.NotEmpty(t, got.Divisions)
	assert.NotEmpty(t, got.Devices)
	assert.Len(t, got.Stretches, 8)
	sweep := must[api.SweepList](t)(h.admin().ListSweeps(t.Context(), &api.ListSweepsParams{})).Items[0]
	assert.Equal(t, api.SweepStateComplete, sweep.State)

	again := h.good("trials", "sweep", "coda-060")
	assert.Contains(t, again, "It timed nothing")
	table := h.good("compare", "coda-060", "--baseline", "eddy/g0", "--sort", "cost")
	assert.Contains(t, table, "Speed-ups are to eddy/g0")
	assert.Contains(t, table, "How to divide each host")
	status, _, errs := h.rotanex("compare", "coda-060", "--baseline", "eddy/g9")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "there is no such crew")
	exported := h.good("times", "export", "coda-060")
	rows, err := csv.NewReader(strings.NewReader(exported)).ReadAll()
	require.NoError(t, err)
	assert.Contains(t, rows[0], "condition.power")
	assert.Contains(t, h.good("timing", file(t, "times.csv", exported)), "left out")
	plan := h.good("plan", "coda-060", "--by", "+2h")
	assert.Contains(t, plan, "meets")
}

func TestASweepEndsWhenItIsTold(t *testing.T) {
	h, _, _, _, _ := playedHouse(t, "1-5")
	h.putShot("stair-030", "1-20", nil)
	s := must[api.Sweep](t)(h.admin().CreateSweep(t.Context(), &api.CreateSweepParams{IdempotencyKey: new("sweep-stair")}, api.NewSweep{Shot: "stair-030"}))
	require.NotEmpty(t, s.Trials, "it began at once")
	again := must[api.Sweep](t)(h.admin().CreateSweep(t.Context(), &api.CreateSweepParams{IdempotencyKey: new("sweep-stair")}, api.NewSweep{Shot: "stair-030"}))
	assert.Equal(t, s.Id, again.Id)
	ended := must[api.Sweep](t)(h.admin().EndSweep(t.Context(), s.Id))
	assert.Equal(t, api.SweepStateEnded, ended.State)
	refused(t, http.StatusNotFound)(h.admin().CreateSweep(t.Context(), &api.CreateSweepParams{}, api.NewSweep{Shot: "nothing"}))
}

func TestRepeatsUntilTheMedianIsKnown(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(eddy, scenes(t))
	h.putShot("coda-060", "1-24", nil)
	out := h.good("trials", "run", "coda-060", "--crew", "eddy/g0", "--precision", "0.5", "--max-repeats", "40", "-o", "json")
	var trials []api.Trial
	require.NoError(t, json.Unmarshal([]byte(out), &trials))
	assert.GreaterOrEqual(t, trials[0].Summary.Frames, 5, "fewer do not tell a median")
	assert.Less(t, trials[0].Summary.Frames, 40)
	seen := map[int]bool{}
	for _, f := range trials[0].Frames {
		seen[f.Frame] = true
	}
	assert.Len(t, seen, 1, "it is one frame, again and again")
	status, _, errs := h.rotanex("trials", "run", "coda-060", "--crew", "eddy/g0", "--precision", "3")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "precision")
}

func TestTimesOfASpreadsheetCount(t *testing.T) {
	h, _, _, _, _ := playedHouse(t, "1-5")
	h.putShot("stair-030", "1-20", map[string]string{"samples": "64"})
	times := file(t, "times.csv", `shot,host,crew,models,backend,frame,seconds,setting.samples
stair-030,old,g0,Halyard 24,compute2,10,100,64
stair-030,old,g0,Halyard 24,compute2,10,101,64
stair-030,old,g0+g1,Halyard 24+Halyard 24,compute2,10,56,64
stair-030,old,g0,Halyard 24,compute2,10,50,32
long-gone,old,g0,Halyard 24,compute2,,30,
long-gone,old,g7,Topsail 24,compute2,,22,
`)
	assert.Contains(t, h.good("times", "import", times), "Stored 6 times")
	got := h.comparison("stair-030")
	c := crewOf(t, got, "bellows/g0")
	assert.Equal(t, api.CrewFiguresBasisPredicted, c.Basis)
	assert.InDelta(t, 100, c.Seconds, 15, "the same model on another host")
	assert.InDelta(t, 85, crewOf(t, got, "eddy/g0").Seconds, 25, "the other model, by another shot")
	require.Len(t, got.Unlike, 1, "other samples are no comparison")
	assert.InDelta(t, 50, got.Unlike[0].Seconds, 1e-9)
	assert.Equal(t, "32", got.Unlike[0].Settings[0].Then)

	status, _, errs := h.rotanex("times", "import", file(t, "bad.csv", "shot,crew,seconds,mood\na,g0,1,good\n"))
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, `column "mood"`)
	answer, err := h.admin().ImportTimesWithBody(t.Context(), &api.ImportTimesParams{}, "text/csv", strings.NewReader("shot,crew,seconds\na,g0,never\n"))
	problem := refused(t, http.StatusUnprocessableEntity)(answer, err)
	assert.Contains(t, problem.Detail, `column seconds: "never"`)
	assert.Equal(t, 6, query[int](t, h.database, "SELECT count(*) FROM times"), "nothing more was stored")
	assert.Contains(t, h.good("times", "export"), "long-gone")
}

func TestPreflightStopsAPlanBeforeItCosts(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(bellows, scenes(t))
	offer, err := convert[api.OfferSpec](ternSolo)
	require.NoError(t, err)
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "tern-solo", offer))
	spec := api.ShotSpec{
		Name: "storm-050", Scene: "coda.yaml", Frames: "1-24", Width: 64, Height: 36, Launcher: "simulated",
		Features: []string{"foam"}, Inputs: []string{"storm/spray.vdb"}, Plugins: []string{"reef"}, Version: ">= 9", Licence: "fathom",
	}
	must[api.Shot](t)(h.admin().PutShot(t.Context(), spec.Name, &api.PutShotParams{}, spec))
	var found string
	h.until("the agent to have looked for the files", func() bool {
		_, found, _ = h.rotanex("preflight", "storm-050", "--on", "bellows/g0")
		return strings.Contains(found, "storm/spray.vdb is missing")
	})
	for _, want := range []string{"renders no foam", "accepts: [foam]", "no plugin reef", "version 4.2.1, the shot wants >= 9", "licence pool fathom is not known"} {
		assert.Contains(t, found, want)
	}
	status, _, _ := h.rotanex("preflight", "storm-050", "--on", "bellows/g0")
	assert.Equal(t, cli.ExitImpossible, status, "every crew is blocked")
	status, _, errs := h.rotanex("preflight", "storm-050", "--on", "nowhere")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "nowhere")

	spec.Features, spec.Inputs, spec.Plugins, spec.Version = nil, nil, nil, ""
	must[api.Shot](t)(h.admin().PutShot(t.Context(), spec.Name, &api.PutShotParams{}, spec))
	h.timed("storm-050", "bellows/g0")
	blocked := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"storm-050"}, By: h.now().Add(time.Hour)}))
	assert.Equal(t, api.PlanStatusImpossible, blocked.Status)
	assert.Equal(t, "the licence pool fathom is not known", blocked.LeftOut[0].Why, "the plan goes by the preflight")
	assert.Contains(t, blocked.LeftOut[0].Fix, "rotanex licences put fathom")
	assert.Contains(t, h.good("licences", "put", "fathom", "--seats", "4"), "fathom: 4 floating seats")
	assert.Contains(t, h.good("licences", "list"), "floating")
	h.until("the agent to have looked for the shot as it is now", func() bool {
		_, found, _ = h.rotanex("preflight", "storm-050", "--on", "bellows/g0")
		return !strings.Contains(found, "not yet looked")
	})
	meets := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"storm-050"}, By: h.now().Add(time.Hour)}))
	assert.Equal(t, api.PlanStatusMeets, meets.Status)
	refused(t, http.StatusUnprocessableEntity)(h.admin().PutShot(t.Context(), spec.Name, &api.PutShotParams{}, api.ShotSpec{Name: spec.Name, Scene: "a", Frames: "1", Width: 4, Height: 4, Launcher: "simulated", Version: "newest"}))
	refused(t, http.StatusUnprocessableEntity)(h.admin().PutShot(t.Context(), spec.Name, &api.PutShotParams{}, api.ShotSpec{Name: spec.Name, Scene: "a", Frames: "1", Width: 4, Height: 4, Launcher: "simulated", Inputs: []string{"../etc/passwd"}}))
}

// Nothing is spent on what cannot work, or on what nobody has looked at: a shot without a
// package, a source that does not answer, servers of which nobody says what they have.
func TestNothingIsSpentOnWhatCannotWork(t *testing.T) {
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	source := newCompany(t, clock.Now, ternSolo)
	h := newHouse(t, withWall(clock))
	bare := ternSolo
	bare.Launchers = nil
	offer, err := convert[api.OfferSpec](bare)
	require.NoError(t, err)
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "tern-solo", offer))
	a := h.hand(eddy)
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, api.ShotSpec{Name: "coda-060", Scene: "coda.yaml", Frames: "1-300", Width: 64, Height: 36, Launcher: "simulated"}))
	says := func(want, verdict string) {
		t.Helper()
		p := must[api.Preflight](t)(h.admin().CheckShot(t.Context(), "coda-060", &api.CheckShotParams{On: new("tern-solo")}))
		texts := []string{}
		for _, f := range p.Crews[0].Findings {
			texts = append(texts, f.Text)
		}
		assert.Contains(t, strings.Join(texts, "\n"), want)
		assert.Equal(t, api.PreflightCrewVerdict(verdict), p.Crews[0].Verdict, texts)
		assert.Zero(t, p.Clear+p.Warned)
	}
	says("there is no way to tern", "blocked")
	says("coda-060 has no package", "blocked")
	h.pack("coda-060", "coda.yaml")
	more := api.ShotSpec{Name: "coda-060", Scene: "coda.yaml", Frames: "1-300", Width: 64, Height: 36, Launcher: "simulated", Inputs: []string{"sky.exr"}}
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, more))
	says("sky.exr is not in the package of coda-060", "blocked")
	more.Inputs = nil
	must[api.Shot](t)(h.admin().PutShot(t.Context(), "coda-060", &api.PutShotParams{}, more))
	silent := must[api.Source](t)(h.admin().PutSource(t.Context(), "tern", api.NewSource{Spec: api.SourceSpec{Name: "tern", Kind: "rented", Address: "http://127.0.0.1:9", Card: api.RateCard{Currency: "EUR"}}}))
	assert.Contains(t, silent.Fault, "nothing answers at http://127.0.0.1:9/offers", "who stores a source is told at once")
	says("could not be dealt with", "blocked")
	h.putSource("tern", "rented", source.URL)
	says("whether its servers have simulated is not known", "not-known")

	owned := must[api.Preflight](t)(h.admin().CheckShot(t.Context(), "coda-060", &api.CheckShotParams{On: new("eddy/g0")}))
	assert.Equal(t, api.PreflightCrewVerdictNotKnown, owned.Crews[0].Verdict, "its agent has not looked for the scene yet")
	h.trialByHand(a, "coda-060", "eddy", "g0")
	plan := must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(20 * time.Minute)}))
	assert.Empty(t, plan.Servers, "late rather than on servers of which nothing is known")
	assert.Equal(t, api.PlanStatusLate, plan.Status)

	offer.Launchers = []string{"simulated"}
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "tern-solo", offer))
	plan = must[api.Plan](t)(h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{Shots: []string{"coda-060"}, By: h.now().Add(20 * time.Minute)}))
	assert.NotEmpty(t, plan.Servers)
}

// A sweep is over when its time is, and says before what it cannot time in that.
func TestASweepKeepsItsBudget(t *testing.T) {
	h, clock, one, _, _ := playedHouse(t, "1-5")
	h.putShot("stair-030", "1-20", nil)
	s := must[api.Sweep](t)(h.admin().CreateSweep(t.Context(), &api.CreateSweepParams{}, api.NewSweep{Shot: "stair-030", BudgetS: 60}))
	require.NotEmpty(t, s.Trials)
	assert.Empty(t, s.Beyond, "nothing is known yet of how long its frames take")
	clock.Advance(61 * time.Second)
	h.until("the sweep to be over", func() bool {
		s = must[api.Sweep](t)(h.admin().GetSweep(t.Context(), s.Id))
		clock.Advance(time.Second)
		return s.State == api.SweepStateComplete
	})
	assert.Contains(t, s.Why, "its 60 s are over")
	assert.Contains(t, s.Why, "cut off")
	for _, x := range s.Trials {
		assert.Equal(t, api.RunStateCancelled, x.State)
	}
	one.beat()
	h.trialByHand(one, "stair-030", "bellows", "g0") // a frame took 10 s there
	short := must[api.Sweep](t)(h.admin().CreateSweep(t.Context(), &api.CreateSweepParams{}, api.NewSweep{Shot: "stair-030", BudgetS: 10}))
	require.NotEmpty(t, short.Beyond)
	assert.Contains(t, short.Beyond[0].Why, "a frame takes about")
}

func TestAStudyOfRealFrames(t *testing.T) {
	h := newHouse(t)
	h.tracing()
	out := h.good("settings", "run", "orrery-010", "--crew", "bellows/cpu", "--frame", "40",
		"--variant", "own", "--variant", "again:", "--variant", "draft: quality=1", "-o", "json")
	var s api.Study
	require.NoError(t, json.Unmarshal([]byte(out), &s))
	require.True(t, s.Complete)
	require.Len(t, s.Variants, 3)
	assert.True(t, s.Variants[1].Distance.Same, "the same settings give the same picture")
	d := s.Variants[2].Distance
	assert.Greater(t, d.Rmse, 0.01)
	assert.Less(t, d.Ssim, 0.99)
	assert.InDelta(t, 96*s.Variants[2].Seconds, s.Variants[2].WholeS, 1e-6)
	answer, err := h.admin().GetDifference(t.Context(), s.Id, &api.GetDifferenceParams{A: 0, B: 2})
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	assert.Equal(t, "image/png", answer.Header.Get("Content-Type"))
	refused(t, http.StatusUnprocessableEntity)(h.admin().GetDifference(t.Context(), s.Id, &api.GetDifferenceParams{A: 0, B: 9}))
	assert.Contains(t, h.good("settings", "show", "latest"), "no difference")
	assert.Contains(t, h.good("settings", "list"), "draft")
	status, _, errs := h.rotanex("settings", "run", "orrery-010", "--crew", "bellows/cpu", "--frame", "400", "--variant", "own", "--variant", "antialias=0.5")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "shot orrery-010 has the frames 1-96")
	status, _, errs = h.rotanex("settings", "run", "orrery-010", "--crew", "bellows/cpu", "--variant", "own", "--variant", "antialias")
	assert.Equal(t, cli.ExitFailed, status)
	assert.Contains(t, errs, "want NAME=VALUE")
}

func TestDevicesAreSampledOverTime(t *testing.T) {
	h := newHouse(t, faster)
	h.runAgent(bellows, scenes(t))
	h.putShot("coda-060", "1-24", nil)
	h.timed("coda-060", "bellows/g0")
	var got api.Samples
	h.until("a sample of the devices", func() bool {
		got = must[api.Samples](t)(h.admin().GetSamples(t.Context(), "bellows", &api.GetSamplesParams{Minutes: new(60)}))
		return len(got.Devices) == 3
	})
	assert.Equal(t, "cpu", got.Devices[0].Device)
	assert.Equal(t, "Halyard 24", got.Devices[1].Model)
	assert.NotEmpty(t, got.Devices[1].At)
	assert.Len(t, got.Devices[1].Crew, len(got.Devices[1].At))
	text := readAll(t, h.send("GET", "/metrics", h.token).Body)
	assert.Contains(t, text, `rotanex_device_temperature_celsius{device="g0",host="bellows"}`)
	host := must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows"))
	assert.Equal(t, "4.2.1", host.Renderers[0].Version)
	assert.True(t, host.Folder.Writable)
}
