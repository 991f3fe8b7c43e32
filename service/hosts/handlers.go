package hosts

import (
	"errors"
	"net/http"

	"rotanex.example/api"
	"rotanex.example/core/desks"
	"rotanex.example/core/stock"
	"rotanex.example/service/access"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
)

// List answers with a page of hosts.
func (h *Hosts) List(w http.ResponseWriter, r *http.Request, params api.ListHostsParams) {
	found, habits, next, err := h.page(r.Context(), params.Cursor, params.Limit)
	out := api.HostList{Items: []api.Host{}, Next: next}
	for _, host := range found {
		record, failed := h.record(host, habits[host.Name])
		err = errors.Join(err, failed)
		out.Items = append(out.Items, record)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (h *Hosts) answer(w http.ResponseWriter, r *http.Request, name string, err error) {
	var out api.Host
	if err == nil {
		var host Host
		var habits desks.Habits
		if host, habits, err = h.findWithHabits(r.Context(), name); err == nil {
			out, err = h.record(host, habits)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Get answers with one host.
func (h *Hosts) Get(w http.ResponseWriter, r *http.Request, name string) { h.answer(w, r, name, nil) }

// PutHost stores what a file declares of a host.
func (h *Hosts) PutHost(w http.ResponseWriter, r *http.Request, name string) {
	spec, err := httpapi.Body[stock.Host](r)
	if err == nil && spec.Name != name {
		err = httpapi.BadField("/name", spec.Name, "is not the host in the path, "+name)
	}
	if err == nil {
		err = h.Put(r.Context(), spec, false)
	}
	h.Feed.Wake(events.Changes)
	h.answer(w, r, name, err)
}

// PutDrain lets a host finish what it renders and take nothing new, or take work again.
func (h *Hosts) PutDrain(w http.ResponseWriter, r *http.Request, name string) {
	body, err := httpapi.Body[api.DrainHostJSONBody](r)
	if err == nil {
		err = h.Drain(r.Context(), name, body.Drain)
	}
	h.answer(w, r, name, err)
}

// ListOffers answers with a page of offers.
func (h *Hosts) ListOffers(w http.ResponseWriter, r *http.Request, params api.ListOffersParams) {
	found, next, err := h.offerPage(r.Context(), params.Cursor, params.Limit)
	out := api.OfferList{Items: []api.Offer{}, Next: next}
	for _, o := range found {
		record, failed := offerRecord(o)
		err = errors.Join(err, failed)
		out.Items = append(out.Items, record)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// StoreOffer stores an offer.
func (h *Hosts) StoreOffer(w http.ResponseWriter, r *http.Request, name string) {
	spec, err := httpapi.Body[stock.Offer](r)
	if err == nil && spec.Name != name {
		err = httpapi.BadField("/name", spec.Name, "is not the offer in the path, "+name)
	}
	var out api.Offer
	if err == nil {
		var made PricedOffer
		if made, err = h.PutOffer(r.Context(), spec); err == nil {
			out, err = offerRecord(made)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// ReportStock takes in an agent's report and says how it shall go on.
func (h *Hosts) ReportStock(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.StockReport](r)
	var found Report
	if err == nil {
		found, err = reportOf(body, h.Clock.At)
	}
	if err == nil {
		err = h.Report(r.Context(), access.From(r.Context()).Host, found)
	}
	httpapi.Answer(w, r, http.StatusOK, api.AgentOrders{HeartbeatS: h.Beat.Seconds(), ClockFactor: h.Clock.Factor()}, err)
}

// ListFarms answers with all tiers of farms.
func (h *Hosts) ListFarms(w http.ResponseWriter, r *http.Request) {
	farms, err := h.Farms(r.Context())
	out := []stock.Farm{}
	for _, f := range farms {
		out = append(out, f.Spec)
	}
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(out), err)
}

// StoreFarm stores a tier of a farm.
func (h *Hosts) StoreFarm(w http.ResponseWriter, r *http.Request, name string) {
	spec, err := httpapi.Body[stock.Farm](r)
	if err == nil && spec.Name != name {
		err = httpapi.BadField("/name", spec.Name, "is not the farm in the path, "+name)
	}
	if err == nil {
		err = h.PutFarm(r.Context(), spec)
	}
	httpapi.Answer(w, r, http.StatusOK, spec, err)
}
