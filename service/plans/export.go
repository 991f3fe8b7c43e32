package plans

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/charts"
	"rotanex.example/service/httpapi"
)

// Export answers with the plan as a file.
func (p *Plans) Export(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ExportPlanParams) {
	data, kind, err := p.export(r, id, params)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=plan-%s.%s", id.String()[:8], params.Format))
	_, _ = w.Write(data)
}

func (p *Plans) export(r *http.Request, id uuid.UUID, params api.ExportPlanParams) ([]byte, string, error) {
	found, err := p.find(r.Context(), id)
	if err != nil {
		return nil, "", err
	}
	plan, err := record(found, true)
	if err != nil {
		return nil, "", err
	}
	switch params.Format {
	case api.ExportPlanParamsFormatJson:
		data, err := json.MarshalIndent(plan.Plan, "", "  ")
		return append(data, '\n'), "application/json", err
	case api.ExportPlanParamsFormatCsv:
		data, err := bookingsCSV(plan)
		return data, "text/csv; charset=utf-8", err
	case api.ExportPlanParamsFormatIcs:
		host := ""
		if params.Host != nil {
			host = *params.Host
		}
		data, err := p.calendar(plan, host)
		return data, "text/calendar; charset=utf-8", err
	}
	kind := "image/png"
	if params.Format == api.ExportPlanParamsFormatSvg {
		kind = "image/svg+xml"
	}
	if params.Of != nil && *params.Of == api.ExportPlanParamsOfCurve {
		of, err := p.curveOwner(r.Context(), id)
		if err == nil && of.Curve == nil {
			err = httpapi.Conflict("the curve was not drawn yet: rotanex curve " + id.String()[:8])
		}
		if err != nil {
			return nil, "", err
		}
		data, err := charts.Curve(showCurve(of, alone{}), p.Zone, string(params.Format))
		return data, kind, err
	}
	if len(plan.Bookings) == 0 {
		return nil, "", httpapi.Conflict("the plan books nothing: there is nothing to draw")
	}
	data, err := charts.Plan(plan, p.Zone, string(params.Format))
	return data, kind, err
}

func bookingsCSV(plan api.Plan) ([]byte, error) {
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

// calendar is when each owned host is wanted, an event for each stretch of bookings
// that touch; of one host, or with "" of all.
func (p *Plans) calendar(plan api.Plan, host string) ([]byte, error) {
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
		return nil, httpapi.BadField("host", host, "has no booking in this plan")
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
