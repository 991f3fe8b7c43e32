package hosts

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/desks"
	"rotanex.example/core/stock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
)

// DeskState is how a machine stands that somebody works at.
type DeskState string

// States of desks.
const (
	Lent      DeskState = "lent"
	InUse     DeskState = "in-use"
	TakenBack DeskState = "taken-back"
)

// Desk is a machine that somebody works at, as its agent says. Since is by the service's
// clock, and Until, which agents tell by the real one, too.
type Desk struct {
	State  DeskState `json:"state"`
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until,omitzero"`
	ByHand bool      `json:"by_hand"`
	Why    string    `json:"why"`
	Kept   []string  `json:"kept"` // devices that are not lent now
}

// same reports whether one desk stands as another does, since whenever.
func (d *Desk) same(o *Desk) bool {
	if d == nil || o == nil {
		return d == o
	}
	return d.State == o.State && d.ByHand == o.ByHand && d.Why == o.Why && slices.Equal(d.Kept, o.Kept) && d.Until.Sub(o.Until).Abs() < time.Minute
}

// DeskUse is a stretch in which a desk was its owner's.
type DeskUse struct {
	Host    string    `gorm:"primaryKey"`
	BeganAt time.Time `gorm:"primaryKey"`
	EndedAt *time.Time
}

// deskMemory is for how long it is kept when a desk was its owner's.
const deskMemory = 60 * 24 * time.Hour

// SetDesk takes in how a host's desk stands, and says until when its hours are over; zero:
// they are not. Another agent than the one that reported last is told so.
func (h *Hosts) SetDesk(ctx context.Context, name string, boot uuid.UUID, desk *Desk) (closed time.Time, err error) {
	found := func(tx *gorm.DB) (host Host, err error) {
		err = tx.Select("name", "boot", "desk", "spec").Take(&host, "name = ?", name).Error
		if err == nil && (host.Boot == nil || *host.Boot != boot) {
			err = httpapi.Conflict("another agent reported for this host since; report its stock again")
		}
		return host, err
	}
	host, err := found(h.Store.WithContext(ctx))
	if err != nil {
		return closed, err
	}
	closed = Host{Spec: host.Spec}.OpensAt(h.Clock.Now(), h.Zone)
	if desk.same(host.Desk) {
		return closed, nil
	}
	err = h.Store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		host, err := found(tx.Clauses(clause.Locking{Strength: "UPDATE"}))
		if err != nil {
			return err
		}
		return h.setDesk(tx, host, desk)
	})
	h.Feed.Wake(events.Changes, events.Work)
	return closed, err
}

// setDesk changes a desk that is locked, and keeps when it was its owner's.
func (h *Hosts) setDesk(tx *gorm.DB, host Host, desk *Desk) error {
	now := h.Clock.Now()
	state := "up"
	if desk != nil {
		if desk.Since = now; host.Desk != nil && host.Desk.State == desk.State {
			desk.Since = host.Desk.Since
		}
		state = string(desk.State)
	}
	if err := tx.Model(&Host{Name: host.Name}).Select("desk").Updates(&Host{Desk: desk}).Error; err != nil {
		return err
	}
	was, is := host.Desk != nil && host.Desk.State != Lent, desk != nil && desk.State != Lent
	switch {
	case is && !was:
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&DeskUse{Host: host.Name, BeganAt: now}).Error; err != nil {
			return err
		}
		if err := tx.Where("host = ? AND began_at < ?", host.Name, now.Add(-deskMemory)).Delete(&DeskUse{}).Error; err != nil {
			return err
		}
	case was && !is:
		if err := endUse(tx, host.Name, now); err != nil {
			return err
		}
	}
	return h.Feed.Write(tx, events.Event{Kind: events.Host, Host: host.Name, State: state})
}

// endUse notes until when a desk was its owner's. Of one that is switched off in the evening
// that is when its agent was heard of last.
func endUse(tx *gorm.DB, host string, at time.Time) error {
	return tx.Model(&DeskUse{}).Where("host = ? AND ended_at IS NULL", host).Update("ended_at", at).Error
}

// HabitsOf are how the desks among hosts are taken back, by host.
func (h *Hosts) HabitsOf(ctx context.Context, all []Host) (map[string]desks.Habits, error) {
	now := h.Clock.Now()
	out := map[string]desks.Habits{}
	var names []string
	for _, x := range all {
		if x.Desk != nil {
			names = append(names, x.Name)
		}
	}
	if len(names) == 0 {
		return out, nil
	}
	var uses []DeskUse
	if err := h.Store.WithContext(ctx).Where("host IN ?", names).Order("host, began_at").Find(&uses).Error; err != nil {
		return nil, err
	}
	of := map[string][]DeskUse{}
	for _, u := range uses {
		of[u.Host] = append(of[u.Host], u)
	}
	for _, x := range all {
		if x.Desk == nil {
			continue
		}
		until := now
		if x.AgentSeen != nil && !x.Up(h.Clock.WallNow()) {
			until = h.Clock.At(*x.AgentSeen)
		}
		// Before its first use nothing is known of it, not that it was lent.
		var open []stock.Window
		var known []desks.Use
		for _, u := range of[x.Name] {
			use := desks.Use{Began: u.BeganAt, Ended: until, Lasts: u.EndedAt == nil}
			if u.EndedAt != nil {
				use.Ended = *u.EndedAt
			}
			if known = append(known, use); len(known) == 1 {
				open = x.Spec.Windows(u.BeganAt, until, h.Zone)
			}
		}
		out[x.Name] = desks.Learn(known, open)
	}
	return out, nil
}

// Opens is when a host takes frames between two times: in its hours, and if it is a desk
// also while its owner lends it by hand.
func (h Host) Opens(now, end time.Time, zone *time.Location) []stock.Window {
	open := h.Spec.Windows(now, end, zone)
	if d := h.Desk; d != nil && d.State == Lent && d.ByHand {
		return desks.Lent(open, now, d.Until)
	}
	return open
}

// Keeps says why some devices of a desk are not lent now; "": they are, or it is none.
func (d *Desk) Keeps(devices []string) string {
	if d == nil || !slices.ContainsFunc(devices, func(id string) bool { return slices.Contains(d.Kept, id) }) {
		return ""
	}
	return d.Why
}

// AllKept reports whether nothing of a desk is lent now, neither devices nor the CPU.
func (h Host) AllKept() bool { return h.Desk != nil && len(h.Desk.Kept) > len(h.Spec.Devices) }
