package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestDeadlinesAsPeopleWriteThem(t *testing.T) {
	now := time.Date(2031, 3, 7, 18, 0, 0, 0, time.Local) // a Friday
	at := func(day, hour, minute int) time.Time { return time.Date(2031, 3, day, hour, minute, 0, 0, time.Local) }
	for text, want := range map[string]time.Time{
		"20:00": at(7, 20, 0), "9:00": at(8, 9, 0), "18:00": at(8, 18, 0),
		"mon 09:00": at(10, 9, 0), "Monday 9:00": at(10, 9, 0), "fri 19:00": at(7, 19, 0), "fri 17:00": at(14, 17, 0),
		"fri": at(8, 0, 0), "sunday": at(10, 0, 0), "today": at(8, 0, 0), "tomorrow 9:00": at(8, 9, 0), "tomorrow": at(9, 0, 0), "today 17:00": at(7, 17, 0),
		"+2h30m": now.Add(150 * time.Minute), "2031-03-10 09:00": at(10, 9, 0), "2031-03-10T09:00:00Z": time.Date(2031, 3, 10, 9, 0, 0, 0, time.UTC),
	} {
		got, err := parseTime(text, now)
		assert.NoError(t, err, text)
		assert.True(t, want.Equal(got), "%s: %s, want %s", text, got, want)
	}
	for _, text := range []string{"monkey 09:00", "mo 9:00", "", "fri 25:00", "+2 hours", "+-2h", "9", "mon tue", "mon 9:00 sharp", "yesterday 9:00", "wednes 9:00"} {
		_, err := parseTime(text, now)
		assert.ErrorContains(t, err, "want for example", text)
	}
}
