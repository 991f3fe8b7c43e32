package settled

import (
	"context"
	"errors"
	"os"
	"reflect"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/pricing"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

type run struct {
	ID    uuid.UUID
	State string
	Over  *time.Time
}

func (r run) Ended() (uuid.UUID, *time.Time) { return r.ID, r.Over }

type sum struct {
	Cost pricing.Money
	Days []time.Time
}

// house is a database with runs, and what they come to.
type house struct {
	teststage.Stage
	t      *testing.T
	final  bool
	worked int // how often something was worked out
	fails  error
}

func (h *house) run(ended time.Duration) run {
	h.t.Helper()
	at := teststage.Six.Add(ended)
	r := run{uuid.New(), "complete", &at}
	require.NoError(h.t, h.DB.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at, ended_at) VALUES ($1, 'run', '', 'complete', 3, $2, $3)", r.ID, teststage.Six.Add(-time.Hour*24*400), at).Error)
	return r
}

func (h *house) workOut(_ context.Context, r run) (sum, bool, error) {
	h.worked++
	return sum{pricing.MustMoney("12.345678").Times(int64(h.worked)), []time.Time{teststage.Six}}, h.final, h.fails
}

// look looks at runs in a service that has only just started, and says how many were worked out.
func (h *house) look(runs ...run) ([]sum, int) {
	h.t.Helper()
	return h.lookIn(New[sum](h.DB, h.Clock, "sum", 1), runs...)
}

func (h *house) lookIn(k *Kept[sum], runs ...run) ([]sum, int) {
	h.t.Helper()
	before := h.worked
	out, err := All(h.t.Context(), k, runs, h.workOut)
	require.NoError(h.t, err)
	return out, h.worked - before
}

func TestWhatARunCameToIsWorkedOutOnce(t *testing.T) {
	t.Parallel()
	h := &house{Stage: teststage.New(t), t: t, final: true}
	a, b := h.run(-time.Hour), h.run(-time.Hour)
	first, n := h.look(a, b)
	assert.Equal(t, 2, n)
	kept := New[sum](h.DB, h.Clock, "sum", 1)
	again, n := h.lookIn(kept, b, a)
	assert.Zero(t, n, "by a service that has only just started too")
	assert.Equal(t, []sum{first[1], first[0]}, again, "in the order of the runs, to the last decimal")
	require.NoError(t, h.DB.Exec("UPDATE settled SET what = 'null'").Error)
	_, n = h.lookIn(kept, a, b)
	assert.Zero(t, n, "what was read is in memory")
}

func TestWhatMayChangeIsWorkedOutAnew(t *testing.T) {
	t.Parallel()
	for name, change := range map[string]func(h *house, r *run){
		"it goes on, and ends once more": func(_ *house, r *run) {
			at := r.Over.Add(time.Second)
			r.Over = &at
		},
		"its record is another": func(_ *house, r *run) { r.State = "incomplete" },
		"it is charged": func(h *house, r *run) {
			require.NoError(t, h.DB.Exec("INSERT INTO charges (source, place, run_id, at, unit, metered_s, amount, cost, factor) VALUES ('saltmarsh', 'ebb', $1, $2, 'EUR', 1, 1, 1, 1)", r.ID, teststage.Six).Error)
		},
		"what is kept cannot be read": func(h *house, _ *run) {
			require.NoError(t, h.DB.Exec(`UPDATE settled SET what = '{"Cost": "much"}'`).Error)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := &house{Stage: teststage.New(t), t: t, final: true}
			r := h.run(-time.Hour)
			h.look(r)
			change(h, &r)
			_, n := h.look(r)
			assert.Equal(t, 1, n)
			_, n = h.look(r)
			assert.Zero(t, n, "and kept in its place")
		})
	}
}

func TestWhatIsNotSettledIsNotKept(t *testing.T) {
	t.Parallel()
	h := &house{Stage: teststage.New(t), t: t}
	open, late, early := h.run(-time.Hour), h.run(-time.Hour), h.run(time.Second-After)
	open.Over = nil
	twice := func(r run) int {
		_, n := h.look(r)
		_, m := h.look(r)
		return n + m
	}
	assert.Equal(t, 2, twice(late), "its meters are not closed")
	h.final = true
	assert.Equal(t, 2, twice(open), "it is not over")
	assert.Equal(t, 2, twice(early), "it was over only just now")
	h.Wall.Advance(2 * time.Second)
	assert.Equal(t, 1, twice(early))
	other := New[sum](h.DB, h.Clock, "sum", 2)
	_, n := h.lookIn(other, early)
	assert.Equal(t, 1, n, "it is worked out in another way")
	_, n = h.lookIn(New[sum](h.DB, h.Clock, "else", 1), early)
	assert.Equal(t, 1, n)

	_, err := One(t.Context(), other, late, func(context.Context, run) (sum, bool, error) { panic("a bad record") })
	assert.ErrorContains(t, err, "a bad record", "it costs itself alone")
	h.fails = errors.New("no plan")
	_, err = One(t.Context(), other, late, h.workOut)
	assert.ErrorIs(t, err, h.fails)
	require.NoError(t, h.DB.Exec("UPDATE runs SET kind = 'deleted' WHERE id = $1", late.ID).Error)
	h.fails = nil
	assert.Equal(t, 2, twice(late), "nothing is kept of what is deleted")
}

// Many who look at a run that goes on at about the same time are one look; what was changed is seen at once.
func TestAMomentIsSharedByAllWhoLook(t *testing.T) {
	t.Parallel()
	h := &house{Stage: teststage.New(t), t: t}
	k := New[sum](h.DB, h.Clock, "sum", 1)
	r := h.run(time.Hour)
	r.Over = nil
	looks, began, goOn := 0, make(chan struct{}), make(chan struct{})
	slowly := func(context.Context, run) (sum, bool, error) {
		looks++
		close(began)
		<-goOn
		return sum{}, false, nil
	}
	var looking sync.WaitGroup
	look := func() { _, err := One(t.Context(), k, r, slowly); assert.NoError(t, err) }
	looking.Go(look)
	<-began
	for range 20 {
		looking.Go(look)
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	_, err := One(gone, k, r, slowly)
	assert.ErrorIs(t, err, context.Canceled, "who is gone does not wait")
	h.Wall.Advance(time.Millisecond)
	close(goOn)
	looking.Wait()
	assert.Equal(t, 1, looks)

	worked := func() int { _, n := h.lookIn(k, r); return n }
	assert.Zero(t, worked())
	h.Wall.Advance(Moment)
	assert.Equal(t, 1, worked())
	assert.Equal(t, 1, worked(), "of a clock that stands nothing is kept")
	h.Wall.Advance(Moment / 2)
	assert.Zero(t, worked())
	k.Fresh()
	assert.Equal(t, 1, worked())
	h.Wall.Advance(Moment / 2)
	r.State = "paused"
	assert.Equal(t, 1, worked(), "its record is another")
}

type other struct {
	Cost pricing.Money
	Days []struct{ At time.Time }
	Next *other
}

func TestWhatIsOfAnotherFormIsNotKept(t *testing.T) {
	t.Parallel()
	h := &house{Stage: teststage.New(t), t: t, final: true}
	r := h.run(-time.Hour)
	h.look(r)
	n := 0
	for range 2 {
		_, err := One(t.Context(), New[other](h.DB, h.Clock, "sum", 1), r, func(context.Context, run) (other, bool, error) { n++; return other{}, true, nil })
		require.NoError(t, err)
	}
	assert.Equal(t, 1, n)
	assert.NotEqual(t, shape(reflect.TypeFor[[]sum](), nil), shape(reflect.TypeFor[map[string]sum](), nil))
	assert.Equal(t, shape(reflect.TypeFor[other](), nil), shape(reflect.TypeFor[other](), nil))
}

// Each round writes some down; what cannot be settled, for whatever reason, holds none of the others up.
func TestAllAreSettledByAndBy(t *testing.T) {
	t.Parallel()
	h := &house{Stage: teststage.New(t), t: t, final: true}
	kept := New[sum](h.DB, h.Clock, "sum", 1)
	var all []run
	byID := map[uuid.UUID]run{}
	const broken = 2*atOnce + 5
	for i := range broken + 30 {
		all = append(all, h.run(-time.Hour-time.Duration(i)*time.Minute))
		byID[all[i].ID] = all[i]
	}
	latest := map[uuid.UUID]bool{}
	for _, r := range all[:broken] {
		latest[r.ID] = true
	}
	s := NewSweeper(h.DB, h.Clock, func(ctx context.Context, id uuid.UUID) error {
		if latest[id] {
			return errors.New("its plan cannot be read")
		}
		_, err := One(ctx, kept, byID[id], h.workOut)
		return err
	})
	assert.ErrorContains(t, s.Sweep(t.Context()), "its plan cannot be read")
	_, n := h.look(all[broken:]...)
	assert.Zero(t, n)
	clear(latest)
	require.NoError(t, s.Sweep(t.Context()))
	h.Wall.Advance(time.Minute)
	require.NoError(t, s.Sweep(t.Context()))
	_, n = h.look(all...)
	assert.Zero(t, n, "and those are come back to")
	before := h.worked
	require.NoError(t, s.Sweep(t.Context()))
	assert.Equal(t, before, h.worked, "nothing is left")
}

func TestWhatCannotBeReadIsTriedAfterEverLonger(t *testing.T) {
	t.Parallel()
	h := &house{Stage: teststage.New(t), t: t}
	r, tries := h.run(-time.Hour), 0
	s := NewSweeper(h.DB, h.Clock, func(_ context.Context, id uuid.UUID) error {
		if id == r.ID {
			tries++
		}
		return errors.New("its plan cannot be read")
	})
	for range 60 { // of an hour
		_ = s.Sweep(t.Context())
		h.Wall.Advance(time.Minute)
	}
	assert.Equal(t, 6, tries, "at once, and after 1, 3, 7, 15 and 31 minutes")
	for range 30 { // of a month
		_ = s.Sweep(t.Context())
		h.Wall.Advance(24 * time.Hour)
	}
	assert.Equal(t, 35, tries, "each day in the end")
	require.NoError(t, h.DB.Exec("UPDATE runs SET kind = 'deleted' WHERE id = $1", r.ID).Error)
	require.NoError(t, s.Sweep(t.Context()))
	assert.Empty(t, s.failed)
}
