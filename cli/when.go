package cli

import (
	"fmt"
	"strings"
	"time"
)

// dayNames are the days of the week as they may be written; abbreviations are the first
// three letters.
var dayNames = [...]string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}

// parseTime reads a deadline: a whole time, a time of day, a day with or without one, or
// a length from now. Now is the service's; a time of day without a day is the next one,
// a day without a time is its end.
func parseTime(text string, now time.Time) (time.Time, error) {
	text = strings.TrimSpace(text)
	if length, ok := strings.CutPrefix(text, "+"); ok {
		if d, err := time.ParseDuration(length); err == nil && d > 0 {
			return now.Add(d), nil
		}
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, form := range []string{"2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	local := now.Local()
	words := strings.Fields(strings.ToLower(text))
	switch len(words) {
	case 1:
		if clock, err := time.Parse("15:04", words[0]); err == nil {
			at := onDay(local, 0, clock)
			if !at.After(local) {
				at = onDay(local, 1, clock)
			}
			return at, nil
		}
		if ahead, ok := daysAhead(words[0], local); ok {
			return onDay(local, ahead+1, time.Time{}), nil
		}
	case 2:
		clock, err := time.Parse("15:04", words[1])
		if ahead, ok := daysAhead(words[0], local); ok && err == nil {
			at := onDay(local, ahead, clock)
			if _, named := weekday(words[0]); named && !at.After(local) {
				at = onDay(local, ahead+7, clock)
			}
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("time %q: want for example 20:00, fri 18:00, tomorrow 9:00, fri (its end), +2h30m, or 2031-03-10T09:00:00Z", text)
}

// onDay is a time of day some days from a time.
func onDay(from time.Time, ahead int, clock time.Time) time.Time {
	return time.Date(from.Year(), from.Month(), from.Day()+ahead, clock.Hour(), clock.Minute(), 0, 0, from.Location())
}

// daysAhead says how many days from now a day is that is named.
func daysAhead(word string, now time.Time) (int, bool) {
	switch word {
	case "today":
		return 0, true
	case "tomorrow":
		return 1, true
	}
	day, ok := weekday(word)
	return (int(day) - int(now.Weekday()) + 7) % 7, ok
}

func weekday(word string) (time.Weekday, bool) {
	for i, name := range dayNames {
		if word == name || word == name[:3] {
			return time.Weekday(i), true
		}
	}
	return 0, false
}
