package audit

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/httpapi"
)

// Asked is which records are wanted.
type Asked struct {
	Who, Did string
	About    string // the path that it was done to, or one below it
	Text     string // anywhere in it
	Since    *time.Time
	Until    *time.Time
}

// likely makes text one to be found as it is.
var likely = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// page reads a page of records, the newest first.
func (a *Audit) page(ctx context.Context, ask Asked, cursor *string, limit int) (rows []Record, next string, err error) {
	var last int64
	given, err := httpapi.Keys(cursor, &last)
	if err != nil {
		return nil, "", err
	}
	query := a.store.WithContext(ctx).Order("id DESC").Limit(limit + 1)
	where := func(given bool, condition string, values ...any) {
		if given {
			query = query.Where(condition, values...)
		}
	}
	where(given, "id < ?", last)
	where(ask.Who != "", "who = ?", ask.Who)
	where(ask.Did != "", "did = ?", ask.Did)
	about := strings.TrimSuffix(ask.About, "/")
	where(about != "", "(about = ? OR about LIKE ?)", about, likely.Replace(about)+"/%")
	text := "%" + likely.Replace(ask.Text) + "%"
	where(ask.Text != "", "(who ILIKE ? OR did ILIKE ? OR about ILIKE ? OR origin ILIKE ? OR before::text ILIKE ? OR after::text ILIKE ?)", text, text, text, text, text, text)
	where(ask.Since != nil, "at >= ?", ask.Since)
	where(ask.Until != nil, "at < ?", ask.Until)
	if err := query.Find(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		next = httpapi.Cursor(rows[limit-1].ID)
	}
	return rows, next, nil
}

// Prune deletes up to so many records of before a time, and says how many there were.
func Prune(db *gorm.DB, before time.Time, most int) (gone int64, err error) {
	return gone, db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET LOCAL rotanex.prunes = 'yes'").Error; err != nil {
			return err
		}
		done := tx.Exec("DELETE FROM audit WHERE id IN (SELECT id FROM audit WHERE at < ? ORDER BY id LIMIT ?)", before, most)
		gone = done.RowsAffected
		return done.Error
	})
}
