// Package store opens the PostgreSQL database in which everything is kept and
// brings its tables up to date.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/rivermigrate"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database, reached through GORM: a pool of connections, and one of people' own.
type Store struct {
	*gorm.DB
	pool   *pgxpool.Pool
	people *pgxpool.Pool
	sql    pools
}

// Open connects to the database at url and migrates it. Several services may do
// so at once: one migrates, the others wait.
func Open(ctx context.Context, url string, log *slog.Logger) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w", err)
	}
	config.MaxConns = max(config.MaxConns, mostConnections)
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	others := config.Copy()
	others.MaxConns = ofPeople
	people, err := pgxpool.NewWithConfig(ctx, others)
	if err != nil {
		pool.Close()
		return nil, err
	}
	if err := await(ctx, pool, log); err != nil {
		pool.Close()
		people.Close()
		return nil, err
	}
	s := &Store{pool: pool, people: people, sql: pools{others: stdlib.OpenDBFromPool(pool), people: stdlib.OpenDBFromPool(people)}}
	if err = migrate(ctx, pool, s.sql.others, log); err == nil {
		s.DB, err = gorm.Open(postgres.New(postgres.Config{Conn: s.sql}), &gorm.Config{
			Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true,
		})
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// await waits for a database that does not answer yet: it may be starting, as we are. One that answers and does not let us in
// is not waited for.
func await(ctx context.Context, pool *pgxpool.Pool, log *slog.Logger) error {
	for pause := 200 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		err := pool.Ping(ctx)
		var said *pgconn.PgError
		if err == nil || ctx.Err() != nil || errors.As(err, &said) && !strings.HasPrefix(said.Code, startingUp) {
			return err
		}
		log.Warn("the database does not answer; waiting for it", "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// startingUp begins PostgreSQL's codes for what an operator does to it: it is starting, or going down.
const startingUp = "57P"

// migrate brings our tables and those of the job queue up to date, under an advisory lock, so
// that services started together do not migrate against each other.
func migrate(ctx context.Context, pool *pgxpool.Pool, db *sql.DB, log *slog.Logger) error {
	const lock = 7_682_263_911 // any number that is always the same
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", lock); err != nil {
		return err
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", lock) }()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	results, err := provider.Up(ctx)
	if err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	for _, r := range results {
		log.Info("database migrated", "to", r.Source.Version)
	}
	queue, err := rivermigrate.New(riverdatabasesql.New(db), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err == nil {
		_, err = queue.Migrate(ctx, rivermigrate.DirectionUp, nil)
	}
	if err != nil {
		return fmt.Errorf("migrating the job queue: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() {
	_, _ = s.sql.others.Close(), s.sql.people.Close()
	s.pool.Close()
	s.people.Close()
}

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.pool.Ping(ctx) }

// Now is the time by the database's clock.
func (s *Store) Now(ctx context.Context) (now time.Time, err error) {
	return now, s.WithContext(ctx).Raw("SELECT clock_timestamp()").Row().Scan(&now)
}

// Listen calls heard with what is notified on a channel, until ctx ends or the connection,
// which is one of its own, breaks.
func (s *Store) Listen(ctx context.Context, channel string, heard func(payload string)) error {
	conn, err := pgx.Connect(ctx, s.pool.Config().ConnString())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		heard(n.Payload)
	}
}

// Setting returns a stored setting, storing the given value first where there is
// none yet. So services over one database agree on it.
func (s *Store) Setting(ctx context.Context, key, value string) (string, error) {
	var got string
	err := s.WithContext(ctx).Raw(`
		INSERT INTO settings (key, value) VALUES ($1, $2)
		ON CONFLICT (key) DO UPDATE SET value = settings.value RETURNING value`, key, value).Row().Scan(&got)
	return got, err
}

// SetSetting stores a setting, whatever it was.
func SetSetting(tx *gorm.DB, key, value string) error {
	return tx.Exec("INSERT INTO settings (key, value) VALUES ($1, $2) ON CONFLICT (key) DO UPDATE SET value = excluded.value", key, value).Error
}

// Once does something in a transaction the first time that it is called with a key, of all
// services over the database, and reports whether this was it.
func (s *Store) Once(ctx context.Context, key string, do func(tx *gorm.DB) error) (first bool, err error) {
	err = s.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		made := tx.Exec("INSERT INTO settings (key, value) VALUES ($1, 'made') ON CONFLICT DO NOTHING", key)
		if first = made.RowsAffected > 0; made.Error != nil || !first {
			return made.Error
		}
		return do(tx)
	})
	return first, err
}

// Unless is the error, unless it is one of a kind.
func Unless(is func(error) bool, err error) error {
	if is(err) {
		return nil
	}
	return err
}

// Missing reports whether the error says that a record was not found.
func Missing(err error) bool {
	return errors.Is(err, gorm.ErrRecordNotFound) || errors.Is(err, sql.ErrNoRows)
}
