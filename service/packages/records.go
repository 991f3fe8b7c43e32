package packages

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/providers"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Of returns the package of a shot; false where it has none.
func (p *Packages) Of(ctx context.Context, shot string) (Package, bool, error) {
	return store.First(p.store.WithContext(ctx).Raw("SELECT shot, files, sum, size, made_at FROM packages WHERE shot = $1", shot), func(row store.Row) (out Package, err error) {
		return out, row.Scan(&out.Shot, store.JSON(&out.Files), &out.Sum, &out.Size, &out.MadeAt)
	})
}

func (p *Packages) missing(ctx context.Context, all []string) ([]string, error) {
	return store.Column[string](p.store.WithContext(ctx).Raw("SELECT s FROM unnest($1::text[]) AS s WHERE NOT EXISTS (SELECT FROM chunks c WHERE c.sum = s)", all))
}

// Sent notes how long a package took to a source, in seconds of the service's clock.
func (p *Packages) Sent(ctx context.Context, source, shot string, n int64, seconds float64) error {
	return p.store.WithContext(ctx).Exec("INSERT INTO transfers (source, shot, bytes, seconds, at) VALUES ($1, $2, $3, $4, $5)", source, shot, n, max(seconds, 0.001), p.clock.Now()).Error
}

// inRun returns the files of a shot as they were when its run began.
func (p *Packages) inRun(ctx context.Context, run uuid.UUID, shot string) (Package, error) {
	out := Package{Shot: shot}
	files, found, err := store.First(p.store.WithContext(ctx).Raw("SELECT coalesce(package, '[]') FROM run_shots WHERE run_id = $1 AND shot = $2", run, shot),
		func(row store.Row) (f []providers.PackageFile, err error) { return f, row.Scan(store.JSON(&f)) })
	if err == nil && !found {
		err = httpapi.NotFound("no such shot in the run")
	}
	out.Files = files
	for _, f := range out.Files {
		out.Size += f.Size
	}
	return out, err
}

// claimsOf are the shots of runs that a host renders, or may by its bookings.
func claimsOf(tx *gorm.DB, host string) ([]shotOf, error) {
	return store.Rows(tx.Raw(`SELECT run_id, shot FROM bookings WHERE host = $1 AND open
		UNION SELECT run_id, shot FROM frames WHERE host = $1 AND state = 'rendering'`, host), func(row store.Row) (c shotOf, err error) {
		return c, row.Scan(&c.run, &c.shot)
	})
}

// sourceOf is the source of a host.
func (p *Packages) sourceOf(ctx context.Context, host string) (source string, err error) {
	err = p.store.WithContext(ctx).Raw("SELECT source FROM hosts WHERE name = $1", host).Row().Scan(&source)
	if store.Missing(err) {
		err = httpapi.Conflict("this host is not in the stock any more")
	}
	return source, err
}

func haveChunk(tx *gorm.DB, sum string, size int) error {
	return tx.Exec("INSERT INTO chunks (sum, size) VALUES ($1, $2) ON CONFLICT DO NOTHING", sum, size).Error
}

func putPackage(tx *gorm.DB, p Package, files []byte) error {
	return tx.Exec(`INSERT INTO packages (shot, files, sum, size, made_at) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (shot) DO UPDATE SET files = excluded.files, sum = excluded.sum, size = excluded.size, made_at = excluded.made_at`, p.Shot, files, p.Sum, p.Size, p.MadeAt).Error
}

// pastTransfers says whether a package was sent to a source as it is, and how many seconds
// a byte took there of late; 0 where none was sent.
func pastTransfers(tx *gorm.DB, source string, p Package) (sent bool, perByte float64, err error) {
	return sent, perByte, tx.Raw(`SELECT EXISTS (SELECT FROM transfers WHERE source = $1 AND shot = $2 AND at >= $3),
		coalesce((SELECT sum(seconds) / nullif(sum(bytes), 0) FROM (SELECT seconds, bytes FROM transfers WHERE source = $1 ORDER BY at DESC LIMIT $4) t), 0)`,
		source, p.Shot, p.MadeAt, latest).Row().Scan(&sent, &perByte)
}

// Prune deletes up to so many records of what was sent before a time, and says how many there were.
func Prune(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "transfers", "at < ?", before, most)
}

// Unused are those of some parts of packages that neither a shot nor a run has.
func Unused(tx *gorm.DB, sums []string) ([]string, error) {
	return store.Column[string](tx.Raw(`WITH used AS (
			SELECT c FROM (SELECT files FROM packages UNION ALL SELECT package FROM run_shots WHERE package IS NOT NULL) x (files), jsonb_array_elements(x.files) f, jsonb_array_elements_text(f->'chunks') c)
		SELECT s FROM unnest($1::text[]) AS s WHERE NOT EXISTS (SELECT FROM used WHERE c = s)`, sums))
}

// ForgetChunks forgets parts of packages, whose files are deleted then.
func ForgetChunks(tx *gorm.DB, sums []string) error {
	return tx.Exec("DELETE FROM chunks WHERE sum = ANY ($1)", sums).Error
}

// Delete deletes the packages of a shot and of its passes, while those are there; their parts are deleted by rule once nothing has them.
func Delete(tx *gorm.DB, shot string) error {
	return tx.Exec("DELETE FROM packages WHERE shot = $1 OR shot IN (SELECT name FROM shots WHERE spec->>'pass_of' = $1)", shot).Error
}
