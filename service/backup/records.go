package backup

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"rotanex.example/service/access"
	"rotanex.example/service/events"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/jobs"
	"rotanex.example/service/queue"
)

// with opens a database as it is: nothing of it is migrated.
func with(ctx context.Context, database string, do func(db *gorm.DB) error) error {
	db, err := gorm.Open(postgres.Open(database), &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return err
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	defer func() { _ = pool.Close() }()
	return do(db.WithContext(ctx))
}

// environment is a database's address for PostgreSQL's programs.
func environment(database string) ([]string, error) {
	u, err := url.Parse(database)
	if err != nil {
		return nil, errors.New("--database-url is no URL such as postgres://rotanex@db.example/rotanex") // it may hold a password
	}
	password, _ := u.User.Password()
	out := []string{"PGHOST=" + u.Hostname(), "PGPORT=" + u.Port(), "PGUSER=" + u.User.Username(), "PGPASSWORD=" + password, "PGDATABASE=" + nameOf(database)}
	for name, values := range u.Query() {
		if setting, known := map[string]string{"sslmode": "PGSSLMODE", "sslrootcert": "PGSSLROOTCERT", "sslcert": "PGSSLCERT", "sslkey": "PGSSLKEY"}[name]; known {
			out = append(out, setting+"="+values[0])
		}
	}
	return out, nil
}

// nameOf is the name of the database that a URL names.
func nameOf(database string) string {
	u, err := url.Parse(database)
	if err != nil {
		return ""
	}
	return strings.TrimPrefix(u.Path, "/")
}

// empty refuses a database that something is in.
func empty(ctx context.Context, database string) error {
	return with(ctx, database, func(db *gorm.DB) error {
		var tables int
		err := db.Raw("SELECT count(*) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema')").Row().Scan(&tables)
		if err == nil && tables > 0 {
			err = fmt.Errorf("the database has %d tables already: restore into a new one, that of an empty --state-dir or an empty database of --database-url", tables)
		}
		return err
	})
}

// snapshot holds the database as it is, for programs to read it so too, until do has ended.
func snapshot(ctx context.Context, database string, do func(id string, tx *gorm.DB) error) error {
	return with(ctx, database, func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error {
			var id string
			if err := tx.Raw("SELECT pg_export_snapshot()").Row().Scan(&id); err != nil {
				return err
			}
			return do(id, tx)
		}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	})
}

// picture is that of a done frame, or a file beside it.
type picture struct {
	Shot  string
	Frame int
	Key   string
}

func picturesOf(db *gorm.DB) (out []picture, err error) {
	return out, db.Raw(`SELECT shot, frame, picture AS key FROM frames WHERE state = 'done' AND picture <> ''
		UNION ALL SELECT f.shot, f.frame, x.key FROM frames f JOIN frame_files x ON ` + framefiles.Held + ` WHERE f.state = 'done' ORDER BY shot, frame, key`).Scan(&out).Error
}

// putRight sets right what was under way when the backup was made.
func putRight(ctx context.Context, database string) error {
	return with(ctx, database, func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error {
			for _, restored := range []func(*gorm.DB) error{queue.Restored, events.Restored, access.Restored, jobs.Restored} {
				if err := restored(tx); err != nil {
					return err
				}
			}
			return nil
		})
	})
}
