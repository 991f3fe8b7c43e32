package app

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// audited asks for records.
func (b *besieged) audited(t *testing.T, query url.Values) []api.AuditRecord {
	t.Helper()
	w := b.send(t, "operator", "GET", "/audit?"+query.Encode(), "", strings.NewReader(""), nil)
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	var out api.AuditList
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &out))
	return out.Items
}

// Whatever changes something is noted: who, from where, what, as it was and as it is; what is refused is not, nor are secrets.
func TestWhoDidWhat(t *testing.T) {
	b := besiege(t)
	run := b.known["run"][0]
	started := b.audited(t, url.Values{"about": {"/runs/" + run}})
	require.Len(t, started, 1)
	assert.Equal(t, "start run", started[0].Did)
	assert.Equal(t, "first admin", started[0].Who)
	assert.Equal(t, "admin", started[0].Role)
	assert.Empty(t, started[0].Before)

	put := func(role, path, body string, status int) {
		t.Helper()
		w := b.send(t, role, "PUT", path, "application/json", strings.NewReader(body), nil)
		require.Equal(t, status, w.Code, w.Body)
	}
	put("operator", "/runs/"+run+"/state", `{"state":"paused"}`, 200)
	put("viewer", "/runs/"+run+"/state", `{"state":"running"}`, 403)
	put("operator", "/runs/"+run+"/state", `{"state":"asleep"}`, 422)
	paused := b.audited(t, url.Values{"about": {"/runs/" + run}})
	require.Len(t, paused, 2, "what is refused changes nothing")
	assert.Equal(t, map[string]any{"state": "running"}, paused[0].Before)
	assert.Equal(t, map[string]any{"state": "paused"}, paused[0].After)
	assert.Equal(t, "operator", paused[0].Who)

	put("operator", "/hosts/bellows/drain", `{"drain":true}`, 200)
	assert.Equal(t, "drain host", b.audited(t, url.Values{"about": {"/hosts/bellows"}})[0].Did, "of the host itself")

	put("admin", "/offers/tern-solo", `{"name":"tern-solo","source":"tern","max_servers":3,"price_h":"0.1","fee":"0","increment_s":60,"boot_s":120,"cpu":{"model":"x","cores":8},"memory_gb":64}`, 200)
	put("admin", "/farms/ebb", `{"name":"ebb","source":"saltmarsh","nodes":20,"lead_s":600,"work":{"node_hour":"0.6"},"cpu":{"model":"x","cores":16},"memory_gb":64,"launchers":["simulated"]}`, 200)
	put("admin", "/farms/ebb", `{"name":"ebb","source":"saltmarsh","nodes":20,"lead_s":600,"work":{"node_hour":"0.6"},"cpu":{"model":"x","cores":16},"memory_gb":64,"launchers":["simulated"]}`, 200)
	farm := b.audited(t, url.Values{"about": {"/farms/ebb"}})
	require.Len(t, farm, 2, "what was so already is no change")
	assert.Equal(t, map[string]any{"work": map[string]any{"node_hour": "0.50"}}, farm[0].Before, "though it is read in a list alone")

	priced := b.audited(t, url.Values{"did": {"put offer"}, "who": {"first admin"}})
	require.Len(t, priced, 2)
	text, err := json.Marshal(priced[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "0.1")

	for _, x := range b.audited(t, url.Values{}) {
		text, err := json.Marshal(x)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "rtx_", "secrets are not kept: %s", x.Did)
	}
	var w *httptest.ResponseRecorder
	joined := b.audited(t, url.Values{"did": {"join agent"}})
	require.Len(t, joined, 1, "an agent that joins is noted")
	assert.Equal(t, "agent of bellows", joined[0].Who)
	assert.Equal(t, "/hosts/bellows", joined[0].About)
	w = b.send(t, "nobody", "POST", "/session", "application/json", strings.NewReader(`{"token":"`+b.tokens["operator"]+`"}`), nil)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Equal(t, "operator", b.audited(t, url.Values{"did": {"sign in"}})[0].Who)
	assert.Empty(t, b.audited(t, url.Values{"text": {"report stock"}}), "what agents do is in the tries of frames")
	assert.Empty(t, b.audited(t, url.Values{"about": {"/runs"}, "text": {"%"}}), "what is searched for is taken as it is")
	w = b.send(t, "viewer", "GET", "/audit", "", strings.NewReader(""), nil)
	assert.Equal(t, http.StatusForbidden, w.Code)

	require.ErrorContains(t, b.store.Exec("UPDATE audit SET who = 'somebody else'").Error, "is not changed")
	require.ErrorContains(t, b.store.Exec("DELETE FROM audit").Error, "is not changed")
	assert.Empty(t, b.said())
}
