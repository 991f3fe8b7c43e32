package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	openapi "github.com/oapi-codegen/runtime/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// made is a service that answers with what it is given, by path or method and path, and
// keeps what is asked.
type made struct {
	answers map[string]any
	asked   []string
	before  func(w http.ResponseWriter, path string) bool // answers instead, if it says so; nil: never
}

func (m *made) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	path := strings.TrimPrefix(r.URL.Path, "/api/v1")
	m.asked = append(m.asked, r.Method+" "+path+"?"+r.URL.RawQuery)
	if m.before != nil && m.before(w, path) {
		return
	}
	answer, known := m.answers[r.Method+" "+path]
	if !known {
		answer, known = m.answers[path]
	}
	w.Header().Set("Content-Type", "application/json")
	if !known {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusNotFound)
		answer = api.Problem{Title: "Not found", Status: 404, Detail: "there is no " + path}
	}
	_ = json.NewEncoder(w).Encode(answer)
}

// types a command against a made service.
func (m *made) types(t *testing.T, args ...string) (status int, out, errs string) {
	t.Helper()
	server := httptest.NewServer(m)
	defer server.Close()
	var o, e bytes.Buffer
	status = Main(context.Background(), append([]string{"--service", server.URL, "--token", "t"}, args...), strings.NewReader(""), &o, &e)
	return status, o.String(), e.String()
}

var aRun = api.Run{
	Id: uuid.MustParse("aa110000-0000-4000-8000-000000000000"), State: api.RunStateRunning, Currency: "EUR", CostSoFar: "1.20", PlannedCost: "4.10",
	Shots:  []api.RunShot{{Shot: "stair-030", Counts: api.FrameCounts{Waiting: 2, Done: 1}}},
	Counts: api.FrameCounts{Waiting: 2, Done: 1},
	FarmJobs: []api.FarmJob{
		{Id: uuid.MustParse("bb220000-0000-4000-8000-000000000000"), Shot: "stair-030", Farm: "ebb", State: api.FarmJobStateHeld, Frames: 40, Done: 3, RenderedS: 600, ElapsedS: 120, Committed: "3.00"},
		{Id: uuid.MustParse("bb330000-0000-4000-8000-000000000000"), Shot: "storm-050", Farm: "gannet-day", State: api.FarmJobStateRejected, Findings: []string{"we do not have the plugin tidefog"}, Committed: "0.00"},
	},
}

func served() *made {
	return &made{answers: map[string]any{
		"/runs":                     api.RunList{Items: []api.Run{aRun}},
		"/runs/" + aRun.Id.String(): aRun,
		"/runs/" + aRun.Id.String() + "/frame-map": api.FrameMap{Shots: []api.ShotMap{{Shot: "stair-030", Frames: "1-3", States: "1d2w"}}},
		"/runs/" + aRun.Id.String() + "/frames":    api.FrameList{Items: []api.Frame{{Shot: "stair-030", Frame: 1, State: api.FrameStateDone}}},
	}}
}

func TestJobsAtFarmsSayWhatToDo(t *testing.T) {
	_, out, _ := served().types(t, "farms", "jobs", "latest")
	for _, want := range []string{"look at its proof frames: rotanex farms proofs bb220000 --to FOLDER", "we do not have the plugin tidefog", "10 min 00 s", "2 min 00 s", "EUR 3.00"} {
		assert.Contains(t, out, want)
	}
	status, out, _ := served().types(t, "farms", "jobs", "latest", "--output", "json")
	assert.Zero(t, status)
	var jobs []api.FarmJob
	require.NoError(t, json.Unmarshal([]byte(out), &jobs))
	assert.Len(t, jobs, 2)
}

func TestProofsNeedAnAnswerAndAJobThatIsThere(t *testing.T) {
	for want, args := range map[string][]string{
		"do not go together":                  {"farms", "proofs", "bb220000", "--accept", "--refuse"},
		"say what to do: --to FOLDER":         {"farms", "proofs", "bb220000"},
		`has no job "ff" at a farm`:           {"farms", "proofs", "ff", "--accept"},
		"there is no /farm-jobs/bb220000-000": {"farms", "proofs", "bb22", "--accept"},
	} {
		status, _, errs := served().types(t, args...)
		assert.Equal(t, ExitFailed, status)
		assert.Contains(t, errs, want)
	}
}

func TestARunIsShownOnce(t *testing.T) {
	status, out, _ := served().types(t, "runs", "show", "aa11")
	assert.Zero(t, status)
	assert.Contains(t, out, "1 of 3 frames done")
	assert.NotContains(t, out, "\x1b", "what is not looked at on a terminal has no colours")
	_, out, _ = served().types(t, "runs", "show", "aa11", "-o", "json")
	var got api.Run
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, aRun.Id, got.Id)
}

func TestStartingAPlanSaysItsChance(t *testing.T) {
	m, plan := served(), uuid.MustParse("cc440000-0000-4000-8000-000000000000")
	m.answers["/plans"] = api.PlanList{Items: []api.Plan{{Id: plan}}}
	m.answers["/plans/"+plan.String()] = api.Plan{Id: plan, Status: api.PlanStatusMeets, Chance: new(0.941)}
	m.answers["POST /runs"] = aRun
	status, out, errs := m.types(t, "start", "latest")
	require.Zero(t, status, errs)
	assert.Contains(t, out, "2 frames, planned to finish ")
	assert.Contains(t, out, "; plan: meets (94 % to be in time)\n")
}

func TestEntriesAddUpBelowTheTable(t *testing.T) {
	m := served()
	friday := openapi.Date{Time: time.Date(2031, 3, 7, 0, 0, 0, 0, time.UTC)}
	m.answers["/entries"] = api.EntryList{
		Items:    []api.Entry{{Day: friday, Place: "tern-solo-1", Crew: "g0", Shot: "stair-030", Kind: api.EntryKindFrames, Frames: 9, Seconds: 900, Estimated: "1.0000", Charged: "1.2000", Why: "100 s a frame, 90 s planned"}},
		Currency: "EUR", Estimated: "1.00", Charged: "1.20", Frames: 9, FrameCost: "0.1333", FailedCost: "0.10", UnusedCost: "0.30", BudgetLeft: "8.80",
	}
	_, out, _ := m.types(t, "entries", "latest", "--source", "tern", "--day", "2031-03-07")
	for _, want := range []string{
		"tern-solo-1/g0", "9 frames for EUR 1.20, estimated EUR 1.00. A usable frame cost EUR 0.1333.", "Failed tries cost EUR 0.10", "EUR 8.80 of what may be spent outside is left",
	} {
		assert.Contains(t, out, want)
	}
	last := m.asked[len(m.asked)-1]
	for _, want := range []string{"source=tern", "day=2031-03-07", "run=" + aRun.Id.String()} {
		assert.Contains(t, last, want)
	}
	_, _, errs := m.types(t, "entries", "--day", "yesterday")
	assert.Contains(t, errs, `--day "yesterday": want one such as 2031-03-07`)
	_, out, _ = m.types(t, "entries", "-o", "csv")
	assert.True(t, strings.HasPrefix(out, "day,where,shot,for,frames"), out)
	assert.NotContains(t, out, "A usable frame", "a spreadsheet wants the table alone")
}

func TestSourcesThatAreNotThereAreNamed(t *testing.T) {
	m := served()
	m.answers["/sources"] = map[string]any{"items": []api.Source{}}
	_, out, _ := m.types(t, "sources", "list")
	assert.Contains(t, out, "rotanex sources import FILE")
	_, _, errs := m.types(t, "sources", "secret", "tern", "--file", "/dev/null")
	assert.Contains(t, errs, `there is no source "tern"`)
	_, _, errs = m.types(t, "sources", "compare")
	assert.Contains(t, errs, "name a shot, to compare before a run, or a run with --run")
}
