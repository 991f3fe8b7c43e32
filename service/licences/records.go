package licences

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/preflight"
	"rotanex.example/core/pricing"
	"rotanex.example/service/store"
)

// pools returns the pool of a name, or all with "".
func (l *Licences) pools(ctx context.Context, pool string) ([]preflight.Licence, error) {
	return store.Rows(l.store.WithContext(ctx).Raw("SELECT pool, kind, seats, extra_seats, extra_seat_price::text FROM licences WHERE $1 = '' OR pool = $1 ORDER BY pool", pool), func(row store.Row) (l preflight.Licence, err error) {
		var price string
		if err = row.Scan(&l.Pool, &l.Kind, &l.Seats, &l.ExtraSeats, &price); err == nil {
			l.ExtraSeatPrice, err = pricing.ParseMoney(price)
		}
		return l, err
	})
}

// put stores a pool.
func (l *Licences) put(ctx context.Context, pool preflight.Licence) error {
	return l.store.WithContext(ctx).Exec(`INSERT INTO licences (pool, kind, seats, extra_seats, extra_seat_price) VALUES ($1, $2, $3, $4, $5::numeric)
		ON CONFLICT (pool) DO UPDATE SET kind = excluded.kind, seats = excluded.seats, extra_seats = excluded.extra_seats, extra_seat_price = excluded.extra_seat_price`,
		pool.Pool, pool.Kind, pool.Seats, pool.ExtraSeats, pool.ExtraSeatPrice.Rat().FloatString(12)).Error
}

// total is how many seats a pool has, with those that open runs hired; false: nobody
// counts them. With lock set, whoever asks does so one after another.
func total(tx *gorm.DB, pool string, lock bool) (n int, counted bool, err error) {
	query := `SELECT seats + coalesce((SELECT sum(h.seats) FROM hired_seats h JOIN runs r ON r.id = h.run_id WHERE r.state IN ('running', 'paused') AND h.pool = $1), 0)
		FROM licences WHERE pool = $1`
	if lock {
		query += " FOR UPDATE"
	}
	return store.First(tx.Raw(query, pool), func(row store.Row) (n int, err error) { return n, row.Scan(&n) })
}

// Seat is one that a host holds.
type Seat struct {
	Host    string
	Until   time.Time // real time
	Renders bool      // with it, now
}

// seats lists who holds a seat of a pool.
func seats(tx *gorm.DB, pool string) ([]Seat, error) {
	return store.Rows(tx.Raw(`SELECT x.host, x.until, EXISTS (
			SELECT FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = x.host AND f.state = 'rendering' AND s.spec->>'licence' = x.pool)
		FROM seats x WHERE x.pool = $1`, pool), func(row store.Row) (s Seat, err error) {
		return s, row.Scan(&s.Host, &s.Until, &s.Renders)
	})
}

// inUse lists the pools of which somebody holds a seat.
func inUse(tx *gorm.DB) ([]string, error) {
	return store.Column[string](tx.Raw("SELECT DISTINCT pool FROM seats"))
}

// Take gives a host a seat of a pool, or lets it keep the one that it has. Of a pool that
// nobody counts there is none to take.
func Take(tx *gorm.DB, pool, host string, run uuid.UUID, since, until time.Time) error {
	return tx.Exec(`INSERT INTO seats (pool, host, run_id, since, until) SELECT $1, $2, $3, $4, $5 WHERE EXISTS (SELECT FROM licences WHERE pool = $1)
		ON CONFLICT (pool, host) DO UPDATE SET until = excluded.until, run_id = excluded.run_id`, pool, host, run, since, until).Error
}

// Keep keeps the seats of hosts until then.
func Keep(tx *gorm.DB, hosts []string, until time.Time) error {
	return tx.Exec("UPDATE seats SET until = $2 WHERE host = ANY ($1)", hosts, until).Error
}

// giveBack gives back a seat, unless its host took it up again since it was read.
func giveBack(tx *gorm.DB, pool string, s Seat) (bool, error) {
	done := tx.Exec("DELETE FROM seats WHERE pool = $1 AND host = $2 AND until = $3", pool, s.Host, s.Until)
	return done.RowsAffected > 0, done.Error
}

// Forget takes back the seats of a host that is no more.
func Forget(tx *gorm.DB, host string) error {
	return tx.Exec("DELETE FROM seats WHERE host = $1", host).Error
}

// holding is a seat as it is listed.
type holding struct {
	Pool, Host string
	RunID      uuid.UUID
	Since      time.Time
}

func (l *Licences) holdings(ctx context.Context) (all []holding, err error) {
	return all, l.store.WithContext(ctx).Raw("SELECT pool, host, run_id, since FROM seats ORDER BY pool, host").Scan(&all).Error
}

// HiredSeats are extra seats of a pool that a run has from a time until it ends.
type HiredSeats struct {
	RunID  uuid.UUID `gorm:"primaryKey"`
	Pool   string    `gorm:"primaryKey"`
	FromAt time.Time `gorm:"primaryKey"`
	Seats  int
	Price  string // of one seat for one day
	Days   int    // for which they were planned
}

// TableName is GORM's hook.
func (HiredSeats) TableName() string { return "hired_seats" }

// CostOf is what seats come to for the days that they are hired.
func CostOf(all []HiredSeats) (sum pricing.Money, err error) {
	for _, h := range all {
		price, err := pricing.ParseMoney(h.Price)
		if err != nil {
			return sum, err
		}
		sum = sum.Plus(price.Times(int64(h.Seats * h.Days)))
	}
	return sum, nil
}

// Hire stores seats that a run hires, in its transaction.
func Hire(tx *gorm.DB, seats []HiredSeats) error {
	if len(seats) == 0 {
		return nil
	}
	return tx.Create(&seats).Error
}
