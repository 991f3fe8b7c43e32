package charts_test

import (
	"bytes"
	"image/png"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/charts"
)

var six = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

func plan(rows int) api.Plan {
	p := api.Plan{
		Id: uuid.New(), Shots: []string{"orrery-010"}, Currency: "EUR", Cost: "2.86", CostBound: "2.85", Status: api.PlanStatusMeets,
		Start: six, Finish: six.Add(2 * time.Hour), Deadline: six.Add(150 * time.Minute),
		Servers: []api.PlannedServer{{Id: "tern-solo#1", Offer: "tern-solo", From: six, To: six.Add(time.Hour), BilledS: 3600}},
	}
	for i := range rows {
		p.Bookings = append(p.Bookings, api.PlannedBooking{Shot: "orrery-010", Place: "host" + string(rune('a'+i)), Crew: "g0", Frames: 12, Start: six, End: six.Add(90 * time.Minute)})
	}
	p.Bookings = append(p.Bookings, api.PlannedBooking{Shot: "orrery-010", Place: "tern-solo#1", Crew: "g0", Frames: 3, Start: six.Add(12 * time.Minute), End: six.Add(50 * time.Minute)})
	return p
}

func TestAPlanIsDrawnAsSVGAndPNG(t *testing.T) {
	svg, err := charts.Plan(plan(3), time.UTC, charts.SVG)
	require.NoError(t, err)
	for _, says := range []string{"tern-solo#1", "EUR 2.86", "no plan costs less than", "18:30"} {
		assert.Contains(t, string(svg), says)
	}
	assert.NotContains(t, string(svg), "in time", "nobody has asked for its chance")
	sure := plan(3)
	sure.Chance = new(0.874)
	svg, err = charts.Plan(sure, time.UTC, charts.SVG)
	require.NoError(t, err)
	assert.Contains(t, string(svg), "87 % to be in time")
	few, many := drawn(t, plan(3)), drawn(t, plan(20))
	assert.Equal(t, few.X, many.X)
	assert.Greater(t, many.Y, few.Y, "more crews make it taller")
	late := plan(1)
	late.Status = api.PlanStatusLate
	svg, err = charts.Plan(late, time.UTC, charts.SVG)
	require.NoError(t, err)
	assert.NotContains(t, string(svg), "costs less", "a late plan has no bound to show")
}

func drawn(t *testing.T, p api.Plan) struct{ X, Y int } {
	t.Helper()
	data, err := charts.Plan(p, time.UTC, charts.PNG)
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	return struct{ X, Y int }{picture.Bounds().Dx(), picture.Bounds().Dy()}
}

func TestACurveNamesItsMarkedPoints(t *testing.T) {
	c := api.Curve{Currency: "EUR", Points: []api.CurvePoint{
		{Cost: "9.30", Finish: six, Mark: api.CurvePointMarkFastest},
		{Cost: "6.70", Finish: six.Add(20 * time.Minute), Mark: api.CurvePointMarkBalanced},
		{Cost: "2.86", Finish: six.Add(time.Hour), Mark: api.CurvePointMarkCheapest},
	}}
	svg, err := charts.Curve(c, time.UTC, charts.SVG)
	require.NoError(t, err)
	for _, says := range []string{"fastest: EUR 9.30", "balanced: EUR 6.70", "cheapest: EUR 2.86, Fri 19:00"} {
		assert.Contains(t, string(svg), says)
	}
	_, err = charts.Curve(api.Curve{Currency: "EUR", Points: c.Points[:1]}, time.UTC, charts.SVG)
	assert.NoError(t, err, "a curve of one point")
}
