// Package hosts keeps the stock: hosts as they were declared and as their agents
// found them, and the offers of rented sources.
package hosts

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/api"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/access"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Lost is how long, in real time, an agent may be silent before it counts as lost.
const Lost = 20 * time.Second

// Host is the record of one.
type Host struct {
	Name      string     `gorm:"primaryKey"`
	Source    string     //
	Spec      stock.Host `gorm:"serializer:json"`
	Found     bool       // devices are as the agent found them
	Draining  bool
	Launchers []string `gorm:"serializer:json"`
	Findings  []string `gorm:"serializer:json"`
	Boot      *uuid.UUID
	AgentSeen *time.Time
	Server    bool // a rented server of a run

	Renderers []preflight.Renderer `gorm:"serializer:json"`
	Folder    *preflight.Folder    `gorm:"serializer:json"` // where it renders to
	LookedFor string               // the sum of the list of input files that it looked for
	LookedTo  *time.Time           // up to which change of the shots that list goes
	Missing   []string             `gorm:"serializer:json"`
}

// Up reports whether its agent spoke lately.
func (h Host) Up(wall time.Time) bool { return h.AgentSeen != nil && wall.Sub(*h.AgentSeen) < Lost }

// Offer is the record of one.
type Offer struct {
	Name   string      `gorm:"primaryKey"`
	Source string      //
	Spec   stock.Offer `gorm:"serializer:json"`
}

// Farm is the record of a tier of a render farm.
type Farm struct {
	Name   string     `gorm:"primaryKey"`
	Source string     //
	Spec   stock.Farm `gorm:"serializer:json"`
}

// Hosts looks after them.
type Hosts struct {
	store *store.Store
	clock clock.Clock
	feed  *events.Feed
	beat  time.Duration

	currency string // the service's
}

// New makes it. Beat is how often agents shall send a heartbeat, currency the service's.
func New(s *store.Store, c clock.Clock, f *events.Feed, beat time.Duration, currency string) *Hosts {
	return &Hosts{s, c, f, beat, currency}
}

// Find returns a host by name, or a problem that names it.
func (h *Hosts) Find(ctx context.Context, name string) (Host, error) {
	var host Host
	err := h.store.WithContext(ctx).Take(&host, "name = ?", name).Error
	if store.Missing(err) {
		err = httpapi.NotFound(fmt.Sprintf("there is no host %q; rotanex hosts list shows them", name))
	}
	return host, err
}

// Owned returns all hosts that are not rented servers, by name.
func (h *Hosts) Owned(ctx context.Context) ([]Host, error) {
	var all []Host
	return all, h.store.WithContext(ctx).Where("NOT server").Order("name").Find(&all).Error
}

// Offers returns all offers, by name.
func (h *Hosts) Offers(ctx context.Context) ([]Offer, error) {
	var all []Offer
	return all, h.store.WithContext(ctx).Order("name").Find(&all).Error
}

// Farms returns all tiers of farms, by name.
func (h *Hosts) Farms(ctx context.Context) ([]Farm, error) {
	var all []Farm
	return all, h.store.WithContext(ctx).Order("name").Find(&all).Error
}

// Put makes a host or replaces what was declared of it. Devices that its agent
// found stay as found.
func (h *Hosts) Put(ctx context.Context, spec stock.Host, server bool) error {
	if err := spec.Validate(); err != nil {
		return httpapi.BadField("/", spec.Name, err.Error())
	}
	return h.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var old Host
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&old, "name = ?", spec.Name).Error
		if err != nil && !store.Missing(err) {
			return err
		}
		if old.Found {
			spec.Devices = merged(spec.Devices, old.Spec.Devices)
			spec.CPU.Cores, spec.CPU.Threads = old.Spec.CPU.Cores, old.Spec.CPU.Threads
			spec.MemoryGB, spec.OnACPower = old.Spec.MemoryGB, old.Spec.OnACPower
		}
		next := Host{Name: spec.Name, Source: spec.Source, Spec: spec, Server: server, Launchers: []string{}, Findings: []string{}, Renderers: []preflight.Renderer{}, Missing: []string{}}
		err = tx.Clauses(clause.OnConflict{
			Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns([]string{"source", "spec"}),
		}).Create(&next).Error
		if err != nil {
			return err
		}
		return h.feed.Write(tx, events.Event{Kind: events.Host, Host: spec.Name})
	})
}

// merged takes from the declaration what an agent cannot find out, and from the
// agent everything else.
func merged(declared, found []stock.Device) []stock.Device {
	out := slices.Clone(found)
	for i := range out {
		for _, d := range declared {
			if d.ID != out[i].ID {
				continue
			}
			if out[i].Watts == 0 {
				out[i].Watts = d.Watts
			}
			if len(out[i].Backends) == 0 {
				out[i].Backends = d.Backends
			}
			if out[i].Price.IsZero() {
				out[i].Price = d.Price
			}
			if out[i].DepreciationH.IsZero() {
				out[i].DepreciationH = d.DepreciationH
			}
		}
	}
	return out
}

// Report takes in what an agent found.
func (h *Hosts) Report(ctx context.Context, name string, r api.StockReport) error {
	devices, err := httpapi.Convert[[]stock.Device](r.Devices)
	if err != nil {
		return err
	}
	renderers, err := httpapi.Convert[[]preflight.Renderer](r.Renderers)
	if err != nil {
		return err
	}
	if renderers == nil {
		renderers = []preflight.Renderer{}
	}
	var folder *preflight.Folder
	if r.Folder != (api.Folder{}) {
		folder = &preflight.Folder{Writable: r.Folder.Writable, Network: r.Folder.Network, Filesystem: r.Folder.Filesystem, FreeGB: r.Folder.FreeGb}
	}
	now := h.clock.WallNow()
	err = h.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var host Host
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&host, "name = ?", name).Error
		if store.Missing(err) {
			host = Host{Name: name, Source: "joined", Missing: []string{}, Spec: stock.Host{Name: name, Source: "joined", Note: "joined by its agent"}}
			err = nil
		}
		if err != nil {
			return err
		}
		host.Spec.Devices = merged(host.Spec.Devices, devices)
		host.Spec.CPU.Cores, host.Spec.CPU.Threads = r.Cpu.Cores, r.Cpu.Threads
		if host.Spec.CPU.Model == "" {
			host.Spec.CPU.Model = r.Cpu.Model
		}
		host.Spec.MemoryGB, host.Spec.OnACPower = float64(r.MemoryGb), &r.OnAcPower
		host.Found, host.Boot, host.AgentSeen = true, &r.Boot, &now
		host.Launchers, host.Findings = r.Launchers, r.Findings
		host.Renderers, host.Folder = renderers, folder
		if host.Findings == nil {
			host.Findings = []string{}
		}
		if err := tx.Save(&host).Error; err != nil {
			return err
		}
		return h.feed.Write(tx, events.Event{Kind: events.Host, Host: name, State: "up"})
	})
	if err == nil {
		h.feed.Wake(events.Changes, events.Work)
	}
	return err
}

func (h *Hosts) record(host Host) (api.Host, error) {
	spec, err := httpapi.Convert[api.HostSpec](host.Spec)
	if err != nil {
		return api.Host{}, err
	}
	out := api.Host{
		Spec: spec, Found: host.Found, Draining: host.Draining, Server: host.Server, Agent: api.HostAgentNone,
		Launchers: host.Launchers, Findings: host.Findings, Crews: crewRecords(host.Spec), Missing: host.Missing,
	}
	if out.Renderers, err = httpapi.Convert[[]api.Renderer](host.Renderers); err != nil {
		return out, err
	}
	if f := host.Folder; f != nil {
		out.Folder = api.Folder{Writable: f.Writable, Network: f.Network, Filesystem: f.Filesystem, FreeGb: f.FreeGB}
	}
	if host.AgentSeen != nil {
		out.AgentSeen, out.Agent = host.AgentSeen.UTC(), api.HostAgentLost
		if host.Up(h.clock.WallNow()) {
			out.Agent = api.HostAgentUp
		}
	}
	return out, nil
}

func crewRecords(spec stock.Host) []api.Crew {
	out := []api.Crew{}
	for _, c := range spec.Crews() {
		out = append(out, api.Crew{
			Id: c.ID, Devices: c.Devices, Models: c.Models, Backends: c.Backends, Linked: c.Linked,
			MemoryGb: float32(c.MemoryGB), BusyPriceHour: spec.BusyPrice(c).Rat().FloatString(4),
		})
	}
	return out
}

// List answers with a page of hosts.
func (h *Hosts) List(w http.ResponseWriter, r *http.Request, params api.ListHostsParams) {
	out := api.HostList{Items: []api.Host{}}
	hosts, next, err := httpapi.Page(h.store.WithContext(r.Context()), "name", func(x Host) string { return x.Name }, params.Cursor, params.Limit)
	out.Next = next
	for _, host := range hosts {
		record, failed := h.record(host)
		err = errors.Join(err, failed)
		out.Items = append(out.Items, record)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (h *Hosts) answer(w http.ResponseWriter, r *http.Request, name string, err error) {
	var out api.Host
	if err == nil {
		var host Host
		if host, err = h.Find(r.Context(), name); err == nil {
			out, err = h.record(host)
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
	h.feed.Wake(events.Changes)
	h.answer(w, r, name, err)
}

// Drain lets a host finish what it renders and take nothing new, or take work again.
func (h *Hosts) Drain(w http.ResponseWriter, r *http.Request, name string) {
	body, err := httpapi.Body[api.DrainHostJSONBody](r)
	if err == nil {
		if _, err = h.Find(r.Context(), name); err == nil {
			err = h.store.WithContext(r.Context()).Transaction(func(tx *gorm.DB) error {
				if err := tx.Exec("UPDATE hosts SET draining = ? WHERE name = ?", body.Drain, name).Error; err != nil {
					return err
				}
				state := "open"
				if body.Drain {
					state = "draining"
				}
				return h.feed.Write(tx, events.Event{Kind: events.Host, Host: name, State: state})
			})
		}
	}
	h.feed.Wake(events.Changes, events.Work)
	h.answer(w, r, name, err)
}

// ListOffers answers with a page of offers.
func (h *Hosts) ListOffers(w http.ResponseWriter, r *http.Request, params api.ListOffersParams) {
	out := api.OfferList{Items: []api.Offer{}}
	offers, next, err := httpapi.Page(h.store.WithContext(r.Context()), "name", func(x Offer) string { return x.Name }, params.Cursor, params.Limit)
	out.Next = next
	for _, o := range offers {
		record, failed := h.offerRecord(r.Context(), o)
		err = errors.Join(err, failed)
		out.Items = append(out.Items, record)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (h *Hosts) offerRecord(ctx context.Context, o Offer) (api.Offer, error) {
	spec, err := httpapi.Convert[api.OfferSpec](o.Spec)
	if err != nil {
		return api.Offer{}, err
	}
	unit, known, err := store.First(h.store.WithContext(ctx).Raw("SELECT coalesce(nullif(spec->'card'->>'currency', ''), $2) FROM sources WHERE name = $1", o.Source, h.currency),
		func(row store.Row) (unit string, err error) { return unit, row.Scan(&unit) })
	if !known {
		unit = h.currency
	}
	return api.Offer{Spec: spec, Crews: crewRecords(o.Spec.Server(o.Name)), Currency: unit}, err
}

// PutOffer stores an offer.
func (h *Hosts) PutOffer(w http.ResponseWriter, r *http.Request, name string) {
	spec, err := httpapi.Body[stock.Offer](r)
	if err == nil && spec.Name != name {
		err = httpapi.BadField("/name", spec.Name, "is not the offer in the path, "+name)
	}
	if err == nil {
		if wrong := spec.Validate(); wrong != nil {
			err = httpapi.BadField("/", name, wrong.Error())
		}
	}
	o := Offer{Name: name, Source: spec.Source, Spec: spec}
	if err == nil {
		err = h.store.WithContext(r.Context()).Save(&o).Error
	}
	var record api.Offer
	if err == nil {
		record, err = h.offerRecord(r.Context(), o)
	}
	httpapi.Answer(w, r, http.StatusOK, record, err)
}

// ReportStock takes in an agent's report and says how it shall go on.
func (h *Hosts) ReportStock(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.StockReport](r)
	if err == nil {
		err = h.Report(r.Context(), access.From(r.Context()).Host, body)
	}
	httpapi.Answer(w, r, http.StatusOK, api.AgentOrders{HeartbeatS: h.beat.Seconds(), ClockFactor: h.clock.Factor()}, err)
}

// ListFarms answers with all tiers of farms.
func (h *Hosts) ListFarms(w http.ResponseWriter, r *http.Request) {
	farms, err := h.Farms(r.Context())
	out := struct {
		Items []stock.Farm `json:"items"`
	}{[]stock.Farm{}}
	for _, f := range farms {
		out.Items = append(out.Items, f.Spec)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// PutFarm stores a tier of a farm.
func (h *Hosts) PutFarm(w http.ResponseWriter, r *http.Request, name string) {
	spec, err := httpapi.Body[stock.Farm](r)
	if err == nil && spec.Name != name {
		err = httpapi.BadField("/name", spec.Name, "is not the farm in the path, "+name)
	}
	if err == nil {
		if wrong := spec.Validate(); wrong != nil {
			err = httpapi.BadField("/", name, wrong.Error())
		}
	}
	if err == nil {
		err = h.store.WithContext(r.Context()).Save(&Farm{Name: name, Source: spec.Source, Spec: spec}).Error
	}
	httpapi.Answer(w, r, http.StatusOK, spec, err)
}
