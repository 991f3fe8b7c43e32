package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/planning"
)

// post sends a raw body, as somebody without the client would.
func (h *house) post(method, path, body string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(h.t.Context(), method, h.address+"/api/v1"+path, strings.NewReader(body))
	require.NoError(h.t, err)
	r.Header.Set("Authorization", "Bearer "+h.token)
	r.Header.Set("Content-Type", "application/json")
	return http.DefaultClient.Do(r)
}

func TestBadInputIsNamedAndChangesNothing(t *testing.T) {
	h := newHouse(t)
	h.putHost(bellows)
	h.putShot("coda-060", "1-24", nil)
	for _, c := range []struct {
		method, path, body string
		status             int
		field, says        string
	}{
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"9-1","width":4,"height":4,"launcher":"simulated"}`, 422, "/frames", "9 comes after 1"},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"../../etc/passwd","frames":"1","width":4,"height":4,"launcher":"simulated"}`, 422, "/scene", "below the agents' scene folder"},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":0,"height":4,"launcher":"simulated"}`, 422, "/width", `width "0": want 1 to 32768`},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":4,"height":4,"launcher":"simulated","colour":1}`, 422, "/colour", "colour is not known here"},
		{"PUT", "/shots/other", `{"name":"coda-060","scene":"a","frames":"1","width":4,"height":4,"launcher":"simulated"}`, 422, "/name", "not the shot in the path"},
		{"PUT", "/shots/coda-060", `{"name":`, 400, "body", ""},
		{"PUT", "/hosts/bellows", `{"name":"bellows","source":"loft","cpu":{"model":"x","cores":0},"memory_gb":1,"on_ac_power":true,"power":{"price_kwh":"0.3"}}`, 422, "/cpu/cores", `cpu cores "0": want 1 to 4096`},
		{"PUT", "/hosts/bellows", `{"name":"bellows","source":"loft","cpu":{"model":"x","cores":1},"memory_gb":1,"on_ac_power":true,"power":{"price_kwh":"cheap"}}`, 422, "/power/price_kwh", "cheap"},
		{"POST", "/trials", `{"shot":"coda-060","host":"bellows","crew":"g7"}`, 422, "/crew", "it can form g0, g1, g0+g1, cpu"},
		{"POST", "/plans", `{"shots":["coda-060"]}`, 422, "/by", "no deadline of its own"},
		{"POST", "/plans", `{"shots":["coda-060"],"by":"2001-01-01T00:00:00Z"}`, 422, "/by", "is past"},
		{"POST", "/plans", `{"shots":["coda-060"],"by":"2101-01-01T00:00:00Z","goal":"fastest"}`, 422, "/budget", "needs a budget"},
		{"GET", "/hosts?limit=9999", ``, 422, "limit", `limit "9999": want 1 to 500`},
		{"GET", "/hosts?cursor=x", ``, 422, "cursor", "`next`"},
	} {
		problem := refused(t, c.status)(h.post(c.method, c.path, c.body))
		require.NotEmpty(t, problem.Errors, "%s %s", c.path, c.body)
		assert.Equal(t, c.field, problem.Errors[0].Field, c.body)
		assert.Contains(t, problem.Detail, c.says, c.body)
	}
	refused(t, http.StatusNotFound)(h.post("GET", "/nothing", ""))
	refused(t, http.StatusMethodNotAllowed)(h.post("DELETE", "/hosts", ""))
	refused(t, http.StatusNotFound)(h.post("GET", "/hosts/nobody", ""))
	refused(t, http.StatusConflict)(h.post("POST", "/trials", `{"shot":"coda-060","host":"bellows","crew":"g0"}`)) // no agent there
	shot := must[api.Shot](t)(h.admin().GetShot(t.Context(), "coda-060"))
	assert.Equal(t, "1-24", shot.Spec.Frames)
	host := must[api.Host](t)(h.admin().GetHost(t.Context(), "bellows"))
	assert.Equal(t, 16, host.Spec.Cpu.Cores)
}

func TestListsArePaged(t *testing.T) {
	h := newHouse(t)
	for i := range 7 {
		spec := bellows
		spec.Name = fmt.Sprintf("host-%d", i)
		h.putHost(spec)
	}
	var names []string
	var cursor *string
	for {
		page := must[api.HostList](t)(h.admin().ListHosts(t.Context(), &api.ListHostsParams{Limit: new(3), Cursor: cursor}))
		assert.LessOrEqual(t, len(page.Items), 3)
		for _, item := range page.Items {
			names = append(names, item.Spec.Name)
		}
		if page.Next == "" {
			break
		}
		cursor = &page.Next
	}
	assert.Equal(t, []string{"host-0", "host-1", "host-2", "host-3", "host-4", "host-5", "host-6"}, names)
}

func TestAWriteThatIsSentTwiceHappensOnce(t *testing.T) {
	h, _, _, _, run := playedHouse(t, "1-3")
	key := "the-same-key"
	plan := func(shots ...string) (*http.Response, error) {
		return h.admin().CreatePlan(t.Context(), &api.CreatePlanParams{IdempotencyKey: &key}, api.NewPlan{Shots: shots, By: time.Date(2031, 3, 8, 0, 0, 0, 0, time.UTC)})
	}
	first, second := must[api.Plan](t)(plan("coda-060")), must[api.Plan](t)(plan("coda-060"))
	assert.Equal(t, first.Id, second.Id)
	h.putShot("stair-030", "1", nil)
	assert.Contains(t, refused(t, http.StatusConflict)(plan("stair-030")).Detail, "use a new key")

	start := func() (*http.Response, error) {
		return h.admin().StartRun(t.Context(), &api.StartRunParams{IdempotencyKey: &key}, api.StartRunJSONRequestBody{Plan: first.Id})
	}
	one, two := must[api.Run](t)(start()), must[api.Run](t)(start())
	assert.Equal(t, one.Id, two.Id)
	assert.NotEqual(t, run.Id, one.Id)
	assert.Equal(t, 3, query[int](t, h.database, "SELECT count(*) FROM frames WHERE run_id = $1", one.Id))
}

func TestAPlanCanBeReproducedFromItsRecord(t *testing.T) {
	h, _, _, _, run := playedHouse(t, "1-9")
	stored := must[api.Plan](t)(h.admin().GetPlan(t.Context(), run.Plan))
	problem, err := convert[planning.Problem](stored.Problem)
	require.NoError(t, err)
	plan, err := planning.Solve(t.Context(), problem, planning.Options{})
	require.NoError(t, err)
	again, err := convert[map[string]any](plan)
	require.NoError(t, err)
	assert.Equal(t, stored.Plan, again)
	for _, b := range stored.Bookings {
		assert.Equal(t, api.PlannedBookingBasisMeasured, b.Basis)
	}
	var left []string
	for _, l := range stored.LeftOut {
		left = append(left, l.Place+"/"+l.Crew+" "+l.Why)
	}
	assert.Contains(t, strings.Join(left, "\n"), "bellows/g1 no frame was timed with Halyard 12")
}

// send sends a request without a body.
func (h *house) send(method, path, token string) *http.Response {
	r, err := http.NewRequestWithContext(h.t.Context(), method, h.address+path, nil)
	require.NoError(h.t, err)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(h.t, err)
	h.t.Cleanup(func() { _ = answer.Body.Close() })
	return answer
}

func TestHealthAndMetrics(t *testing.T) {
	h, _, _, _, _ := playedHouse(t, "1-9")
	get := func(path string) string {
		answer := h.send("GET", path, h.token)
		assert.Equal(t, http.StatusOK, answer.StatusCode)
		return readAll(t, answer.Body)
	}
	assert.Equal(t, "ok\n", get("/healthz"))
	assert.Equal(t, "ready\n", get("/readyz"))
	assert.Equal(t, http.StatusUnauthorized, h.send("GET", "/metrics", "").StatusCode, "it names hosts")
	for i := range 5 {
		h.send(fmt.Sprintf("MADE%d", i), "/api/v1/runs", h.token)
	}
	metrics := get("/metrics")
	assert.NotContains(t, metrics, "MADE", "what anybody makes up is no label")
	assert.Contains(t, metrics, `rotanex_frames{state="waiting"} 9`)
	assert.Contains(t, metrics, "rotanex_hosts_up 2")
	assert.Contains(t, metrics, `rotanex_http_request_seconds_count{method="POST",route="/api/v1/runs",status="201"} 1`)
}

// The contract is read where the service is, without a token and without another host.
func TestTheContractIsServed(t *testing.T) {
	h := newHouse(t)
	get := func(path string) string {
		answer := h.send("GET", path, "")
		require.Equal(t, http.StatusOK, answer.StatusCode, path)
		return readAll(t, answer.Body)
	}
	var contract struct {
		OpenAPI string         `json:"openapi"`
		Paths   map[string]any `json:"paths"`
	}
	require.NoError(t, json.Unmarshal([]byte(get("/api/openapi.json")), &contract))
	assert.NotEmpty(t, contract.OpenAPI)
	assert.Contains(t, contract.Paths, "/runs/{run}")
	page := get("/api")
	assert.Contains(t, page, "Rotanex: the interface")
	script := regexp.MustCompile(`src="(/assets/api-[^"]+\.js)"`).FindStringSubmatch(page)
	require.NotNil(t, script, page)
	assert.Contains(t, get(script[1]), "rapi-doc")
	assert.NotRegexp(t, `(src|href)="https?://`, page)
	assert.Equal(t, http.StatusNotFound, h.send("GET", "/api/v2/runs", h.token).StatusCode)
}
