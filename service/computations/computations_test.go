package computations_test

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/planning/questions"
	"rotanex.example/service/access"
	"rotanex.example/service/clock"
	"rotanex.example/service/computations"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/jobs"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
)

// office is a service that computes, over a database. Its one worker waits until it is
// let go on, and answers with what it was asked.
type office struct {
	*computations.Computations
	jobs   *jobs.Jobs
	store  *store.Store
	began  atomic.Int32
	goOn   chan struct{}
	cutOff chan struct{}
	fails  atomic.Pointer[error]
}

func newOffice(t *testing.T, url, name string) *office {
	t.Helper()
	s := testdb.Reopen(t, url)
	t.Cleanup(s.Close)
	log := slog.New(slog.DiscardHandler)
	j, err := jobs.New(s, jobs.Config{Name: name}, log)
	require.NoError(t, err)
	o := &office{jobs: j, store: s, goOn: make(chan struct{}, 100), cutOff: make(chan struct{}, 100)}
	o.Computations = computations.New(s, clock.Wall(), events.New(s, clock.Wall(), log), j, log)
	o.On("plan", func(ctx context.Context, question []byte, say questions.Progress) (any, error) {
		o.began.Add(1)
		say(2, 5, "weighing")
		select {
		case <-ctx.Done():
			o.cutOff <- struct{}{}
			return nil, ctx.Err()
		case <-o.goOn:
		}
		if err := o.fails.Load(); err != nil {
			if *err == nil {
				panic("over")
			}
			return nil, *err
		}
		return string(question), nil
	})
	return o
}

// opens begins to compute, until the returned function is called or the test is over.
func (o *office) opens(t *testing.T) (shut func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.WithoutCancel(t.Context()))
	require.NoError(t, o.jobs.Start(ctx))
	done := false
	shut = func() {
		if !done {
			done = true
			_ = o.jobs.Stop(ctx)
			cancel()
		}
	}
	t.Cleanup(shut)
	return shut
}

func ask(name string) computations.Question {
	return computations.Question{
		ID: uuid.NewSHA1(uuid.NameSpaceURL, []byte(name)), Kind: "plan", About: name,
		Input: func(context.Context) (any, error) { return name, nil },
	}
}

func by(t *testing.T, token int64) context.Context {
	return access.As(t.Context(), access.Principal{TokenID: token, Name: "ada", Role: access.Viewer})
}

const patience = 20 * time.Second

func TestAQuestionIsComputedOnceWhoeverAsks(t *testing.T) {
	t.Parallel()
	o := newOffice(t, testdb.URL(t), "one")
	o.opens(t)
	one, err := o.Ask(by(t, 1), ask("gale"), 0)
	require.NoError(t, err)
	assert.False(t, one.State.Ended())
	testdb.Until(t, "its progress", func() bool {
		one, err = o.Ask(by(t, 2), ask("gale"), 0)
		require.NoError(t, err)
		return one.State == computations.Computing && one.Done == 2 && one.Parts == 5 && one.Doing == "weighing"
	})
	o.goOn <- struct{}{}
	for token := range int64(3) {
		one, err = o.Ask(by(t, token+1), ask("gale"), patience)
		require.NoError(t, err)
		var answer string
		require.NoError(t, one.Read(&answer))
		assert.Equal(t, `"gale"`, answer)
	}
	assert.Equal(t, int32(1), o.began.Load())
	old := ask("gale")
	old.Valid = time.Nanosecond
	o.goOn <- struct{}{}
	_, err = o.Ask(by(t, 1), old, patience)
	require.NoError(t, err)
	assert.Equal(t, int32(2), o.began.Load(), "an answer that is too old is computed anew")
	require.NoError(t, o.store.Exec("UPDATE computations SET ended_at = ended_at - interval '2 days'").Error)
	require.NoError(t, o.Sweep(t.Context()))
	var left int64
	require.NoError(t, o.store.Model(&computations.Computation{}).Count(&left).Error)
	assert.Zero(t, left, "what ended long ago is forgotten")
}

func TestAComputationThatIsCancelledEndsAndCanBeAskedAgain(t *testing.T) {
	t.Parallel()
	o := newOffice(t, testdb.URL(t), "one")
	o.opens(t)
	one, err := o.Ask(by(t, 1), ask("gale"), 0)
	require.NoError(t, err)
	testdb.Until(t, "the worker", func() bool { return o.began.Load() == 1 })
	assert.ErrorContains(t, o.Cancel(by(t, 2), one.ID), "a viewer may end a computation of its own only")
	assert.ErrorContains(t, o.Cancel(by(t, 1), uuid.New()), "there is no computation")
	require.NoError(t, o.Cancel(by(t, 1), one.ID))
	_, err = o.Ask(by(t, 1), ask("gale"), 0) // asked again before the worker has seen its end
	require.NoError(t, err)
	select {
	case <-o.cutOff:
	case <-time.After(patience):
		require.Fail(t, "the worker's context did not end")
	}
	o.goOn <- struct{}{}
	one, err = o.Ask(by(t, 1), ask("gale"), patience)
	require.NoError(t, err)
	assert.Equal(t, computations.Done, one.State)
	require.NoError(t, o.Cancel(by(t, 1), one.ID), "one that has ended stays as it is")
	one, err = o.Ask(by(t, 1), ask("gale"), 0)
	require.NoError(t, err)
	assert.Equal(t, computations.Done, one.State)
}

func TestWhatFailsSaysWhyOrThatTheLogDoes(t *testing.T) {
	t.Parallel()
	o := newOffice(t, testdb.URL(t), "one")
	o.opens(t)
	var none error
	for name, c := range map[string]struct {
		fails error
		says  string
	}{
		"told":   {httpapi.BadField("alone", "skerry", "is no owned host"), "is no owned host"},
		"hidden": {errors.New("row 7 of the secret table"), "its log says why"},
		"panic":  {none, "its log says why"},
	} {
		o.fails.Store(&c.fails)
		o.goOn <- struct{}{}
		_, err := o.Ask(by(t, 1), ask(name), patience)
		var p *httpapi.Problem
		require.ErrorAs(t, err, &p, name)
		assert.Contains(t, p.Detail, c.says)
		if name == "told" {
			assert.Equal(t, []httpapi.Field{{Name: "alone", Value: "skerry", Detail: "is no owned host"}}, p.Fields)
		}
	}
	o.fails.Store(nil)
	o.goOn <- struct{}{}
	_, err := o.Ask(by(t, 1), ask("told"), patience)
	assert.NoError(t, err, "what failed is computed anew when it is asked again")
}

func TestATokenHasSoManyOpen(t *testing.T) {
	t.Parallel()
	o := newOffice(t, testdb.URL(t), "one") // nobody computes
	for i := range 8 {
		_, err := o.Ask(by(t, 1), ask(string(rune('a'+i))), 0)
		require.NoError(t, err)
	}
	_, err := o.Ask(by(t, 1), ask("one more"), 0)
	var p *httpapi.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, http.StatusTooManyRequests, p.Status)
	_, err = o.Ask(by(t, 1), ask("a"), 0)
	assert.NoError(t, err, "what is under way may be asked for")
	_, err = o.Ask(by(t, 2), ask("one more"), 0)
	assert.NoError(t, err, "another token has its own")
}

func TestAComputationOutlivesItsService(t *testing.T) {
	t.Parallel()
	url := testdb.URL(t)
	o := newOffice(t, url, "one")
	shut := o.opens(t)
	_, err := o.Ask(by(t, 1), ask("gale"), 0)
	require.NoError(t, err)
	testdb.Until(t, "the worker", func() bool { return o.began.Load() == 1 })
	shut()
	again := newOffice(t, url, "one")
	again.opens(t)
	again.goOn <- struct{}{}
	one, err := again.Ask(by(t, 1), ask("gale"), patience)
	require.NoError(t, err)
	assert.Equal(t, computations.Done, one.State)
	assert.Equal(t, 2, one.Starts)
	// One that takes the service down each time is given up.
	_, err = o.Ask(by(t, 1), ask("fatal"), 0)
	require.NoError(t, err)
	testdb.Until(t, "the worker", func() bool { return again.began.Load() == 2 })
	require.NoError(t, again.store.Exec("UPDATE computations SET starts = 3 WHERE about = 'fatal'").Error)
	require.NoError(t, again.jobs.Stop(t.Context()))
	last := newOffice(t, url, "one")
	last.opens(t)
	_, err = last.Ask(by(t, 1), ask("fatal"), patience)
	assert.ErrorContains(t, err, "the service ended 3 times")
}

func TestARequestWaitsAsLongAsItPrefers(t *testing.T) {
	t.Parallel()
	o := newOffice(t, testdb.URL(t), "one")
	request := func(prefer string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, "/api/v1/shots/gale/sources", nil).WithContext(by(t, 1))
		r.Header.Set("Prefer", prefer)
		w := httptest.NewRecorder()
		computations.Serve(o.Computations, w, r, http.StatusOK, ask("gale"), func(_ context.Context, one computations.Computation) (v string, err error) {
			return v, one.Read(&v)
		})
		return w
	}
	w := request("respond-async, wait=0")
	assert.Equal(t, http.StatusAccepted, w.Code)
	assert.Equal(t, "/api/v1/computations/"+ask("gale").ID.String(), w.Header().Get("Location"))
	assert.Contains(t, w.Body.String(), `"yours":true`)
	o.opens(t)
	o.goOn <- struct{}{}
	w = request("wait=20")
	assert.Equal(t, http.StatusOK, w.Code)
	assert.Equal(t, "\"\\\"gale\\\"\"\n", w.Body.String())
}
