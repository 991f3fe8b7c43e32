package hosts

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Heard is a host whose agent spoke, as it is stored.
type Heard struct {
	Known     bool // no other agent reported for it since
	Trouble   string
	LookedFor string // the list of input files that it looked for last
	LookedTo  *time.Time
	LacksNone bool // of them
}

// HeardAll notes that hosts' agents spoke, each of a boot, and returns how each host is stored, in the same order.
func HeardAll(tx *gorm.DB, names []string, boots []uuid.UUID, wall time.Time) ([]Heard, error) {
	out := make([]Heard, len(names))
	_, err := store.Rows(tx.Raw(`UPDATE hosts h SET agent_seen = $1 FROM unnest($2::text[], $3::uuid[]) WITH ORDINALITY AS b (name, boot, n) WHERE h.name = b.name AND h.boot = b.boot
		RETURNING b.n - 1, h.trouble, h.looked_for, h.looked_to, h.missing = '[]'`, wall, names, boots), func(row store.Row) (at int, err error) {
		h := Heard{Known: true}
		if err = row.Scan(&at, &h.Trouble, &h.LookedFor, &h.LookedTo, &h.LacksNone); err != nil {
			return at, err
		}
		for i := range names { // one that speaks twice at once is told of once
			if names[i] == names[at] && boots[i] == boots[at] {
				out[i] = h
			}
		}
		return at, nil
	})
	return out, err
}

// HeardAt is when a host's agent spoke last; the zero time if it never did.
func HeardAt(tx *gorm.DB, name string) (at time.Time, err error) {
	var seen *time.Time
	if err = tx.Raw("SELECT agent_seen FROM hosts WHERE name = $1", name).Row().Scan(&seen); seen != nil {
		at = *seen
	}
	if store.Missing(err) {
		err = nil
	}
	return at, err
}

// notGivenBack refuses a rented server that was given back: it is no host of our own.
func notGivenBack(tx *gorm.DB, name string) error {
	var was bool
	err := tx.Raw("SELECT EXISTS (SELECT FROM servers WHERE host = $1)", name).Row().Scan(&was)
	if err == nil && was {
		err = httpapi.Conflict(name + " was a rented server, which is given back: its agent has nothing more to do")
	}
	return err
}

// setTrouble notes why a host's agent takes nothing, and reports whether that is new.
func setTrouble(tx *gorm.DB, name string, boot uuid.UUID, trouble string) (bool, error) {
	done := tx.Exec("UPDATE hosts SET trouble = $3 WHERE name = $1 AND boot = $2 AND trouble <> $3", name, boot, trouble)
	return done.RowsAffected > 0, done.Error
}

// Looked notes which input files a host lacks of a list, which its sum names, and up to
// which change of the shots the list goes.
func Looked(tx *gorm.DB, name, sum, missing string, to time.Time) error {
	return tx.Exec(`UPDATE hosts SET looked_for = $2, missing = $3::jsonb, looked_to = $4
		WHERE name = $1 AND (looked_for <> $2 OR missing <> $3::jsonb OR looked_to IS DISTINCT FROM $4)`, name, sum, missing, to).Error
}

// Launchers are those that agents have reported, with the settings that they have of each.
func Launchers(tx *gorm.DB) (map[string][]string, error) {
	type row struct {
		Launcher string
		Settings []string `gorm:"serializer:json"`
	}
	var rows []row
	err := tx.Raw(`SELECT DISTINCT r->>'launcher' AS launcher, coalesce(r->'settings', '[]') AS settings
		FROM hosts, jsonb_array_elements(renderers) r`).Scan(&rows).Error
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Launcher] = append(out[r.Launcher], r.Settings...)
	}
	return out, err
}

// Drain lets a host finish what it renders and take nothing new.
func Drain(tx *gorm.DB, name string) error {
	return tx.Exec("UPDATE hosts SET draining = true WHERE name = $1", name).Error
}

// ForgetServer takes a rented server out of the stock.
func ForgetServer(tx *gorm.DB, name string) error {
	return tx.Exec("DELETE FROM hosts WHERE name = $1 AND server", name).Error
}

func (h *Hosts) priced(ctx context.Context, o Offer) (PricedOffer, error) {
	unit, known, err := store.First(h.Store.WithContext(ctx).Raw("SELECT coalesce(nullif(spec->'card'->>'currency', ''), $2) FROM sources WHERE name = $1", o.Source, h.Currency),
		func(row store.Row) (unit string, err error) { return unit, row.Scan(&unit) })
	if !known {
		unit = h.Currency
	}
	return PricedOffer{o, unit}, err
}

func setDraining(tx *gorm.DB, host string, drain bool) error {
	return tx.Exec("UPDATE hosts SET draining = ? WHERE name = ?", drain, host).Error
}

// CountUp counts the hosts whose agents are heard of.
func (h *Hosts) CountUp(ctx context.Context) (n int, err error) {
	return n, h.Store.WithContext(ctx).Raw("SELECT count(*) FROM hosts WHERE agent_seen > $1", h.Clock.WallNow().Add(-Lost)).Row().Scan(&n)
}

// Delete deletes a host, and reports whether there was one.
func Delete(tx *gorm.DB, name string) (bool, error) {
	done := tx.Exec("DELETE FROM hosts WHERE name = $1", name)
	return done.RowsAffected > 0, done.Error
}

// DeleteOffers deletes the offers and tiers of a source.
func DeleteOffers(tx *gorm.DB, source string) error {
	return errors.Join(tx.Exec("DELETE FROM offers WHERE source = $1", source).Error, tx.Exec("DELETE FROM farms WHERE source = $1", source).Error)
}
