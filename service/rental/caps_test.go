package rental

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/pricing"
	"rotanex.example/providers"
	"rotanex.example/service/states"
)

// up is a server that is up since six, committed to its hour, EUR 1.20 of a cap of 5.
func newUp(t *testing.T) *let {
	l := newLet(t, http.NotFound)
	l.exec("UPDATE servers SET state = 'up', started_at = from_at, up_at = from_at, committed = 1.20")
	return l
}

func (l *let) renders() {
	l.exec(`INSERT INTO frames (run_id, shot, frame, state, host) VALUES ($1, 'coda-060', 1, 'rendering', 'tern-solo-1')`, l.run)
}

func (l *let) steps(becomes states.Server) Server {
	l.t.Helper()
	_, err := l.step(l.t.Context(), false, []string{})
	require.NoError(l.t, err)
	require.Equal(l.t, becomes, l.server().State)
	return l.server()
}

// At the end of what is paid a server may finish what it renders, for a quarter of an hour if the cap pays for that.
func TestAServerThatStopsHasADeadline(t *testing.T) {
	for name, c := range map[string]struct{ cap, committed, trouble string }{
		"the cap pays for more": {"5", "2.40", "its time was over"},
		"it does not":           {"1.50", "1.20", "would exceed the run's cap"},
	} {
		t.Run(name, func(t *testing.T) {
			l := newUp(t)
			l.exec("UPDATE runs SET cap = $1::numeric", c.cap)
			l.renders()
			l.wall.Advance(59 * time.Minute)
			l.heard(time.Second)
			assert.Equal(t, "1.20", pricing.MustMoney(l.steps(states.ServerStopping).Committed).String())
			l.steps(states.ServerStopping) // it is not due
			l.wall.Advance(51 * time.Second)
			if c.cap == "5" {
				l.steps(states.ServerStopping)
				l.wall.Advance(15 * time.Minute)
			}
			at := l.steps(states.ServerEnding)
			assert.Contains(t, at.Trouble, c.trouble)
			assert.Equal(t, c.committed, pricing.MustMoney(at.Committed).String())
		})
	}
}

// A server is stopped where a cap is exceeded, whatever by, and it costs less so; where its hour is paid anyway it stays.
func TestServersGoWhereACapIsExceeded(t *testing.T) {
	l := newUp(t)
	l.heard(0)
	l.wall.Advance(20 * time.Minute)
	l.exec("UPDATE hosts SET agent_seen = $1", l.wall.Now())
	l.exec("UPDATE runs SET cap = 1")
	require.NoError(t, l.Sweep(t.Context(), false))
	assert.Equal(t, states.ServerUp, l.server().State, "nothing is saved")
	l.exec("UPDATE servers SET to_at = to_at + interval '1 hour', paid_at = paid_at + interval '1 hour', committed = 2.40")
	l.wall.Advance(weighEvery)
	require.NoError(t, l.weigh(t.Context()))
	s := l.server()
	assert.Equal(t, states.ServerStopping, s.State)
	assert.Contains(t, s.Trouble, "it was stopped for the run's cap: EUR 2.40 are spent or committed of 1.00")
	assert.Equal(t, "1.20", pricing.MustMoney(s.Committed).String())
}

// What stands longer than it was meant to is weighed as what it costs.
func TestWhatStandsTooLongIsWeighed(t *testing.T) {
	l := newUp(t)
	l.exec("UPDATE servers SET state = 'ending'")
	l.wall.Advance(59 * time.Minute)
	require.NoError(t, l.weigh(t.Context()))
	assert.Equal(t, "1.20", pricing.MustMoney(l.server().Committed).String())
	l.wall.Advance(2 * time.Minute)
	require.NoError(t, l.weigh(t.Context()))
	assert.Equal(t, "2.40", pricing.MustMoney(l.server().Committed).String())
}

// A source that knows a server no more is owed for it all the same.
func TestAServerThatItsSourceForgotIsCharged(t *testing.T) {
	l := newUp(t)
	l.exec("UPDATE servers SET state = 'ending'")
	l.wall.Advance(70 * time.Minute)
	require.NoError(t, l.end(t.Context(), l.run.String()+" tern-solo#1"))
	assert.Equal(t, states.ServerStopped, l.server().State)
	sum, err := l.sources.Charged(t.Context(), "tern")
	require.NoError(t, err)
	assert.Equal(t, "2.40", sum.String())
}

// The source is told for how long a server may stand, for when we are away.
func TestASourceIsToldForHowLong(t *testing.T) {
	var order providers.Order
	var lasts map[string]float64
	l := newLet(t, func(_ http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/lasts") {
			_ = json.NewDecoder(r.Body).Decode(&lasts)
		} else {
			_ = json.NewDecoder(r.Body).Decode(&order)
		}
	})
	l.steps(states.ServerRequested)
	key := l.run.String() + " tern-solo#1"
	require.NoError(t, l.make(t.Context(), key))
	assert.InDelta(t, 3600, order.LastsS, 0)
	l.exec("UPDATE servers SET state = 'up', paid_at = paid_at + interval '1 hour'")
	require.NoError(t, l.extend(t.Context(), key))
	assert.InDelta(t, 7200, lasts["lasts_s"], 0)
}

// What takes the place of a server is asked for when that one is given back: its source may have no other.
func TestAReplacementWaitsForItsPlace(t *testing.T) {
	l := newUp(t)
	l.exec("UPDATE servers SET state = 'ending'")
	require.NoError(t, Add(l.db.DB, []Server{{RunID: l.run, ID: "tern-solo#1^1", Offer: solo.Name, Host: "tern-solo-1-again1", State: "planned", FromAt: six, ToAt: six.Add(time.Hour), PaidAt: six.Add(time.Hour), Tried: 1}}))
	key, err := l.step(t.Context(), false, []string{})
	require.NoError(t, err)
	assert.Empty(t, key)
	l.exec("UPDATE servers SET state = 'stopped' WHERE tried = 0")
	key, err = l.step(t.Context(), false, []string{})
	require.NoError(t, err)
	assert.Equal(t, l.run.String()+" tern-solo#1^1", key)
}
