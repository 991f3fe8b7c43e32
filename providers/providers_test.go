package providers_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/providers"
)

// source answers every call in one way and keeps the last.
func source(t testing.TB, status int, body string) (providers.Remote, *http.Request) {
	t.Helper()
	last := &http.Request{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*last = *r
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(server.Close)
	return providers.Remote{Address: server.URL + "/", Secret: "tide"}, last
}

func TestWhatAnAnswersStatusMeans(t *testing.T) {
	for status, means := range map[int]func(error) bool{
		200: func(err error) bool { return assert.ErrorContains(t, err, "not the protocol's") },
		204: func(err error) bool { return err == nil },
		404: func(err error) bool { return assert.ErrorIs(t, err, providers.ErrGone) },
		410: func(err error) bool { return assert.ErrorIs(t, err, providers.ErrGone) },
		402: refuses(t), 409: refuses(t), 422: refuses(t),
		401: asksAgain(t), 429: asksAgain(t), 500: asksAgain(t), 503: asksAgain(t),
	} {
		remote, _ := source(t, status, "not a single card is free\n")
		assert.True(t, means(providers.RemoteServers{Remote: remote}.Stop(t.Context(), "one")), "%d", status)
	}
}

// What is not the protocol's is believed by nobody: a server would count as stopped, and be paid for.
func TestAnAnswerOfAnotherKindIsNotBelieved(t *testing.T) {
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	t.Cleanup(other.Close)
	for name, answer := range map[string]http.HandlerFunc{
		"redirects to a": func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) },
		"redirects": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
		},
		"text/html": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = io.WriteString(w, "<h1>Please sign in</h1>")
		},
	} {
		server := httptest.NewServer(answer)
		t.Cleanup(server.Close)
		remote := providers.RemoteServers{Remote: providers.Remote{Address: server.URL, Secret: "tide"}}
		assert.Error(t, remote.Stop(t.Context(), "one"), name)
		_, err := remote.Look(t.Context(), "one")
		assert.Error(t, err, name)
	}
	assert.Zero(t, elsewhere, "the secret went nowhere else")
}

func refuses(t *testing.T) func(error) bool {
	return func(err error) bool {
		var no *providers.Refused
		return assert.ErrorAs(t, err, &no) && assert.ErrorContains(t, no, "not a single card is free")
	}
}

// asksAgain is for errors that are neither for good nor gone.
func asksAgain(t *testing.T) func(error) bool {
	return func(err error) bool {
		var no *providers.Refused
		return assert.Error(t, err) && assert.NotErrorIs(t, err, providers.ErrGone) && !assert.ObjectsAreEqual(true, asRefused(err, &no))
	}
}

func asRefused(err error, no **providers.Refused) bool {
	found, ok := err.(*providers.Refused)
	*no = found
	return ok
}

func TestAnAnswerThatBreaksOffIsAnError(t *testing.T) {
	for _, body := range []string{"", `{"name":`, `[{"name":"a"}`, `<html>`} {
		remote, _ := source(t, 200, body)
		_, err := providers.RemoteServers{Remote: remote}.Look(t.Context(), "one")
		assert.ErrorContains(t, err, "not whole", body)
		_, err = providers.RemoteFarm{Remote: remote}.Look(t.Context(), "one")
		assert.ErrorContains(t, err, "not whole", body)
	}
}

func TestASourceThatDoesNotAnswerIsGivenUp(t *testing.T) {
	goOn := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-goOn }))
	t.Cleanup(func() { close(goOn); server.Close() })
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	err := providers.RemoteFarm{Remote: providers.Remote{Address: server.URL}}.Release(ctx, "job")
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

// Whatever a name is made of, it arrives as it is, in one piece of the path.
func TestNamesArriveAsTheyAre(t *testing.T) {
	remote, last := source(t, 200, `{"name":"x","frames":[],"findings":[]}`)
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-zA-Z0-9 ._~/?#%+&=;:@äö-]{1,20}`).Filter(func(s string) bool { return s != "." && s != ".." }).Draw(t, "name")
		_, err := providers.RemoteServers{Remote: remote}.Look(context.Background(), name)
		require.NoError(t, err)
		assert.Equal(t, "/servers/"+name, last.URL.Path)
		assert.Empty(t, last.URL.RawQuery)
		assert.Equal(t, "Bearer tide", last.Header.Get("Authorization"))
		_, err = providers.RemoteFarm{Remote: remote}.Look(context.Background(), name)
		require.NoError(t, err)
		assert.Equal(t, "/jobs/"+name, last.URL.Path)
	})
}

func TestWhatIsGoneNeedNotBeDeleted(t *testing.T) {
	remote, last := source(t, 404, "")
	assert.NoError(t, providers.RemoteServers{Remote: remote}.Delete(t.Context(), "one"))
	assert.Equal(t, http.MethodDelete, last.Method)
	assert.ErrorIs(t, providers.RemoteServers{Remote: remote}.Stop(t.Context(), "one"), providers.ErrGone)
}

// A source may say more than we know of, and leave out what it need not say.
func TestRecordsOfTheProtocolReadAndWrite(t *testing.T) {
	remote, _ := source(t, 200, `{"name":"one","owner":"us","offer":"solo","state":"up","metered_s":12.5,"colour":"blue"}`)
	seen, err := providers.RemoteServers{Remote: remote}.Look(t.Context(), "one")
	require.NoError(t, err)
	assert.Equal(t, providers.Server{Name: "one", Owner: "us", Offer: "solo", State: providers.Up, Metered: 12.5}, seen)
	data, err := json.Marshal(providers.Order{Name: "one", Owner: "us", Offer: "solo", Service: "http://x", JoinToken: "t"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"name":"one","owner":"us","offer":"solo","service":"http://x","join_token":"t"}`, string(data))
}
