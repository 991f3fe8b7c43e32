package access

import (
	"context"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/httpapi"
	"rotanex.example/service/teststage"
)

func newAccess(t *testing.T) (*Access, teststage.Stage) {
	t.Helper()
	t.Parallel()
	on := teststage.New(t)
	return New(on.DB, on.Clock, false, false), on
}

// status is the HTTP status that an error is answered with.
func status(t *testing.T, err error) int {
	t.Helper()
	var p *httpapi.Problem
	require.ErrorAs(t, err, &p)
	return p.Status
}

func TestWhatARoleMayDo(t *testing.T) {
	t.Parallel()
	all := []string{Viewer, Operator, Admin, Agent}
	for _, c := range []struct {
		method, path string
		may          []string
	}{
		{"GET", "/runs", []string{Viewer, Operator, Admin}},
		{"GET", "/sources", []string{Viewer, Operator, Admin}},
		{"DELETE", "/session", []string{Viewer, Operator, Admin}},
		{"DELETE", "/computations/1", []string{Viewer, Operator, Admin}}, // its own: the handler looks
		{"POST", "/plans", []string{Operator, Admin}},
		{"PUT", "/runs/1/state", []string{Operator, Admin}},
		{"PUT", "/hosts/bellows", []string{Operator, Admin}},
		{"PUT", "/sources/tern", []string{Admin}},
		{"PUT", "/offers/tern-solo", []string{Admin}}, // its price, which caps are held against
		{"PUT", "/farms/ebb", []string{Admin}},
		{"PUT", "/licences/kiln", []string{Admin}},
		{"POST", "/exchange-rates", []string{Admin}},
		{"GET", "/exchange-rates", []string{Viewer, Operator, Admin}},
		{"GET", "/tokens", []string{Admin}},
		{"POST", "/tokens", []string{Admin}},
		{"POST", "/agent/lease", []string{Agent}},
		{"GET", "/agent/inputs", []string{Agent}},
	} {
		for _, role := range all {
			err := allow(Principal{Name: "x", Role: role}, c.method, c.path)
			if assert.Equal(t, slices.Contains(c.may, role), err == nil, "%s %s as %s", c.method, c.path, role); err != nil {
				assert.Equal(t, http.StatusForbidden, status(t, err))
				assert.Contains(t, err.Error(), role, "it says which role it has")
			}
		}
	}
}

// The first admin token is made once, whoever starts first.
func TestTheFirstTokenIsMadeOnce(t *testing.T) {
	a, on := newAccess(t)
	var made sync.Map
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			secret, err := New(on.DB, on.Clock, false, false).Bootstrap(t.Context())
			assert.NoError(t, err)
			if secret != "" {
				made.Store(secret, true)
			}
		})
	}
	all.Wait()
	n := 0
	made.Range(func(secret, _ any) bool {
		n++
		p, ok, err := a.find(t.Context(), secret.(string))
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, Admin, p.Role)
		return true
	})
	assert.Equal(t, 1, n)
}

// A host joins once with a token; what it had before is worth nothing then.
func TestAHostJoinsOnce(t *testing.T) {
	a, on := newAccess(t)
	ctx := t.Context()
	_, join, err := a.JoinToken(ctx, "eddy")
	require.NoError(t, err)
	_, ok, err := a.find(ctx, join)
	require.NoError(t, err)
	assert.False(t, ok, "it opens nothing but the door")
	_, err = a.Join(ctx, join, "bellows")
	assert.Equal(t, http.StatusForbidden, status(t, err), "it is another host's")
	first, err := a.Join(ctx, join, "eddy")
	require.NoError(t, err)
	p, ok, err := a.find(ctx, first)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, Agent, p.Role)
	assert.Equal(t, "eddy", p.Host)
	_, err = a.Join(ctx, join, "eddy")
	assert.ErrorContains(t, err, "rotanex tokens join eddy")

	_, join, err = a.JoinToken(ctx, "eddy")
	require.NoError(t, err)
	second, err := a.Join(ctx, join, "eddy")
	require.NoError(t, err)
	on.Wall.Advance(cacheLife)
	_, ok, err = a.find(ctx, first)
	require.NoError(t, err)
	assert.False(t, ok, "it was joined anew")
	_, ok, err = a.find(ctx, second)
	require.NoError(t, err)
	assert.True(t, ok)

	_, late, err := a.JoinToken(ctx, "dory")
	require.NoError(t, err)
	on.Wall.Advance(joinLife)
	_, err = a.Join(ctx, late, "dory")
	assert.Equal(t, http.StatusForbidden, status(t, err), "it has expired")
}

// Sessions stand for a person's token, and end with it.
func TestASessionEndsWithItsToken(t *testing.T) {
	a, on := newAccess(t)
	ctx := t.Context()
	token, secret, err := a.Make(ctx, "night monitor", Viewer, "", 0)
	require.NoError(t, err)
	who, session, err := a.signIn(ctx, secret)
	require.NoError(t, err)
	assert.Equal(t, Viewer, who.Role)
	p, ok, err := a.find(ctx, session)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, "night monitor", p.Name)
	_, _, err = a.signIn(ctx, session)
	assert.Equal(t, http.StatusUnauthorized, status(t, err), "a session makes no sessions")
	require.NoError(t, a.Revoke(ctx, token.ID))
	for _, x := range []string{secret, session} {
		_, ok, err = a.find(ctx, x)
		require.NoError(t, err)
		assert.False(t, ok)
	}
	_, secret, err = a.Make(ctx, "guest", Viewer, "", 0)
	require.NoError(t, err)
	_, session, err = a.signIn(ctx, secret)
	require.NoError(t, err)
	on.Wall.Advance(sessionLife)
	_, ok, err = a.find(ctx, session)
	require.NoError(t, err)
	assert.False(t, ok, "it lasts a working day")
	assert.Error(t, a.Revoke(ctx, 4711))
}

// Another service process takes a token that was revoked for good a few seconds longer, and
// no more.
func TestARevokedTokenIsFoundOutByOthers(t *testing.T) {
	a, on := newAccess(t)
	other := New(on.DB, on.Clock, false, false)
	token, secret, err := a.Make(t.Context(), "script", Operator, "", 0)
	require.NoError(t, err)
	_, ok, err := other.find(t.Context(), secret)
	require.NoError(t, err)
	require.True(t, ok)
	require.NoError(t, a.Revoke(t.Context(), token.ID))
	on.Wall.Advance(cacheLife)
	_, ok, err = other.find(t.Context(), secret)
	require.NoError(t, err)
	assert.False(t, ok)
}

func TestTheGuard(t *testing.T) {
	a, _ := newAccess(t)
	_, viewer, err := a.Make(t.Context(), "night monitor", Viewer, "", 0)
	require.NoError(t, err)
	var seen Principal
	guarded := a.Guard(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen = From(r.Context())
		w.WriteHeader(http.StatusNoContent)
	}))
	for name, c := range map[string]struct {
		method, path string
		headers      map[string]string
		want         int
	}{
		"nobody":                    {"GET", "/runs", nil, 401},
		"an unknown token":          {"GET", "/runs", map[string]string{"Authorization": "Bearer rtx_wrong"}, 401},
		"another scheme":            {"GET", "/runs", map[string]string{"Authorization": "Basic " + viewer}, 401},
		"one who may":               {"GET", "/runs", map[string]string{"Authorization": "bearer " + viewer}, 204},
		"one who may not":           {"POST", "/plans", map[string]string{"Authorization": "Bearer " + viewer}, 403},
		"a cookie":                  {"GET", "/runs", map[string]string{"Cookie": Cookie + "=" + viewer}, 204},
		"a page of another origin":  {"DELETE", "/session", map[string]string{"Cookie": Cookie + "=" + viewer, "Sec-Fetch-Site": "cross-site"}, 403},
		"who signs in has no token": {"POST", "/session", nil, 204},
		"nor has an agent":          {"POST", "/agent/join", nil, 204},
	} {
		r := httptest.NewRequestWithContext(context.Background(), c.method, "/api/v1"+c.path, nil)
		for k, v := range c.headers {
			r.Header.Set(k, v)
		}
		seen = Principal{}
		w := httptest.NewRecorder()
		guarded.ServeHTTP(w, r)
		assert.Equal(t, c.want, w.Code, name)
		if c.want == 204 && c.headers != nil {
			assert.Equal(t, "night monitor", seen.Name, name)
		}
	}
}

// A repeat with the same key is the same thing, of the same caller and path alone.
func TestARepeatIsTheSame(t *testing.T) {
	t.Parallel()
	ask := func(token int64, path string) *http.Request {
		r := httptest.NewRequest(http.MethodPost, path, nil)
		return r.WithContext(As(r.Context(), Principal{TokenID: token}))
	}
	key := "k1"
	same := IDFor(ask(1, "/plans"), &key)
	assert.Equal(t, same, IDFor(ask(1, "/plans"), &key))
	assert.NotEqual(t, same, IDFor(ask(2, "/plans"), &key))
	assert.NotEqual(t, same, IDFor(ask(1, "/runs"), &key))
	assert.NotEqual(t, IDFor(ask(1, "/plans"), nil), IDFor(ask(1, "/plans"), nil))
}

// The last token of an admin is not taken away, whatever else there is; one that expired is none.
func TestTheLastAdminStays(t *testing.T) {
	a, on := newAccess(t)
	ctx := t.Context()
	_, _, err := a.Make(ctx, "night monitor", Operator, "", 0)
	require.NoError(t, err)
	first, secret, err := a.Make(ctx, "first", Admin, "", 0)
	require.NoError(t, err)
	short, _, err := a.Make(ctx, "for a day", Admin, "", 1)
	require.NoError(t, err)
	on.Wall.Advance(25 * time.Hour)
	assert.Equal(t, http.StatusConflict, status(t, a.Revoke(ctx, first.ID)))
	require.NoError(t, a.Revoke(ctx, short.ID), "what is not good any more may go")

	second, _, err := a.Make(ctx, "second", Admin, "", 0)
	require.NoError(t, err)
	_, session, err := a.signIn(ctx, secret)
	require.NoError(t, err)
	p, _, err := a.find(ctx, session)
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, status(t, a.Revoke(ctx, p.TokenID)), "a session is no token")
	var done sync.WaitGroup
	refused := make([]error, 2)
	for i, id := range []int64{first.ID, second.ID} {
		done.Go(func() { refused[i] = a.Revoke(ctx, id) })
	}
	done.Wait()
	assert.True(t, (refused[0] == nil) != (refused[1] == nil), "of two who take away each other's one is refused: %v", refused)
}

func TestASecretIsRotated(t *testing.T) {
	a, on := newAccess(t)
	ctx := t.Context()
	token, secret, err := a.Make(ctx, "script", Operator, "", 0)
	require.NoError(t, err)
	_, _, err = a.find(ctx, secret)
	require.NoError(t, err)
	_, fresh, err := a.Rotate(ctx, token.ID)
	require.NoError(t, err)
	_, ok, err := a.find(ctx, secret)
	require.NoError(t, err)
	assert.False(t, ok)
	p, ok, err := a.find(ctx, fresh)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, token.ID, p.TokenID)
	_, _, err = a.Rotate(ctx, 4711)
	assert.Equal(t, http.StatusNotFound, status(t, err))

	on.Wall.Advance(3 * noted)
	_, _, err = a.find(ctx, fresh)
	require.NoError(t, err)
	all, _, err := a.page(ctx, nil, nil)
	require.NoError(t, err)
	used := all[slices.IndexFunc(all, func(x Token) bool { return x.ID == token.ID })].UsedAt
	require.NotNil(t, used)
	assert.WithinDuration(t, on.Wall.Now(), *used, noted)
}

// A session ends when the token that it stands for would.
func TestASessionDoesNotOutliveItsToken(t *testing.T) {
	a, on := newAccess(t)
	_, secret, err := a.Make(t.Context(), "guest", Viewer, "", 1)
	require.NoError(t, err)
	on.Wall.Advance(24*time.Hour - time.Second)
	_, session, err := a.signIn(t.Context(), secret)
	require.NoError(t, err)
	_, ok, err := a.find(t.Context(), session)
	require.NoError(t, err)
	require.True(t, ok)
	on.Wall.Advance(time.Second)
	_, ok, err = a.find(t.Context(), session)
	require.NoError(t, err)
	assert.False(t, ok)
}

// Who tries secrets is stopped, and nobody else; tries that go well are not counted.
func TestTriesFromAnAddressAreBounded(t *testing.T) {
	a, _ := newAccess(t)
	_, good, err := a.Make(t.Context(), "guest", Viewer, "", 0)
	require.NoError(t, err)
	sign := func(from, secret string) *httptest.ResponseRecorder {
		r := httptest.NewRequestWithContext(t.Context(), "POST", "/api/v1/session", strings.NewReader(`{"token":"`+secret+`"}`))
		r.RemoteAddr = from + ":4711"
		r.Header.Set("X-Forwarded-For", "10.0.0.9") // no proxy of ours said so
		w := httptest.NewRecorder()
		a.SignIn(w, r)
		return w
	}
	for range 2 * mostFailures {
		require.Equal(t, http.StatusOK, sign("10.0.0.1", good).Code)
	}
	for range mostFailures {
		require.Equal(t, http.StatusUnauthorized, sign("10.0.0.1", "wrong").Code)
	}
	w := sign("10.0.0.1", good)
	assert.Equal(t, http.StatusTooManyRequests, w.Code)
	assert.Equal(t, "60", w.Header().Get("Retry-After"))
	assert.Equal(t, http.StatusOK, sign("10.0.0.2", good).Code)
	a.door.proxied = true
	assert.Equal(t, http.StatusOK, sign("10.0.0.1", good).Code, "the proxy says that it is somebody else")
}

// A request that lasts ends with its token, and those of one token are bounded.
func TestWhatLastsEndsWithItsToken(t *testing.T) {
	a, on := newAccess(t)
	token, secret, err := a.Make(t.Context(), "wall", Viewer, "", 0)
	require.NoError(t, err)
	inside := make(chan struct{}, mostAtOnce)
	guarded := a.Guard(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		inside <- struct{}{}
		<-r.Context().Done()
	}))
	ask := func() int {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "/api/v1/events", nil)
		r.Header.Set("Authorization", "Bearer "+secret)
		w := httptest.NewRecorder()
		guarded.ServeHTTP(w, r)
		return w.Code
	}
	var streams sync.WaitGroup
	for range mostAtOnce {
		streams.Go(func() { ask() })
	}
	for range mostAtOnce {
		<-inside
	}
	assert.Equal(t, http.StatusTooManyRequests, ask())
	_, _, err = a.Make(t.Context(), "admin", Admin, "", 0)
	require.NoError(t, err)
	require.NoError(t, a.Revoke(t.Context(), token.ID))
	on.Wall.Advance(cacheLife)
	streams.Wait()
	assert.Empty(t, a.door.inside)
}
