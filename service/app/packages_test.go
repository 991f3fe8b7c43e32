package app

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A host gets the packages of what it renders or is booked for. Of others it does not learn that they are there.
func TestAHostGetsItsOwnPackagesAlone(t *testing.T) {
	b := besiege(t)
	scene := []byte("a scene")
	sum := fmt.Sprintf("%x", sha256.Sum256(scene))
	do := func(role, method, path, kind, body string) (int, string) {
		w := b.send(t, role, method, path, kind, strings.NewReader(body), nil)
		return w.Code, w.Body.String()
	}
	want := func(status int, role, method, path, kind, body string) string {
		t.Helper()
		got, said := do(role, method, path, kind, body)
		require.Equal(t, status, got, "%s %s %s: %s", role, method, path, said)
		return said
	}
	const asJSON = "application/json"
	want(204, "admin", "PUT", "/chunks/"+sum, "application/octet-stream", string(scene))
	want(200, "admin", "PUT", "/shots/gale-010/package", asJSON, `{"files":[{"path":"a","size":7,"chunks":["`+sum+`"]}]}`)
	by := time.Now().UTC().Add(48 * time.Hour).Format(time.RFC3339)
	var made struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(want(201, "admin", "POST", "/plans", asJSON, `{"shots":["gale-010"],"by":"`+by+`","again":true}`)), &made))
	require.NoError(t, json.Unmarshal([]byte(want(201, "admin", "POST", "/runs", asJSON, `{"plan":"`+made.ID+`","spend":"5"}`)), &made))
	var join struct{ Secret string }
	require.NoError(t, json.Unmarshal([]byte(want(201, "admin", "POST", "/tokens", asJSON, `{"name":"a","role":"agent","host":"eddy"}`)), &join))
	var token struct{ Token string }
	require.NoError(t, json.Unmarshal([]byte(want(200, "nobody", "POST", "/agent/join", asJSON, `{"join_token":"`+join.Secret+`","host":"eddy"}`)), &token))
	b.tokens["eddy"] = token.Token

	pack := "/agent/packages/" + made.ID + "/gale-010"
	assert.Contains(t, want(200, "agent", "GET", pack, "", ""), sum)
	assert.Equal(t, scene, bytes.TrimSpace([]byte(want(200, "agent", "GET", "/agent/chunks/"+sum, "", ""))))
	want(204, "agent", "POST", pack, asJSON, `{"bytes":7,"seconds":2}`)
	assert.Contains(t, want(422, "agent", "POST", pack, asJSON, `{"bytes":8,"seconds":2}`), "more than the package has")
	for _, other := range []string{pack, "/agent/packages/" + made.ID + "/coda-060", "/agent/packages/7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b/gale-010"} {
		want(404, "eddy", "GET", other, "", "")
		want(404, "eddy", "POST", other, asJSON, `{"bytes":1,"seconds":0.1}`)
	}
	there, nowhere := want(404, "eddy", "GET", "/agent/chunks/"+sum, "", ""), want(404, "eddy", "GET", "/agent/chunks/"+strings.Repeat("0", 64), "", "")
	request := regexp.MustCompile(`"instance":"[^"]*",`)
	said := func(answer, of string) string {
		return request.ReplaceAllString(strings.ReplaceAll(answer, of, ""), "")
	}
	assert.Equal(t, said(there, sum), said(nowhere, strings.Repeat("0", 64)))
	assert.Equal(t, int64(1), count(t, b, "SELECT count(*) FROM transfers"))
}
