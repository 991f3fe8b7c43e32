package charts

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"time"

	ics "github.com/arran4/golang-ical"

	"rotanex.example/api"
)

// Bookings writes a plan's bookings and servers as CSV, with plain numbers and times of
// RFC 3339.
func Bookings(plan api.Plan) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	rows := [][]string{{"shot", "place", "source", "crew", "frames", "start", "end", "frame_s", "basis", "cost", "currency"}}
	for _, b := range plan.Bookings {
		rows = append(rows, []string{
			b.Shot, b.Place, b.Source, b.Crew, fmt.Sprint(b.Frames), b.Start.UTC().Format(time.RFC3339), b.End.UTC().Format(time.RFC3339),
			fmt.Sprintf("%.3f", b.FrameS), string(b.Basis), b.Cost, plan.Currency,
		})
	}
	for _, v := range plan.Servers {
		rows = append(rows, []string{"", v.Id, v.Source, "server", "", v.From.UTC().Format(time.RFC3339), v.To.UTC().Format(time.RFC3339), "", "", v.Cost, plan.Currency})
	}
	err := w.WriteAll(rows)
	return out.Bytes(), err
}

// ErrNoBooking says that a host has no booking in a plan.
var ErrNoBooking = errors.New("the host has no booking in the plan")

// Calendar writes when each owned host is wanted as iCalendar (RFC 5545), an event for
// each stretch of bookings that touch; of one host, or with "" of all. Its error is
// ErrNoBooking.
func Calendar(plan api.Plan, host string) ([]byte, error) {
	cal := ics.NewCalendarFor("Rotanex")
	cal.SetMethod(ics.MethodPublish)
	cal.SetName("Rotanex " + host)
	type stretch struct {
		host, text string
		start, end time.Time
	}
	var all []stretch
	bookings := slices.Clone(plan.Bookings)
	slices.SortFunc(bookings, func(a, b api.PlannedBooking) int { return a.Start.Compare(b.Start) })
	known := host == ""
	for _, b := range bookings {
		if !b.Owned || host != "" && b.Place != host {
			continue // rented machines have nobody at their desk
		}
		known = true
		text := fmt.Sprintf("%s on %s: %d frames", b.Shot, b.Crew, b.Frames)
		i := slices.IndexFunc(all, func(s stretch) bool { return s.host == b.Place && !b.Start.After(s.end.Add(time.Minute)) })
		if i < 0 {
			all = append(all, stretch{b.Place, text, b.Start, b.End})
			continue
		}
		all[i].text += "\n" + text
		if b.End.After(all[i].end) {
			all[i].end = b.End
		}
	}
	if !known {
		return nil, ErrNoBooking
	}
	for i, s := range all {
		event := cal.AddEvent(fmt.Sprintf("%s-%d@rotanex", plan.Id, i))
		event.SetDtStampTime(plan.Created)
		event.SetStartAt(s.start)
		event.SetEndAt(s.end)
		event.SetSummary(s.host + " renders")
		event.SetDescription(s.text)
		event.SetLocation(s.host)
	}
	return []byte(cal.Serialize()), nil
}
