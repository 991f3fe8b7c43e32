package problems

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
)

func TestWhatOthersHaveBookedLaterWaitsForOnesOwn(t *testing.T) {
	t.Parallel()
	at := func(h int) time.Time { return time.Date(2031, 3, 8, h, 0, 0, 0, time.UTC) }
	one, other := uuid.New(), uuid.New()
	rows := []taken{
		{"eddy", at(6), at(9), at(14), one},      // it is late: it was to be through at 12
		{"eddy", at(12), at(12), at(15), other},  // booked behind it
		{"bellows", at(7), at(9), at(10), other}, // before it
		{"bellows", at(10), at(10), at(12), one}, //
		{"dory", at(13), at(13), at(14), other},  // with a gap before
		{"dory", at(9), at(9), at(10), other},    // being rendered
	}
	assert.Equal(t, map[string][]taken{
		"eddy":    {{"eddy", at(12), at(14), at(17), other}},
		"bellows": {{"bellows", at(7), at(9), at(10), other}},
		"dory":    {{"dory", at(9), at(9), at(10), other}, {"dory", at(13), at(13), at(14), other}},
	}, behind(rows, &one))
	theirs := behind(rows, &other)
	assert.Equal(t, []taken{{"eddy", at(6), at(9), at(14), one}}, theirs["eddy"])
	assert.Equal(t, []taken{{"bellows", at(10), at(10), at(12), one}}, theirs["bellows"])
	assert.Len(t, behind(rows, nil)["eddy"], 2)

	gap := behind(rows, nil)["dory"]
	last, is := takenUntil(gap, at(9))
	assert.True(t, is)
	assert.Equal(t, at(10), last.Until, "the host is free from 10 to 13")
	_, is = takenUntil(gap, at(11))
	assert.False(t, is)
	last, is = takenUntil(behind(rows, nil)["eddy"], at(9))
	assert.True(t, is)
	assert.Equal(t, at(15), last.Until, "one piece of work follows another")
}
