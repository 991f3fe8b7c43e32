package sources

import (
	"context"
	"math"
	"slices"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/leadtimes"
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

func (w Wait) record() api.Wait {
	const nineInTen = 1.2816 // quantile of the normal distribution
	typical := w.Takes().Seconds()
	return api.Wait{
		Place: w.Place, DeclaredS: w.Promised.Seconds(), TypicalS: typical, LateS: math.Round(typical * math.Exp(nineInTen*w.Spread)),
		Seen: w.Seen, Ordered: w.Ordered, Never: w.Never,
	}
}

// learnt adds how often tries at a source gave a frame and how its promises are kept.
func (s *Sources) learnt(ctx context.Context, name string, waits map[string]Wait, out *api.Source) error {
	var done, all int
	err := s.store.WithContext(ctx).Raw(`
		WITH places AS (SELECT s.host AS place FROM servers s JOIN offers o ON o.name = s.offer WHERE o.source = $1 UNION SELECT name FROM farms WHERE source = $1)
		SELECT count(*) FILTER (WHERE outcome = 'done'), count(*) FILTER (WHERE outcome IN ('done', 'failed'))
		FROM tries a JOIN places p ON p.place = a.host`, name).Row().Scan(&done, &all)
	if err != nil {
		return err
	}
	if all > 0 {
		out.UsableShare = float64(done) / float64(all)
	}
	out.Waits = []api.Wait{}
	for _, w := range waits {
		if w.Source == name {
			out.Waits = append(out.Waits, w.record())
		}
	}
	slices.SortFunc(out.Waits, func(a, b api.Wait) int {
		if a.Place < b.Place {
			return -1
		}
		return 1
	})
	return s.store.WithContext(ctx).Raw("SELECT image FROM images WHERE source = ? ORDER BY image", name).Scan(&out.Images).Error
}
