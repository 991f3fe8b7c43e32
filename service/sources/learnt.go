package sources

import (
	"context"
	"maps"
	"math/big"
	"slices"
	"time"

	"rotanex.example/core/leadtimes"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/store"
)

// Wait is what an offer or a tier promises against what it did.
type Wait struct {
	leadtimes.Kept
	Place, Source  string
	Promised       time.Duration // until it is up, or until a job's first frame
	Ordered, Never int
}

// Takes is how long the next wait will be, most likely.
func (w Wait) Takes() time.Duration {
	return time.Duration(w.Typical * float64(w.Promised)).Round(time.Second)
}

// latestWaits is over how many waits of a place it is learnt how promises are kept.
const latestWaits = 20

// Waits tells of each offer and tier how long it takes to begin. One of which nothing
// was seen goes by the others of its source.
func (s *Sources) Waits(ctx context.Context) (map[string]Wait, error) {
	type row struct {
		Wait
		farm   bool
		ratios []float64
	}
	all, err := store.Rows(s.store.WithContext(ctx).Raw(`
		WITH servers_waits AS (
			SELECT s.offer AS place, extract(epoch FROM s.up_at - s.started_at) / nullif((o.spec->>'boot_s')::float8 + CASE WHEN s.image = '' THEN coalesce((o.spec->>'setup_s')::float8, 0) ELSE 0 END, 0) AS ratio,
			       s.up_at IS NULL AND s.trouble <> '' AND s.state IN ('stopping', 'ending', 'stopped') AS never, s.started_at AS at
			FROM servers s JOIN offers o ON o.name = s.offer WHERE s.started_at IS NOT NULL),
		jobs_waits AS (
			SELECT j.farm AS place, extract(epoch FROM j.started_at - j.handed_at) / nullif((f.spec->>'lead_s')::float8, 0) AS ratio, false AS never, j.handed_at AS at
			FROM farm_jobs j JOIN farms f ON f.name = j.farm WHERE j.handed_at IS NOT NULL),
		seen AS (SELECT *, row_number() OVER (PARTITION BY place ORDER BY at DESC) AS n FROM (SELECT * FROM servers_waits UNION ALL SELECT * FROM jobs_waits) x),
		places AS (
			SELECT o.name AS place, o.source, false AS farm, (o.spec->>'boot_s')::float8 + CASE WHEN EXISTS (SELECT FROM images i WHERE i.offer = o.name) THEN 0 ELSE coalesce((o.spec->>'setup_s')::float8, 0) END AS promised FROM offers o
			UNION ALL SELECT name, source, true, (spec->>'lead_s')::float8 FROM farms)
		SELECT p.place, p.source, p.farm, p.promised, count(x.at)::int, (count(*) FILTER (WHERE x.never))::int, coalesce(json_agg(x.ratio::float8) FILTER (WHERE x.ratio > 0), '[]')
		FROM places p LEFT JOIN seen x ON x.place = p.place AND x.n <= $1 GROUP BY 1, 2, 3, 4 ORDER BY 1`, latestWaits), func(r store.Row) (x row, err error) {
		var promised float64
		err = r.Scan(&x.Place, &x.Source, &x.farm, &promised, &x.Ordered, &x.Never, store.JSON(&x.ratios))
		x.Promised = time.Duration(promised * float64(time.Second))
		return x, err
	})
	out := map[string]Wait{}
	for _, x := range all {
		assumed, ratios := leadtimes.Boot, x.ratios
		if x.farm {
			assumed = leadtimes.Queue
		}
		if len(ratios) == 0 {
			for _, y := range all {
				if y.Source == x.Source {
					ratios = append(slices.Clip(ratios), y.ratios...)
				}
			}
		}
		x.Kept = leadtimes.Learn(ratios, assumed).Coming(x.Ordered, x.Never)
		out[x.Place] = x.Wait
	}
	return out, err
}

// usable counts how many of the tries at a source gave a frame, and how many there were.
func (s *Sources) usable(ctx context.Context, name string) (done, all int, err error) {
	return done, all, s.store.WithContext(ctx).Raw(`
		WITH places AS (SELECT s.host AS place FROM servers s JOIN offers o ON o.name = s.offer WHERE o.source = $1 UNION SELECT name FROM farms WHERE source = $1)
		SELECT count(*) FILTER (WHERE outcome = 'done'), count(*) FILTER (WHERE outcome IN ('done', 'failed'))
		FROM tries a JOIN places p ON p.place = a.host`, name).Row().Scan(&done, &all)
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
		coalesce((SELECT sum(p.committed) FROM (`+promised+`) p WHERE source = $1 AND NOT EXISTS (SELECT FROM charges c WHERE c.place = p.place)), 0)::text`, name).Row().Scan(&x, &y)
	if err != nil {
		return charged, committed, err
	}
	if charged, err = pricing.ParseMoney(x); err == nil {
		committed, err = pricing.ParseMoney(y)
	}
	return charged, committed, err
}

// Account is a source with its money and what was learnt of it.
type Account struct {
	Source
	Charged, Committed pricing.Money
	Factor             *big.Rat // from its currency to the service's, with tax; nil: see FactorFault
	FactorFault        string
	Tries, Done        int
	Waits              []Wait // of its offers and tiers, by name
	Images             []string
}

func (s *Sources) account(ctx context.Context, row Source, waits map[string]Wait) (out Account, err error) {
	out.Source = row
	if out.Charged, out.Committed, err = s.money(ctx, row.Name); err != nil {
		return out, err
	}
	if factor, err := s.Factor(ctx, row.Name); err != nil {
		out.FactorFault = err.Error()
	} else {
		out.Factor = factor
	}
	if out.Done, out.Tries, err = s.usable(ctx, row.Name); err != nil {
		return out, err
	}
	for _, place := range slices.Sorted(maps.Keys(waits)) {
		if waits[place].Source == row.Name {
			out.Waits = append(out.Waits, waits[place])
		}
	}
	out.Images, err = s.images(ctx, row.Name)
	return out, err
}

// Accounts returns all sources with their money and what was learnt of them.
func (s *Sources) Accounts(ctx context.Context) (out []Account, err error) {
	all, err := s.All(ctx)
	if err != nil {
		return nil, err
	}
	waits, err := s.Waits(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range all {
		one, err := s.account(ctx, row, waits)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// PutAsked stores a source and asks whether anybody answers there, so that who stored it
// is told.
func (s *Sources) PutAsked(ctx context.Context, spec stock.Source, secret *string) (Account, error) {
	if err := s.Put(ctx, spec, secret); err != nil {
		return Account{}, err
	}
	if err := s.Contact(ctx, spec.Name); err != nil {
		return Account{}, err
	}
	row, _, err := s.Find(ctx, spec.Name)
	if err != nil {
		return Account{}, err
	}
	waits, err := s.Waits(ctx)
	if err != nil {
		return Account{}, err
	}
	return s.account(ctx, row, waits)
}
