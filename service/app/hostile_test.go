package app

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

var requests = flag.Int("requests", 4, "how many requests of every role each operation is sent")

// operation is one of the contract's.
type operation struct {
	method, path string
	*openapi3.Operation
	params openapi3.Parameters
}

// operations are all of the contract, in one order.
func operations(t testing.TB) (out []operation) {
	doc, err := api.GetSpec()
	require.NoError(t, err)
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			out = append(out, operation{method, path, op, slices.Concat(item.Parameters, op.Parameters)})
		}
	}
	slices.SortFunc(out, func(a, b operation) int { return strings.Compare(a.OperationID, b.OperationID) })
	return out
}

// besieged is a service with something in it, that everybody sends what they like to.
type besieged struct {
	*Service
	tokens map[string]string // by role
	known  map[string][]string
	mu     sync.Mutex
	faults []string // of answers and of what the service does by itself
}

// Handle keeps what the service logs as wrong.
func (b *besieged) Handle(_ context.Context, r slog.Record) error {
	if r.Level < slog.LevelError {
		return nil
	}
	text := r.Message
	r.Attrs(func(a slog.Attr) bool { text += " " + a.String(); return true })
	b.mu.Lock()
	b.faults = append(b.faults, text)
	b.mu.Unlock()
	return nil
}

func (b *besieged) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelError }
func (b *besieged) WithAttrs([]slog.Attr) slog.Handler           { return b }
func (b *besieged) WithGroup(string) slog.Handler                { return b }

// said are the faults since the last call.
func (b *besieged) said() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := strings.Join(b.faults, "; ")
	b.faults = nil
	return out
}

// besiege starts one, one at a time as it hears whatever is logged, with a host that an agent has, a shot, its times, a plan and a run.
func besiege(t testing.TB) *besieged {
	b := &besieged{tokens: map[string]string{"nobody": ""}, known: map[string][]string{}}
	log := slog.New(b)
	before := slog.Default()
	slog.SetDefault(log)
	t.Cleanup(func() { slog.SetDefault(before) })
	var err error
	b.Service, err = Start(context.Background(), Config{DatabaseURL: testdb.URL(t), Blobs: t.TempDir(), Address: "http://127.0.0.1:1", Log: log})
	require.NoError(t, err)
	t.Cleanup(b.Close)
	b.tokens["admin"] = b.FirstToken
	must := func(method, path, kind, body string, status int) map[string]any {
		t.Helper()
		w := b.send(t, "admin", method, path, kind, strings.NewReader(body), nil)
		require.Equal(t, status, w.Code, "%s %s: %s", method, path, w.Body)
		var out map[string]any
		if w.Body.Len() > 0 {
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &out))
		}
		return out
	}
	asJSON := "application/json"
	for _, role := range []string{"viewer", "operator"} {
		b.tokens[role] = must("POST", "/tokens", asJSON, fmt.Sprintf(`{"name":%q,"role":%q}`, role, role), 201)["secret"].(string)
	}
	must("PUT", "/hosts/bellows", asJSON, `{"name":"bellows","source":"loft","cpu":{"model":"x","cores":16},"memory_gb":64,"power":{"price_kwh":"0.3"},"devices":[{"id":"g0","model":"a","memory_gb":24,"backends":["cuda"]}]}`, 200)
	must("PUT", "/sources/tern", asJSON, `{"spec":{"name":"tern","kind":"rented","address":"http://127.0.0.1:1","card":{"currency":"EUR"}}}`, 200)
	must("PUT", "/offers/tern-solo", asJSON, `{"name":"tern-solo","source":"tern","max_servers":3,"price_h":"0.8","fee":"0","increment_s":60,"boot_s":120,"cpu":{"model":"x","cores":8},"memory_gb":64,"devices":[{"id":"g0","model":"a","memory_gb":24,"backends":["cuda"]}]}`, 200)
	must("PUT", "/sources/saltmarsh", asJSON, `{"spec":{"name":"saltmarsh","kind":"farm","address":"http://127.0.0.1:1","card":{"currency":"EUR"}}}`, 200)
	must("PUT", "/farms/ebb", asJSON, `{"name":"ebb","source":"saltmarsh","nodes":20,"lead_s":600,"work":{"node_hour":"0.5"},"cpu":{"model":"x","cores":16},"memory_gb":64,"launchers":["simulated"]}`, 200)
	must("PUT", "/licences/kiln", asJSON, `{"pool":"kiln","kind":"floating","seats":5}`, 200)
	join := must("POST", "/tokens", asJSON, `{"name":"a","role":"agent","host":"bellows"}`, 201)["secret"].(string)
	b.tokens["agent"] = must("POST", "/agent/join", asJSON, fmt.Sprintf(`{"join_token":%q,"host":"bellows"}`, join), 200)["token"].(string)
	stock := b.send(t, "agent", "PUT", "/agent/stock", asJSON, strings.NewReader(`{"boot":"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b","cpu":{"model":"x","cores":16},"memory_gb":64,"on_ac_power":true,"devices":[{"id":"g0","model":"a","memory_gb":24,"backends":["cuda"]}],"launchers":["simulated"]}`), nil)
	require.Less(t, stock.Code, 300, stock.Body)
	for _, shot := range []string{"gale-010", "coda-060"} {
		must("PUT", "/shots/"+shot, asJSON, `{"name":"`+shot+`","scene":"a","frames":"1-50","width":64,"height":36,"launcher":"simulated"}`, 200)
	}
	var beat struct {
		Sum string `json:"inputs_sum"`
	}
	for range 2 { // asked what files are to be looked for, and told that they are there
		w := b.send(t, "agent", "POST", "/agent/heartbeat", asJSON, strings.NewReader(fmt.Sprintf(`{"boot":"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b","held":[],"looked_for":%q}`, beat.Sum)), nil)
		require.Equal(t, 200, w.Code, w.Body)
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &beat))
	}
	must("POST", "/times", "text/csv", "shot,host,crew,models,backend,seconds,setting.launcher\ngale-010,bellows,g0,a,cuda,60,simulated\ncoda-060,bellows,cpu,x,cpu,90,simulated\n", 201)
	by := time.Now().UTC().Add(48 * time.Hour).Format(time.RFC3339)
	plan := must("POST", "/plans", asJSON, `{"shots":["gale-010"],"by":"`+by+`"}`, 201)["id"].(string)
	run := must("POST", "/runs", asJSON, `{"plan":"`+plan+`","spend":"5"}`, 201)["id"].(string)
	b.known = map[string][]string{
		"plan": {plan}, "run": {run}, "before": {plan}, "after": {plan}, "shot": {"gale-010", "coda-060"}, "host": {"bellows"}, "crew": {"cpu", "g0", "g0+cpu"}, "offer": {"tern-solo"}, "source": {"tern", "saltmarsh"},
		"farm": {"ebb"}, "pool": {"kiln"}, "licence": {"kiln"}, "launcher": {"simulated", "povray"}, "device": {"g0", "cpu"}, "place": {"bellows", "tern-solo", "ebb"}, "receiver": {"desk"}, "frames": {"1-50", "1,2,3", "1-9x2"},
		"boot": {"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b"}, "without": {"tern"}, "token": {"1", "2", "3"}, "currency": {"EUR", "USD"}, "path": {"a", "b/c", "../x"}, "scene": {"a", "b/c.pov"}, "like": {"bellows", "tern-solo"}, "frame": {"1", "2", "3", "25", "50"},
	}
	require.Empty(t, b.said())
	return b
}

// patience is how long an answer may take, of which requests wait a second where they ask for it.
const patience = 30 * time.Second

// send sends one request, and ends it from the client's side after a while: what streams goes on until then.
func (b *besieged) send(t testing.TB, role, method, path, kind string, body *strings.Reader, header http.Header) *httptest.ResponseRecorder {
	t.Helper()
	// A plan waits up to 8 s for agents that have not looked for a shot's files yet; the fuzzer takes 10 s for a hang.
	usual := 5 * time.Second
	if strings.HasPrefix(path, "/events") || strings.HasPrefix(path, "/agent/leases") && method == "POST" {
		usual = 100 * time.Millisecond
	}
	ctx, cancel := context.WithTimeout(context.Background(), usual)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, "http://127.0.0.1/api/v1"+path, body)
	require.NoError(t, err)
	for name, all := range header {
		r.Header[name] = all
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	if token := b.tokens[role]; token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	w, done := httptest.NewRecorder(), make(chan any, 1)
	go func() {
		defer func() { done <- recover() }()
		b.Handler.ServeHTTP(w, r)
	}()
	select {
	case fell := <-done:
		require.Nil(t, fell, "%s %s", method, path)
	case <-time.After(patience):
		require.FailNow(t, "it hangs", "%s %s", method, path)
	}
	return w
}

// request makes one of an operation and sends it.
func (b *besieged) request(t testing.TB, op operation, role string, seed uint64) (shown string, w *httptest.ResponseRecorder) {
	g := &generator{Rand: rand.New(rand.NewPCG(seed, 3)), known: b.known, hostile: []float64{0, 0, 0.02, 0.1}[seed%4], sparse: []float64{0.9, 0.9, 0.6, 0.2}[seed/4%4]}
	if g.chance(0.6) {
		g.fault, g.hostile = 1+g.IntN(25), 0 // one fault alone gets further than many
	}
	path, query, header := op.path, url.Values{}, http.Header{}
	named := "" // what the path names, which the body mostly names too
	for _, p := range op.params {
		v := g.value(p.Value.Name, p.Value.Schema.Value, 0)
		text := fmt.Sprint(v)
		switch p.Value.In {
		case "path":
			if text == "" || text == "." || text == ".." {
				text = "x"
			}
			named = text
			path = strings.ReplaceAll(path, "{"+p.Value.Name+"}", url.PathEscape(text))
		case "query":
			if p.Value.Required || g.chance(0.4) {
				query.Set(p.Value.Name, text)
			}
		case "header":
			if p.Value.Required || g.chance(0.4) {
				header[http.CanonicalHeaderKey(p.Value.Name)] = []string{text}
			}
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	header.Set("Prefer", g.pick([]string{"wait=0", "wait=0", "wait=0", "wait=1"}))
	kind, body := "", ""
	if op.RequestBody != nil {
		for k, content := range op.RequestBody.Value.Content {
			switch kind = k; k {
			case "application/json":
				sent := g.value("", content.Schema.Value, 0)
				if fields, is := sent.(map[string]any); is && g.chance(0.9) {
					for _, name := range []string{"name", "pool"} {
						if _, has := fields[name]; has && named != "" {
							fields[name] = named
						}
					}
					if spec, is := fields["spec"].(map[string]any); is {
						spec["name"] = named
					}
				}
				data, err := json.Marshal(sent)
				require.NoError(t, err)
				body = string(data)
				if g.chance(g.hostile) {
					body = g.pick([]string{"", "null", "[]", body[:len(body)/2], strings.Repeat("[", 20000), `{"a":1e999}`, "\xff", body + body})
				}
			case "text/csv":
				body = g.csv(map[string]string{"importTimes": "shot,host,crew,models,seconds,frame,warm_up", "importRates": "date,from,to,rate"}[op.OperationID])
			default:
				body = string(make([]byte, g.IntN(2000)))
			}
		}
		if g.chance(g.hostile) {
			kind = g.pick([]string{"", "text/csv", "application/octet-stream", "application/json", ";"})
		}
	}
	w = b.send(t, role, op.method, path, kind, strings.NewReader(body), header)
	return fmt.Sprintf("%s %s %s as %s %v\n%.2000s", op.method, path, kind, role, header, body), w
}

// learns keeps ids and names of what an answer has, for the requests to come.
func (b *besieged) learns(op operation, w *httptest.ResponseRecorder) {
	var leases []struct{ Lease, Fence int64 }
	if op.OperationID == "Lease" && w.Code == 200 && json.Unmarshal(w.Body.Bytes(), &leases) == nil && len(leases) > 0 {
		b.known["lease"], b.known["fence"] = nil, nil
		for _, l := range leases {
			b.known["lease"], b.known["fence"] = append(b.known["lease"], fmt.Sprint(l.Lease)), append(b.known["fence"], fmt.Sprint(l.Fence))
		}
	}
	var made struct{ ID, Name string }
	if w.Code > 201 || op.method == "GET" || json.Unmarshal(w.Body.Bytes(), &made) != nil || made.ID == "" {
		return
	}
	what := strings.TrimSuffix(strings.Split(strings.TrimPrefix(op.path, "/"), "/")[0], "s")
	if what == "settings-studie" {
		what = "study"
	}
	if all := b.known[what]; len(all) < 20 {
		b.known[what] = append(all, made.ID)
	}
}

// endsIt reports whether an operation would end the siege.
func endsIt(op operation) bool {
	return slices.Contains([]string{"RevokeToken", "RotateToken", "SignOut"}, op.OperationID) || deletes(op)
}

// deletes reports whether an operation takes away what others are asked about; those come last.
func deletes(op operation) bool {
	return slices.Contains([]string{"DeleteRun", "DeleteShot", "DeleteHost", "DeleteSource"}, op.OperationID)
}

var roles = []string{"admin", "operator", "viewer", "agent", "nobody"}

// Whatever anybody sends is answered in time, and never with a fault of the service; what was stored by it does
// not spoil what is asked later.
func TestNothingThatIsSentIsAFault(t *testing.T) {
	b := besiege(t)
	all := operations(t)
	order := rand.New(rand.NewPCG(1, 5))
	seen := map[string]int{}
	try := func(op operation, i int) {
		for k, role := range roles {
			seed := uint64(i*len(roles) + k)
			shown, w := b.request(t, op, role, seed*1_000_003+uint64(len(op.OperationID)))
			b.learns(op, w)
			if faults := b.said(); w.Code >= 500 || faults != "" {
				if seen[op.OperationID]++; seen[op.OperationID] <= 2 {
					t.Errorf("%s\nis answered %d %.300s\n%.600s", shown, w.Code, w.Body, faults)
				}
			}
		}
	}
	for i := range *requests {
		order.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		for _, op := range all {
			if !endsIt(op) {
				try(op, i)
			}
		}
	}
	for i := range *requests {
		for _, op := range all {
			if deletes(op) {
				try(op, i)
			}
		}
	}
	require.Empty(t, seen)
}

// The same, as far as a fuzzer finds its way.
func FuzzOperations(f *testing.F) {
	all := operations(f)
	for i := range all {
		f.Add(uint64(i), uint8(i), uint8(i))
	}
	b := besiege(f)
	f.Fuzz(func(t *testing.T, seed uint64, operation, role uint8) {
		op := all[int(operation)%len(all)]
		if endsIt(op) {
			return
		}
		shown, w := b.request(t, op, roles[int(role)%len(roles)], seed)
		b.learns(op, w)
		if faults := b.said(); w.Code >= 500 || faults != "" {
			t.Errorf("%s\nis answered %d %.300s\n%.600s", shown, w.Code, w.Body, faults)
		}
	})
}
