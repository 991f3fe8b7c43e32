package sources

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/httpapi"
)

// List answers with all sources and how they did.
func (s *Sources) List(w http.ResponseWriter, r *http.Request) {
	out := struct {
		Items []api.Source `json:"items"`
	}{[]api.Source{}}
	all, err := s.All(r.Context())
	var waits map[string]Wait
	if err == nil {
		waits, err = s.Waits(r.Context())
	}
	for _, row := range all {
		var record api.Source
		if err == nil {
			record, err = s.record(r.Context(), row, waits)
		}
		out.Items = append(out.Items, record)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// PutSource stores a source.
func (s *Sources) PutSource(w http.ResponseWriter, r *http.Request, name string) {
	body, err := httpapi.Body[struct {
		Spec   stock.Source `json:"spec"`
		Secret *string      `json:"secret"`
	}](r)
	if err == nil && body.Spec.Name != name {
		err = httpapi.BadField("/spec/name", body.Spec.Name, "is not the source in the path, "+name)
	}
	if err == nil {
		err = s.Put(r.Context(), body.Spec, body.Secret)
	}
	if err == nil {
		err = s.Contact(r.Context(), name) // so that who stored it is told whether anybody answers
	}
	var out api.Source
	if err == nil {
		var row Source
		var waits map[string]Wait
		if row, _, err = s.Find(r.Context(), name); err == nil {
			waits, err = s.Waits(r.Context())
		}
		if err == nil {
			out, err = s.record(r.Context(), row, waits)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// record is a source with its money and what was learnt of it. Its secret is not in it.
func (s *Sources) record(ctx context.Context, row Source, waits map[string]Wait) (api.Source, error) {
	spec, err := httpapi.Convert[api.SourceSpec](row.Spec)
	if err != nil {
		return api.Source{}, err
	}
	out := api.Source{Spec: spec, HasSecret: len(row.Secret) > 0, Asked: row.Asked != nil, Fault: row.Fault, Currency: s.currency, Images: []string{}}
	var charged, promisedNow string
	err = s.store.WithContext(ctx).Raw(`SELECT coalesce((SELECT sum(cost) FROM charges WHERE source = $1), 0)::text,
		coalesce((SELECT sum(p.committed) FROM (`+promised+`) p WHERE source = $1 AND NOT EXISTS (SELECT FROM charges c WHERE c.place = p.place)), 0)::text`, row.Name).Row().Scan(&charged, &promisedNow)
	if err != nil {
		return out, err
	}
	for _, x := range []struct {
		from string
		to   *api.Money
	}{{charged, &out.Charged}, {promisedNow, &out.Committed}} {
		m, err := pricing.ParseMoney(x.from)
		if err != nil {
			return out, err
		}
		*x.to = m.String()
	}
	if factor, err := s.Factor(ctx, row.Name); err != nil {
		out.FactorFault = err.Error()
	} else {
		out.Factor = factor.FloatString(6)
	}
	return out, s.learnt(ctx, row.Name, waits, &out)
}

// ListRates answers with the exchange rates.
func (s *Sources) ListRates(w http.ResponseWriter, r *http.Request) { s.answerRates(w, r, nil) }

func (s *Sources) answerRates(w http.ResponseWriter, r *http.Request, err error) {
	type row struct {
		Day  string        `json:"day"`
		From string        `json:"from"`
		To   string        `json:"to"`
		Rate pricing.Money `json:"rate"`
	}
	out := struct {
		Items []row `json:"items"`
	}{[]row{}}
	var all pricing.Rates
	if err == nil {
		all, err = s.Rates(r.Context())
	}
	for _, x := range all {
		out.Items = append(out.Items, row{x.Day.Format(time.DateOnly), x.From, x.To, x.Rate})
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// ImportRates takes in exchange rates as CSV.
func (s *Sources) ImportRates(w http.ResponseWriter, r *http.Request) {
	rates, err := pricing.ParseRates(r.Body)
	if err != nil {
		err = httpapi.BadField("body", "", fmt.Sprintf("%v; nothing was stored", err))
	} else {
		err = s.PutRates(r.Context(), rates)
	}
	s.answerRates(w, r, err)
}
