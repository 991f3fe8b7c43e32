package e2e

import (
	"bytes"
	"net/http"
	"net/http/cookiejar"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

func TestRoles(t *testing.T) {
	h := newHouse(t)
	make := func(role api.Role) string {
		return must[api.MadeToken](t)(h.admin().CreateToken(t.Context(), api.NewToken{Name: string(role), Role: role})).Secret
	}
	viewer, operator := h.as(make("viewer")), h.as(make("operator"))
	h.putHost(bellows)

	must[api.HostList](t)(viewer.ListHosts(t.Context(), &api.ListHostsParams{}))
	problem := refused(t, http.StatusForbidden)(viewer.DrainHost(t.Context(), "bellows", api.DrainHostJSONRequestBody{Drain: true}))
	assert.Equal(t, `this needs the role operator; the token "viewer" has viewer`, problem.Detail)
	must[api.Host](t)(operator.DrainHost(t.Context(), "bellows", api.DrainHostJSONRequestBody{Drain: true}))
	refused(t, http.StatusForbidden)(operator.ListTokens(t.Context(), &api.ListTokensParams{}))
	refused(t, http.StatusForbidden)(h.admin().Heartbeat(t.Context(), api.Heartbeat{Held: []api.Held{}}))
	refused(t, http.StatusUnauthorized)(h.as("rtx_wrong").ListHosts(t.Context(), &api.ListHostsParams{}))
	refused(t, http.StatusUnauthorized)(h.as("").ListHosts(t.Context(), &api.ListHostsParams{}))

	tokens := must[api.TokenList](t)(h.admin().ListTokens(t.Context(), &api.ListTokensParams{})).Items
	for _, token := range tokens {
		if token.Name == "viewer" {
			must[struct{}](t)(h.admin().RevokeToken(t.Context(), token.Id))
		}
	}
	refused(t, http.StatusUnauthorized)(viewer.ListHosts(t.Context(), &api.ListHostsParams{}))
	assert.Zero(t, query[int](t, h.database, "SELECT count(*) FROM tokens WHERE encode(hash, 'escape') LIKE '%rtx_%'"), "a secret is stored")
}

func TestAJoinTokenIsGoodOnceAndForItsHost(t *testing.T) {
	h := newHouse(t)
	join := func(token, host string) (*http.Response, error) {
		return h.as("").JoinAgent(t.Context(), api.JoinAgentJSONRequestBody{JoinToken: token, Host: host})
	}
	token := h.joinToken("bellows")
	refused(t, http.StatusForbidden)(join(token, "eddy"))
	own := must[struct{ Token string }](t)(join(token, "bellows"))
	assert.Contains(t, refused(t, http.StatusForbidden)(join(token, "bellows")).Detail, "rotanex tokens join bellows")
	refused(t, http.StatusForbidden)(h.as(own.Token).ListHosts(t.Context(), &api.ListHostsParams{}))
	refused(t, http.StatusForbidden)(h.as("").SignIn(t.Context(), api.SignInJSONRequestBody{Token: own.Token}))
}

func TestTheConsolesSession(t *testing.T) {
	h := newHouse(t)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	send := func(method, path, body string, header ...string) *http.Response {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), method, h.address+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		answer, err := browser.Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { _ = answer.Body.Close() })
		return answer
	}
	signedIn := send(http.MethodPost, "/api/v1/session", `{"token":"`+h.token+`"}`)
	require.Equal(t, http.StatusOK, signedIn.StatusCode)
	cookie := signedIn.Header.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	assert.NotContains(t, cookie, h.token)

	assert.Equal(t, http.StatusOK, send(http.MethodGet, "/api/v1/hosts", "").StatusCode)
	foreign := []string{"Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example"}
	assert.Equal(t, http.StatusForbidden, send(http.MethodPost, "/api/v1/tokens", `{"name":"x","role":"admin"}`, foreign...).StatusCode)
	assert.Equal(t, http.StatusCreated, send(http.MethodPost, "/api/v1/tokens", `{"name":"x","role":"viewer"}`, "Sec-Fetch-Site", "same-origin").StatusCode)
	assert.Equal(t, http.StatusNoContent, send(http.MethodDelete, "/api/v1/session", "").StatusCode)
	assert.Equal(t, http.StatusUnauthorized, send(http.MethodGet, "/api/v1/hosts", "").StatusCode)
}

func TestTheServiceRefusesToBeOpenInTheClear(t *testing.T) {
	for _, args := range [][]string{{"--listen", "0.0.0.0:0"}, {"--listen", "nonsense"}, {"--listen", "127.0.0.1:0", "--tls-cert", "x"}} {
		cmd := exec.Command(filepath.Join(bin, "rotanex-service"), append(args, "--database-url", "postgres://127.0.0.1:1/x", "--state-dir", t.TempDir())...)
		var said bytes.Buffer
		cmd.Stderr = &said
		require.Error(t, cmd.Run())
		assert.Contains(t, said.String(), "--", "it says which flag to fix")
		assert.NotContains(t, said.String(), "connect", "it does not get as far as the database")
	}
}
