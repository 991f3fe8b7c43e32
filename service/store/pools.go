package store

import (
	"context"
	"database/sql"
)

// Who looks at pages has connections of his own: however many do, or hold them for long, agents renew their leases and the
// service does its own work.
const (
	mostConnections = 24 // of agents and of background work
	ofPeople        = 12
)

type peopleKey struct{}

// ForPeople is a context in which the database is asked for a person's or a script's request.
func ForPeople(ctx context.Context) context.Context {
	return context.WithValue(ctx, peopleKey{}, true)
}

// pools are GORM's connections: by whom they are for.
type pools struct{ people, others *sql.DB }

func (p pools) of(ctx context.Context) *sql.DB {
	if ctx.Value(peopleKey{}) != nil {
		return p.people
	}
	return p.others
}

// PrepareContext implements gorm.ConnPool, as the following do.
func (p pools) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return p.of(ctx).PrepareContext(ctx, query)
}

// ExecContext implements gorm.ConnPool.
func (p pools) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return p.of(ctx).ExecContext(ctx, query, args...)
}

// QueryContext implements gorm.ConnPool.
func (p pools) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return p.of(ctx).QueryContext(ctx, query, args...)
}

// QueryRowContext implements gorm.ConnPool.
func (p pools) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return p.of(ctx).QueryRowContext(ctx, query, args...)
}

// BeginTx implements gorm.TxBeginner.
func (p pools) BeginTx(ctx context.Context, o *sql.TxOptions) (*sql.Tx, error) {
	return p.of(ctx).BeginTx(ctx, o)
}

// GetDBConn implements gorm.GetDBConnector, for the job queue.
func (p pools) GetDBConn() (*sql.DB, error) { return p.others, nil }
