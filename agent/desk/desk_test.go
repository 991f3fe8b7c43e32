package desk

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var (
	noon = time.Date(2031, 3, 7, 12, 0, 0, 0, time.UTC)
	rule = Rule{Idle: 10 * time.Minute, Leave: time.Minute}
)

func ago(d time.Duration) Seen { return Seen{Touched: noon.Add(-d)} }

func TestHowADeskStands(t *testing.T) {
	t.Parallel()
	lent := Said{State: Lent, At: noon.Add(-30 * time.Minute)}
	evening := Said{State: Lent, At: noon.Add(-30 * time.Minute), Until: noon.Add(time.Hour)}
	back := Said{State: TakenBack, At: noon.Add(-2 * time.Hour)}
	unknown := Seen{Err: errors.New("no bus")}
	for name, x := range map[string]struct {
		said  Said
		seen  Seen
		state State
		left  Said
	}{
		"somebody types":                       {Said{}, ago(0), InUse, Said{}},
		"untouched, not for long enough":       {Said{}, ago(9*time.Minute + 59*time.Second), InUse, Said{}},
		"untouched for long enough":            {Said{}, ago(10 * time.Minute), Lent, Said{}},
		"untouched, but its hours are over":    {Said{}, Seen{Touched: noon.Add(-time.Hour), Closed: noon.Add(7 * time.Hour)}, InUse, Said{}},
		"nobody can tell":                      {Said{}, unknown, InUse, Said{}},
		"lent by hand and left":                {lent, ago(30*time.Minute - 50*time.Second), Lent, lent},
		"lent by hand, outside its hours":      {lent, Seen{Touched: noon.Add(-time.Hour), Closed: noon.Add(7 * time.Hour)}, Lent, lent},
		"lent by hand, and somebody came back": {lent, ago(time.Minute), InUse, Said{}},
		"lent by hand, and nobody can tell":    {lent, unknown, Lent, lent},
		"lent until one":                       {evening, ago(time.Hour), Lent, evening},
		"lent until now":                       {Said{State: Lent, At: noon.Add(-time.Hour), Until: noon}, ago(0), InUse, Said{}},
		"taken back, and nobody touches it":    {back, ago(90 * time.Minute), TakenBack, back},
		"taken back until now":                 {Said{State: TakenBack, At: noon.Add(-time.Hour), Until: noon}, ago(time.Hour), Lent, Said{}},
	} {
		status, left := rule.Decide(x.said, x.seen, noon)
		assert.Equal(t, x.state, status.State, name)
		assert.Equal(t, x.left, left, name)
		assert.NotEmpty(t, status.Why, name)
	}
}

// Whatever was said and seen before: who touches a desk has it at the next look, unless they
// lent it in the last minute, and a desk that was taken back is lent by nothing but its
// owner's word.
func TestADeskIsItsOwners(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		var said Said
		now, touched := noon, noon
		for range rapid.IntRange(1, 60).Draw(t, "looks") {
			now = now.Add(time.Duration(rapid.IntRange(1, 900).Draw(t, "later")) * time.Second)
			var until time.Time
			if rapid.Bool().Draw(t, "until") {
				until = now.Add(time.Duration(rapid.IntRange(1, 3600).Draw(t, "for")) * time.Second)
			}
			before := said
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0:
				said = Said{State: Lent, At: now, Until: until}
			case 1:
				said = Said{State: TakenBack, At: now, Until: until}
			case 2, 3:
				touched = now
			}
			status, left := rule.Decide(said, Seen{Touched: touched}, now)
			if touched.Equal(now) && (said.State != Lent || now.After(said.At.Add(rule.Leave))) {
				assert.NotEqual(t, Lent, status.State)
			}
			if said == before && before.State == TakenBack && (before.Until.IsZero() || now.Before(before.Until)) {
				assert.Equal(t, TakenBack, status.State)
			}
			said = left
		}
	})
}

// still is a machine that was touched last at a time.
type still struct{ at time.Time }

func (s *still) Touched(context.Context, time.Time) (time.Time, error) { return s.at, nil }

// What an owner says over the socket holds at once, is told to the agent, and outlives it.
func TestAnOwnerLendsAndTakesBack(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	d, err := Open(t.Context(), folder, rule, &still{time.Now().Add(-time.Hour)})
	require.NoError(t, err)
	ctx, end := context.WithCancel(t.Context())
	told, served := make(chan Status, 10), make(chan error, 1)
	var keeping sync.WaitGroup
	keeping.Go(func() { d.Keep(ctx, func(s Status) { told <- s }) })
	go func() { served <- d.Serve(ctx, folder, "") }()
	next := func() State {
		select {
		case s := <-told:
			return s.State
		case <-time.After(10 * time.Second):
			return "nothing was told"
		}
	}
	assert.Equal(t, Lent, next())
	_, err = d.Lend(ctx, time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, Lent, next(), "that it is by hand now, and until when, is told too")
	assert.True(t, d.Status().ByHand && !d.Status().Until.IsZero())
	require.Eventually(t, func() bool { _, err := Ask(ctx, folder); return err == nil }, 10*time.Second, 5*time.Millisecond)
	info, err := os.Stat(filepath.Join(folder, SocketName))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "its owner's alone")

	s, err := Tell(ctx, folder, TakenBack, time.Time{})
	require.NoError(t, err)
	assert.Equal(t, TakenBack, s.State)
	assert.Equal(t, TakenBack, next())
	_, err = Tell(ctx, folder, Lent, time.Now().Add(-time.Hour))
	assert.ErrorContains(t, err, "that is past")
	s, err = Ask(ctx, folder)
	require.NoError(t, err)
	assert.True(t, s.State == TakenBack && s.ByHand, "what was wrong changed nothing")
	end()
	keeping.Wait()
	require.NoError(t, <-served)
	_, err = Ask(t.Context(), folder)
	assert.ErrorContains(t, err, "start rotanex-agent with --desk")

	d, err = Open(t.Context(), folder, rule, &still{time.Now().Add(-time.Hour)})
	require.NoError(t, err)
	again, _ := d.look(t.Context())
	assert.Equal(t, TakenBack, again.State, "the agent was started again")
}
