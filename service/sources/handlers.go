package sources

import (
	"errors"
	"math"
	"net/http"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/httpapi"
)

// List answers with all sources and how they did.
func (s *Sources) List(w http.ResponseWriter, r *http.Request) {
	all, err := s.Accounts(r.Context())
	out := []api.Source{}
	for _, a := range all {
		one, failed := s.record(a)
		err = errors.Join(err, failed)
		out = append(out, one)
	}
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(out), err)
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
	var out api.Source
	if err == nil {
		var made Account
		if made, err = s.PutAsked(r.Context(), body.Spec, body.Secret); err == nil {
			out, err = s.record(made)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// record is a source as the contract has it. Its secret is not in it.
func (s *Sources) record(a Account) (api.Source, error) {
	spec, err := httpapi.Convert[api.SourceSpec](a.Spec)
	out := api.Source{
		Spec: spec, HasSecret: len(a.Secret) > 0, Asked: a.Asked != nil, Fault: a.Fault, Currency: s.currency,
		Charged: a.Charged.String(), Committed: a.Committed.String(), FactorFault: a.FactorFault, Waits: []api.Wait{}, Images: a.Images,
	}
	if a.Factor != nil {
		out.Factor = a.Factor.FloatString(6)
	}
	if a.Tries > 0 {
		out.UsableShare = float64(a.Done) / float64(a.Tries)
	}
	for _, w := range a.Waits {
		out.Waits = append(out.Waits, w.record())
	}
	return out, err
}

func (w Wait) record() api.Wait {
	const nineInTen = 1.2816 // quantile of the normal distribution
	typical := w.Takes().Seconds()
	return api.Wait{
		Place: w.Place, DeclaredS: w.Declared.Seconds(), TypicalS: typical, LateS: math.Round(typical * math.Exp(nineInTen*w.Spread)),
		Seen: w.Seen, Ordered: w.Ordered, Never: w.Never,
	}
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
	out := []row{}
	var all pricing.Rates
	if err == nil {
		all, err = s.Rates(r.Context())
	}
	for _, x := range all {
		out = append(out, row{x.Day.Format(time.DateOnly), x.From, x.To, x.Rate})
	}
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(out), err)
}

// ImportRates takes in exchange rates as CSV.
func (s *Sources) ImportRates(w http.ResponseWriter, r *http.Request) {
	text, err := httpapi.Text(r)
	if err == nil {
		err = s.takeRates(r.Context(), text)
	}
	s.answerRates(w, r, err)
}
