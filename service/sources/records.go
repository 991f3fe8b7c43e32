package sources

import (
	"context"
	"database/sql"
	"encoding/json"
	"math/big"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/service/store"
)

// uncharged is money committed and not charged yet: what a server that stands,
// or a job that a farm has, is expected to come to.
const uncharged = `
	SELECT s.run_id, o.source, s.host AS place, s.committed FROM servers s JOIN offers o ON o.name = s.offer
	WHERE s.state IN ('requested', 'starting', 'up', 'stopping', 'ending')
	UNION ALL SELECT run_id, source, id::text, committed FROM farm_jobs WHERE state NOT IN ('planned', 'ended', 'not-started')`

// spent adds up what was charged and what is committed, but for a place.
func (s *Sources) spent(tx *gorm.DB, which string, id any, but string) (pricing.Money, error) {
	var sum string
	err := tx.Raw(`SELECT (coalesce((SELECT sum(cost) FROM charges WHERE `+which+` AND place <> $2), 0)
		+ coalesce((SELECT sum(p.committed) FROM (`+uncharged+`) p WHERE `+which+` AND p.place <> $2 AND NOT EXISTS (SELECT FROM charges c WHERE c.place = p.place)), 0))::text`, id, but).Row().Scan(&sum)
	if err != nil {
		return pricing.Money{}, err
	}
	return pricing.ParseMoney(sum)
}

// lately is how many of the newest tries, wherever they were made, say how a source does.
const lately = 50_000

// usable counts how many of the last tries at a source gave a frame, and how many there were.
func (s *Sources) usable(ctx context.Context, name string) (done, all int, err error) {
	return done, all, s.store.WithContext(ctx).Raw(`
		WITH places AS (SELECT s.host AS place FROM servers s JOIN offers o ON o.name = s.offer WHERE o.source = $1 UNION SELECT name FROM farms WHERE source = $1)
		SELECT count(*) FILTER (WHERE outcome = 'done'), count(*) FILTER (WHERE outcome IN ('done', 'failed'))
		FROM (SELECT host, outcome FROM tries ORDER BY id DESC LIMIT $2) a JOIN places p ON p.place = a.host`, name, lately).Row().Scan(&done, &all)
}

// images lists what of a source's servers was kept as images.
func (s *Sources) images(ctx context.Context, name string) (out []string, err error) {
	out = []string{}
	return out, s.store.WithContext(ctx).Raw("SELECT image FROM images WHERE source = ? ORDER BY image", name).Scan(&out).Error
}

// money is what a source was charged and what is committed to it, in the service's currency.
func (s *Sources) money(ctx context.Context, name string) (charged, committed pricing.Money, err error) {
	var x, y string
	err = s.store.WithContext(ctx).Raw(`SELECT coalesce((SELECT sum(cost) FROM charges WHERE source = $1), 0)::text,
		coalesce((SELECT sum(p.committed) FROM (`+uncharged+`) p WHERE source = $1 AND NOT EXISTS (SELECT FROM charges c WHERE c.place = p.place)), 0)::text`, name).Row().Scan(&x, &y)
	if err != nil {
		return charged, committed, err
	}
	if charged, err = pricing.ParseMoney(x); err == nil {
		committed, err = pricing.ParseMoney(y)
	}
	return charged, committed, err
}

func ratesBy(db *gorm.DB) (pricing.Rates, error) {
	return store.Rows(db.Raw("SELECT day, from_code, to_code, rate::text FROM exchange_rates ORDER BY day, from_code, to_code"), func(row store.Row) (r pricing.Rate, err error) {
		var text string
		if err = row.Scan(&r.Day, &r.From, &r.To, &text); err == nil {
			r.Rate, err = pricing.ParseMoney(text)
		}
		return r, err
	})
}

// PutRates stores exchange rates; one of the same day and pair is replaced.
func (s *Sources) PutRates(ctx context.Context, rates pricing.Rates) error {
	return s.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, r := range rates {
			err := tx.Exec(`INSERT INTO exchange_rates (day, from_code, to_code, rate) VALUES (?, ?, ?, CAST(? AS numeric))
				ON CONFLICT (day, from_code, to_code) DO UPDATE SET rate = excluded.rate`, r.Day, r.From, r.To, text(r.Rate)).Error
			if err != nil {
				return err
			}
		}
		return nil
	})
}

func chargedBy(db *gorm.DB, source string) (pricing.Money, error) {
	var sum string
	if err := db.Raw("SELECT coalesce(sum(amount), 0)::text FROM charges WHERE source = $1", source).Row().Scan(&sum); err != nil {
		return pricing.Money{}, err
	}
	return pricing.ParseMoney(sum)
}

// Reachable notes whether a source could be dealt with the last time; fault is nil if so.
func (s *Sources) Reachable(ctx context.Context, name string, fault error) error {
	if ctx.Err() != nil {
		return nil
	}
	text := ""
	if fault != nil {
		text = fault.Error()
	}
	return s.store.WithContext(ctx).Exec("UPDATE sources SET fault = $2, asked = coalesce(asked, $3) WHERE name = $1 AND (fault <> $2 OR asked IS NULL)", name, text, s.clock.WallNow()).Error
}

// DueForSweep returns the sources of a kind that were last looked after so long ago, and
// notes that they are now. Another transaction is given others.
func DueForSweep(tx *gorm.DB, kind string, wall time.Time, every time.Duration) ([]string, error) {
	return store.Column[string](tx.Raw(`UPDATE sources SET swept = $1 WHERE name IN (
		SELECT name FROM sources WHERE spec->>'kind' = $3 AND coalesce(spec->>'address', '') <> '' AND coalesce(swept, '-infinity') < $2
		FOR UPDATE SKIP LOCKED) RETURNING name`, wall, wall.Add(-every), kind))
}

// Enter stores a charge, once: entering it again changes nothing. It returns what it
// comes to in the service's currency.
func (s *Sources) Enter(tx *gorm.DB, c Charge) (pricing.Money, error) {
	// One after another, for what was charged before decides on the discount.
	var card json.RawMessage
	err := tx.Raw("SELECT spec->'card' FROM sources WHERE name = $1 FOR UPDATE", c.Source).Row().Scan(&card)
	if err != nil && err != sql.ErrNoRows {
		return pricing.Money{}, err
	}
	unit := s.currency
	factor := big.NewRat(1, 1)
	if card != nil {
		var known pricing.RateCard
		if err := json.Unmarshal(card, &known); err != nil {
			return pricing.Money{}, err
		}
		if known.Currency != "" {
			unit = known.Currency
		}
		if factor, err = s.FactorBy(tx, c.Source); err != nil {
			return pricing.Money{}, err
		}
	}
	cost := c.Amount.Scaled(factor)
	err = tx.Exec(`INSERT INTO charges (run_id, source, place, at, metered_s, amount, unit, factor, cost)
		VALUES ($1::uuid, $2, $3, $4, $5, $6::numeric, $7, $8, $9::numeric) ON CONFLICT (source, place) DO NOTHING`,
		c.Run, c.Source, c.Place, s.clock.Now(), c.Metered, text(c.Amount), unit, factor.RatString(), text(cost)).Error
	return cost, err
}

// lockCap reads what a run may spend outside, nil where nothing was said. Expenses are
// weighed one after another, whatever run and source they are of.
func lockCap(tx *gorm.DB, run uuid.UUID) (*pricing.Money, error) {
	if err := tx.Exec("SELECT pg_advisory_xact_lock(7682263913)").Error; err != nil {
		return nil, err
	}
	var text *string
	if err := tx.Raw("SELECT cap::text FROM runs WHERE id = $1", run).Row().Scan(&text); err != nil || text == nil {
		return nil, err
	}
	limit, err := pricing.ParseMoney(*text)
	return &limit, err
}

// hiredFor is what the seats that a run hired come to by a time.
func hiredFor(tx *gorm.DB, run uuid.UUID, now time.Time) (pricing.Money, error) {
	var seats string
	err := tx.Raw(`SELECT coalesce(sum(h.seats * h.price * greatest(h.days, ceil(extract(epoch FROM $2::timestamptz - h.from_at) / 86400))), 0)::text
		FROM hired_seats h WHERE h.run_id = $1`, run, now).Row().Scan(&seats)
	if err != nil {
		return pricing.Money{}, err
	}
	return pricing.ParseMoney(seats)
}

// waitRow is a wait with what was seen of it: how many times as long as declared each took.
type waitRow struct {
	Wait
	farm   bool
	ratios []float64
}

func readWaits(tx *gorm.DB) ([]waitRow, error) {
	return store.Rows(tx.Raw(`
		WITH servers_waits AS (
			SELECT s.offer AS place, extract(epoch FROM s.up_at - s.started_at) / nullif((o.spec->>'boot_s')::float8 + CASE WHEN s.image = '' THEN coalesce((o.spec->>'setup_s')::float8, 0) ELSE 0 END, 0) AS ratio,
			       s.up_at IS NULL AND s.trouble <> '' AND s.state IN ('stopping', 'ending', 'stopped') AS never, s.started_at AS at
			FROM servers s JOIN offers o ON o.name = s.offer WHERE s.started_at IS NOT NULL),
		jobs_waits AS (
			SELECT j.farm AS place, extract(epoch FROM j.started_at - j.handed_at) / nullif((f.spec->>'lead_s')::float8, 0) AS ratio, false AS never, j.handed_at AS at
			FROM farm_jobs j JOIN farms f ON f.name = j.farm WHERE j.handed_at IS NOT NULL),
		seen AS (SELECT *, row_number() OVER (PARTITION BY place ORDER BY at DESC) AS n FROM (SELECT * FROM servers_waits UNION ALL SELECT * FROM jobs_waits) x),
		places AS (
			SELECT o.name AS place, o.source, false AS farm, least(coalesce((o.spec->>'boot_s')::float8, 0) + CASE WHEN EXISTS (SELECT FROM images i WHERE i.offer = o.name) THEN 0 ELSE coalesce((o.spec->>'setup_s')::float8, 0) END, 5356800) AS declared FROM offers o
			UNION ALL SELECT name, source, true, least(coalesce((spec->>'lead_s')::float8, 0), 5356800) FROM farms)
		SELECT p.place, p.source, p.farm, p.declared, count(x.at)::int, (count(*) FILTER (WHERE x.never))::int, coalesce(json_agg(x.ratio::float8) FILTER (WHERE x.ratio > 0), '[]')
		FROM places p LEFT JOIN seen x ON x.place = p.place AND x.n <= $1 GROUP BY 1, 2, 3, 4 ORDER BY 1`, latestWaits), func(r store.Row) (x waitRow, err error) {
		var declared float64
		err = r.Scan(&x.Place, &x.Source, &x.farm, &declared, &x.Ordered, &x.Never, store.JSON(&x.ratios))
		x.Declared = time.Duration(declared * float64(time.Second))
		return x, err
	})
}

// Delete deletes a source, and reports whether there was one. What was charged there stays.
func Delete(tx *gorm.DB, name string) (bool, error) {
	done := tx.Exec("DELETE FROM sources WHERE name = $1", name)
	return done.RowsAffected > 0, done.Error
}
