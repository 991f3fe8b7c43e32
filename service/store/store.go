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
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database: one pool of connections, through GORM for records and
// through pgx for what must be fast or is PostgreSQL's own.
type Store struct {
	*gorm.DB
	Pool *pgxpool.Pool
	sql  *sql.DB
}

// Open connects to the database at url and migrates it. Several services may do
// so at once: one migrates, the others wait.
func Open(ctx context.Context, url string, log *slog.Logger) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 24)
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	db := stdlib.OpenDBFromPool(pool)
	if err := migrate(ctx, pool, db, log); err != nil {
		_ = db.Close()
		pool.Close()
		return nil, err
	}
	g, err := gorm.Open(postgres.New(postgres.Config{Conn: db}), &gorm.Config{
		Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true,
	})
	if err != nil {
		_ = db.Close()
		pool.Close()
		return nil, err
	}
	return &Store{DB: g, Pool: pool, sql: db}, nil
}

// migrate runs under an advisory lock, so that services started together do not
// migrate against each other.
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
	return nil
}

// Close ends all connections.
func (s *Store) Close() {
	_ = s.sql.Close()
	s.Pool.Close()
}

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.Pool.Ping(ctx) }

// Setting returns a stored setting, storing the given value first where there is
// none yet. So services over one database agree on it.
func (s *Store) Setting(ctx context.Context, key, value string) (string, error) {
	var got string
	err := s.Pool.QueryRow(ctx, `
		INSERT INTO settings (key, value) VALUES ($1, $2)
		ON CONFLICT (key) DO UPDATE SET value = settings.value RETURNING value`, key, value).Scan(&got)
	return got, err
}

// Missing reports whether the error says that a record was not found.
func Missing(err error) bool {
	return errors.Is(err, gorm.ErrRecordNotFound) || errors.Is(err, sql.ErrNoRows)
}
