package clock_test

import (
	"testing"
	"time"

	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"

	"rotanex.example/service/clock"
)

func TestAClockThatRunsFaster(t *testing.T) {
	began := time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)
	friday := time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)
	wall := clockwork.NewFakeClockAt(began)
	c := clock.New(wall, began, friday, 60)
	assert.Equal(t, friday, c.Now())
	wall.Advance(90 * time.Second)
	assert.Equal(t, friday.Add(90*time.Minute), c.Now())
	assert.Equal(t, began.Add(90*time.Second), c.WallNow(), "what watches over real programs goes by the wall")
	assert.Equal(t, 2*time.Second, c.Real(2*time.Minute))
	// A service that starts later agrees with one that started before.
	later := clock.New(wall, began, friday, 60)
	assert.Equal(t, c.Now(), later.Now())
}

func TestTheClockOfLife(t *testing.T) {
	wall := clockwork.NewFakeClockAt(time.Date(2026, 11, 23, 7, 0, 0, 123_456_789, time.FixedZone("east", 7200)))
	c := clock.New(wall, time.Time{}, time.Time{}, 1)
	assert.Equal(t, wall.Now().UTC().Truncate(time.Millisecond), c.Now())
	assert.Equal(t, time.UTC, c.Now().Location())
	wall.Advance(time.Hour)
	assert.Equal(t, wall.Now().UTC().Truncate(time.Millisecond), c.Now())
}

// Times that others say may be any: what is beyond reach stays a time on the right side.
func TestAFarTimeStaysATime(t *testing.T) {
	began := time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)
	for _, factor := range []float64{1, 60, 1e6} {
		c := clock.New(clockwork.NewFakeClockAt(began), began, began, factor)
		assert.Equal(t, 2226, c.At(time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)).Year())
		assert.Equal(t, 1827, c.At(time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)).Year())
	}
}
