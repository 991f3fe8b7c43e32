package app

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What something rests on is not removed; what is removed leaves what was paid, and what was learnt.
func TestWhatNothingRestsOnIsRemoved(t *testing.T) {
	b := besiege(t)
	run := b.known["run"][0]
	ask := func(role, method, path, body string) (int, string) {
		w := b.send(t, role, method, path, "application/json", strings.NewReader(body), http.Header{})
		return w.Code, w.Body.String()
	}
	refused := func(path, why string) {
		t.Helper()
		code, said := ask("admin", "DELETE", path, "")
		assert.Equal(t, 409, code, said)
		assert.Contains(t, said, why)
	}
	refused("/runs/"+run, "is running: rotanex cancel")
	refused("/shots/gale-010", "renders gale-010")
	refused("/hosts/bellows", "has booked bellows")
	require.NoError(t, b.store.Exec("INSERT INTO servers (run_id, id, offer, host, state, from_at, to_at, paid_at) VALUES (?, 'x', 'tern-solo', 'tern-1', 'ending', now(), now(), now())", run).Error)
	refused("/sources/tern", "has servers or jobs at tern")

	code, said := ask("operator", "PUT", "/runs/"+run+"/state", `{"state":"cancelled"}`)
	require.Equal(t, 200, code, said)
	refused("/runs/"+run, "1 servers and jobs")
	require.NoError(t, b.store.Exec("UPDATE servers SET state = 'stopped'").Error)
	require.NoError(t, b.store.Exec("INSERT INTO charges (run_id, source, place, at, metered_s, amount, unit, factor, cost) VALUES (?, 'tern', 'tern-1', now(), 1, 2, 'EUR', '1', 2)", run).Error)

	code, said = ask("operator", "PUT", "/runs/"+run+"/archived", `{"archived":true}`)
	require.Equal(t, 204, code, said)
	_, listed := ask("viewer", "GET", "/runs", "")
	assert.NotContains(t, listed, run)
	_, listed = ask("viewer", "GET", "/runs?archived=true", "")
	assert.Contains(t, listed, run)
	_, listed = ask("viewer", "GET", "/runs/"+run, "")
	assert.Contains(t, listed, "cancelled", "its page is there")

	times := count(t, b, "SELECT count(*) FROM times")
	for _, path := range []string{"/runs/" + run, "/shots/gale-010", "/hosts/bellows", "/sources/tern"} {
		code, _ := ask("viewer", "DELETE", path, "")
		assert.Equal(t, 403, code, path)
		code, said := ask("admin", "DELETE", path, "")
		assert.Equal(t, 204, code, "%s: %s", path, said)
		code, _ = ask("admin", "DELETE", path, "")
		assert.Equal(t, 404, code, path)
	}
	for _, op := range operations(t) {
		if op.method == "GET" && strings.HasPrefix(op.path, "/runs/{run}") {
			code, said := ask("viewer", "GET", strings.NewReplacer("{run}", run, "{shot}", "gale-010", "{frame}", "1", "{fence}", "1", "{file}", "depth").Replace(op.path), "")
			assert.Equal(t, 404, code, "%s: %s", op.path, said)
		}
	}
	assert.Zero(t, count(t, b, "SELECT count(*) FROM offers"))
	assert.EqualValues(t, 1, count(t, b, "SELECT count(*) FROM charges"), "what was paid stays")
	assert.Equal(t, times, count(t, b, "SELECT count(*) FROM times"), "and what was learnt")
	code, _ = ask("agent", "POST", "/agent/heartbeat", `{"boot":"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b","held":[]}`)
	assert.NotEqual(t, 200, code, "its agent's credential is worthless")
	assert.Empty(t, b.said())
}
