// Package hosts keeps the stock: hosts as they were declared and as their agents
// found them, and the offers of rented sources.
package hosts

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/desks"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Lost is how long, in real time, an agent may be silent before it counts as lost.
const Lost = 20 * time.Second

// LostLong is how long, in real time, it may be silent before what it was to do is planned
// anew and people are told: longer than the queue waits, as one that comes back at once is no
// reason to move its frames.
const LostLong = 4 * Lost

// Host is the record of one.
type Host struct {
	Name      string     `gorm:"primaryKey"`
	Source    string     //
	Spec      stock.Host `gorm:"serializer:json"`
	Found     bool       // devices are as the agent found them
	Draining  bool
	Trouble   string   // for which its agent takes nothing, as it says; "" for none
	Launchers []string `gorm:"serializer:json"`
	Findings  []string `gorm:"serializer:json"`
	Boot      *uuid.UUID
	AgentSeen *time.Time
	Server    bool // a rented server of a run

	AgentVersion string // "" of one that does not say it

	Renderers []preflight.Renderer `gorm:"serializer:json"`
	Folder    *preflight.Folder    `gorm:"serializer:json"` // where it renders to
	LookedFor string               // the sum of the list of input files that it looked for
	LookedTo  *time.Time           // up to which change of the shots that list goes
	Missing   []string             `gorm:"serializer:json"`

	Desk *Desk `gorm:"serializer:json"` // nil: nobody works at it
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

// Config is what Hosts works with.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Feed     *events.Feed
	Beat     time.Duration  // how often agents shall send a heartbeat
	Currency string         // the service's
	Zone     *time.Location // in which hours are read
}

// Hosts looks after them.
type Hosts struct {
	Config
}

// New makes it.
func New(c Config) *Hosts { return &Hosts{c} }

// Find returns a host by name, or a problem that names it.
func (h *Hosts) Find(ctx context.Context, name string) (Host, error) {
	var host Host
	err := h.Store.WithContext(ctx).Take(&host, "name = ?", name).Error
	if store.Missing(err) {
		err = httpapi.NotFound(fmt.Sprintf("there is no host %q; rotanex hosts list shows them", name))
	}
	return host, err
}

// Owned returns all hosts that are not rented servers, by name.
func (h *Hosts) Owned(ctx context.Context) ([]Host, error) {
	var all []Host
	return all, h.Store.WithContext(ctx).Where("NOT server").Order("name").Find(&all).Error
}

// Offers returns all offers, by name.
func (h *Hosts) Offers(ctx context.Context) ([]Offer, error) {
	var all []Offer
	return all, h.Store.WithContext(ctx).Order("name").Find(&all).Error
}

// Farms returns all tiers of farms, by name.
func (h *Hosts) Farms(ctx context.Context) ([]Farm, error) {
	var all []Farm
	return all, h.Store.WithContext(ctx).Order("name").Find(&all).Error
}

// Put makes a host or replaces what was declared of it. Devices that its agent
// found stay as found.
func (h *Hosts) Put(ctx context.Context, spec stock.Host, server bool) error {
	if err := spec.Validate(); err != nil {
		return httpapi.BadField("/", spec.Name, err.Error())
	}
	return h.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
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
		return h.Feed.Write(tx, events.Event{Kind: events.Host, Host: spec.Name})
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

// Report is what an agent found of its host.
type Report struct {
	Boot      uuid.UUID
	Version   string // of the agent; "" of one that does not say it
	CPU       stock.CPU
	MemoryGB  float64
	OnACPower bool
	Devices   []stock.Device
	Launchers []string
	Findings  []string
	Renderers []preflight.Renderer
	Folder    *preflight.Folder // nil: the agent cannot tell
	Desk      *Desk             // nil: nobody works at it
}

// Report takes in what an agent found.
func (h *Hosts) Report(ctx context.Context, name string, r Report) error {
	now := h.Clock.WallNow()
	err := h.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var host Host
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&host, "name = ?", name).Error
		if store.Missing(err) {
			if err := notGivenBack(tx, name); err != nil {
				return err
			}
			host = Host{Name: name, Source: "joined", Missing: []string{}, Spec: stock.Host{Name: name, Source: "joined", Note: "joined by its agent"}}
			err = nil
		}
		if err != nil {
			return err
		}
		restarted := host.Desk != nil && host.Boot != nil && *host.Boot != r.Boot
		if restarted && host.AgentSeen != nil {
			if err := endUse(tx, name, h.Clock.At(*host.AgentSeen)); err != nil {
				return err
			}
			host.Desk.State = Lent
		}
		host.Spec.Devices = merged(host.Spec.Devices, r.Devices)
		host.Spec.CPU.Cores, host.Spec.CPU.Threads = r.CPU.Cores, r.CPU.Threads
		if host.Spec.CPU.Model == "" {
			host.Spec.CPU.Model = r.CPU.Model
		}
		host.Spec.MemoryGB, host.Spec.OnACPower = r.MemoryGB, &r.OnACPower
		host.Found, host.Boot, host.AgentSeen, host.AgentVersion = true, &r.Boot, &now, r.Version
		host.Launchers, host.Findings = r.Launchers, append([]string{}, r.Findings...)
		host.Renderers, host.Folder = append([]preflight.Renderer{}, r.Renderers...), r.Folder
		if err := tx.Omit("Desk").Save(&host).Error; err != nil {
			return err
		}
		if restarted || !r.Desk.same(host.Desk) {
			return h.setDesk(tx, host, r.Desk)
		}
		return h.Feed.Write(tx, events.Event{Kind: events.Host, Host: name, State: "up"})
	})
	if err == nil {
		h.Feed.Wake(events.Changes, events.Work)
	}
	return err
}

// page returns a page of hosts, by name, and the habits of the desks among them.
func (h *Hosts) page(ctx context.Context, cursor *string, limit *int) (all []Host, habits map[string]desks.Habits, next string, err error) {
	if all, next, err = httpapi.Page(h.Store.WithContext(ctx), "name", func(x Host) string { return x.Name }, cursor, limit); err == nil {
		habits, err = h.HabitsOf(ctx, all)
	}
	return all, habits, next, err
}

func (h *Hosts) findWithHabits(ctx context.Context, name string) (host Host, habits desks.Habits, err error) {
	if host, err = h.Find(ctx, name); err != nil {
		return host, habits, err
	}
	of, err := h.HabitsOf(ctx, []Host{host})
	return host, of[name], err
}

// Drain lets a host finish what it renders and take nothing new, or take work again.
func (h *Hosts) Drain(ctx context.Context, name string, drain bool) error {
	if _, err := h.Find(ctx, name); err != nil {
		return err
	}
	err := h.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := setDraining(tx, name, drain); err != nil {
			return err
		}
		state := "open"
		if drain {
			state = "draining"
		}
		return h.Feed.Write(tx, events.Event{Kind: events.Host, Host: name, State: state})
	})
	h.Feed.Wake(events.Changes, events.Work)
	return err
}

// SetAside takes in why a host's agent takes nothing now; "": it takes frames. Its frames are others' meanwhile.
func (h *Hosts) SetAside(ctx context.Context, name string, boot uuid.UUID, trouble string) error {
	isNew := false
	err := h.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) (err error) {
		if isNew, err = setTrouble(tx, name, boot, trouble); err != nil || !isNew {
			return err
		}
		state := "open"
		if trouble != "" {
			state = "set aside"
		}
		return h.Feed.Write(tx, events.Event{Kind: events.Host, Host: name, State: state, Cause: trouble})
	})
	if isNew && err == nil {
		h.Feed.Wake(events.Changes, events.Work)
	}
	return err
}

// PricedOffer is an offer with the currency that its source reckons in.
type PricedOffer struct {
	Offer
	Currency string
}

// offerPage returns a page of offers, by name.
func (h *Hosts) offerPage(ctx context.Context, cursor *string, limit *int) (out []PricedOffer, next string, err error) {
	found, next, err := httpapi.Page(h.Store.WithContext(ctx), "name", func(x Offer) string { return x.Name }, cursor, limit)
	for _, o := range found {
		one, err := h.priced(ctx, o)
		if err != nil {
			return nil, "", err
		}
		out = append(out, one)
	}
	return out, next, err
}

// PutOffer makes an offer or replaces it.
func (h *Hosts) PutOffer(ctx context.Context, spec stock.Offer) (PricedOffer, error) {
	if err := spec.Validate(); err != nil {
		return PricedOffer{}, httpapi.BadField("/", spec.Name, err.Error())
	}
	o := Offer{Name: spec.Name, Source: spec.Source, Spec: spec}
	if err := h.Store.WithContext(ctx).Save(&o).Error; err != nil {
		return PricedOffer{}, err
	}
	return h.priced(ctx, o)
}

// PutFarm makes a tier of a farm or replaces it.
func (h *Hosts) PutFarm(ctx context.Context, spec stock.Farm) error {
	if err := spec.Validate(); err != nil {
		return httpapi.BadField("/", spec.Name, err.Error())
	}
	return h.Store.WithContext(ctx).Save(&Farm{Name: spec.Name, Source: spec.Source, Spec: spec}).Error
}
