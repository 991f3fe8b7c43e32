package store

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// Look is what is seen of a database from outside, without changing it.
type Look struct {
	PostgreSQL  string        // its version
	Tables      int           // the version of the tables; 0: there are none yet
	Ours        int           // the version of the tables that this program brings
	Ahead       time.Duration // its clock, of this machine's
	Connections [2]int        // open, and how many may be
	Sealed      string        // the setting by which services agree on a key; "": there is none yet
}

// LookAt looks at the database at url. What it asks of it, it asks within ctx.
func LookAt(ctx context.Context, url string) (out Look, err error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return out, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if out.Ours, err = newest(); err != nil {
		return out, err
	}
	asked := time.Now()
	var now time.Time
	var kept bool
	if err = conn.QueryRow(ctx, `SELECT current_setting('server_version'), clock_timestamp(), (SELECT count(*) FROM pg_stat_activity), current_setting('max_connections')::int,
		to_regclass('goose_db_version') IS NOT NULL`).Scan(&out.PostgreSQL, &now, &out.Connections[0], &out.Connections[1], &kept); err != nil {
		return out, err
	}
	out.Ahead = now.Sub(asked.Add(time.Since(asked) / 2))
	if !kept {
		return out, nil
	}
	err = conn.QueryRow(ctx, `SELECT (SELECT max(version_id)::int FROM goose_db_version WHERE is_applied), coalesce((SELECT value FROM settings WHERE key = 'sealed_with'), '')`).Scan(&out.Tables, &out.Sealed)
	return out, err
}

// newest is the version of the tables that this program brings.
func newest() (int, error) {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil || len(files) == 0 {
		return 0, fmt.Errorf("no migrations: %w", err)
	}
	number, _, _ := strings.Cut(path.Base(files[len(files)-1]), "_")
	return strconv.Atoi(number)
}
