package plans

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/charts"
	"rotanex.example/service/httpapi"
)

// export is a plan as a file, and its media type.
func (p *Plans) export(ctx context.Context, id uuid.UUID, params api.ExportPlanParams) ([]byte, string, error) {
	found, err := p.find(ctx, id)
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
		data, err := charts.Bookings(plan)
		return data, "text/csv; charset=utf-8", err
	case api.ExportPlanParamsFormatIcs:
		host := ""
		if params.Host != nil {
			host = *params.Host
		}
		data, err := charts.Calendar(plan, host)
		if errors.Is(err, charts.ErrNoBooking) {
			err = httpapi.BadField("host", host, "has no booking in this plan")
		}
		return data, "text/calendar; charset=utf-8", err
	}
	kind := "image/png"
	if params.Format == api.ExportPlanParamsFormatSvg {
		kind = "image/svg+xml"
	}
	if params.Of != nil && *params.Of == api.ExportPlanParamsOfCurve {
		of, err := p.curveOwner(ctx, id)
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
