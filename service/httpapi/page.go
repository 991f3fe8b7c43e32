package httpapi

import (
	"encoding/base64"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Cursor packs the keys of the last row of a page into what the client hands back.
func Cursor(keys ...string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(strings.Join(keys, "\x00")))
}

// Keys unpacks a cursor into n keys; nil for the first page.
func Keys(cursor *string, n int) ([]string, error) {
	if cursor == nil || *cursor == "" {
		return nil, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(*cursor)
	keys := strings.Split(string(raw), "\x00")
	if err != nil || len(keys) != n {
		return nil, BadField("cursor", *cursor, "not a cursor from `next` of the page before")
	}
	return keys, nil
}

// Page reads one page of records in rising order of a column, which the cursor
// holds the last value of, and says how to go on. The query is GORM's, with what
// else it shall hold.
func Page[T any](query *gorm.DB, column string, key func(T) string, cursor *string, asked *int) (rows []T, next string, err error) {
	keys, err := Keys(cursor, 1)
	if err != nil {
		return nil, "", err
	}
	limit := Limit(asked, usualPage)
	query = query.Order(column).Limit(limit + 1)
	if keys != nil {
		query = query.Where(column+" > ?", keys[0])
	}
	if err := query.Find(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		next = Cursor(key(rows[limit-1]))
	}
	return rows, next, nil
}

// Newest reads one page of records, the newest first: by a time column and, among
// equals, an id column, both of which the cursor holds the last values of.
func Newest[T any](query *gorm.DB, at, id string, key func(T) (time.Time, uuid.UUID), cursor *string, asked *int) (rows []T, next string, err error) {
	keys, err := Keys(cursor, 2)
	if err != nil {
		return nil, "", err
	}
	limit := Limit(asked, usualPage)
	query = query.Order(at + " DESC, " + id + " DESC").Limit(limit + 1)
	if keys != nil {
		query = query.Where("("+at+", "+id+") < (?::timestamptz, ?::uuid)", keys[0], keys[1])
	}
	if err := query.Find(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		last, lastID := key(rows[limit-1])
		next = Cursor(last.Format(time.RFC3339Nano), lastID.String())
	}
	return rows, next, nil
}

// usualPage is how many rows a page has unless asked otherwise.
const usualPage = 100

// Limit returns how many rows a page has.
func Limit(asked *int, usual int) int {
	if asked == nil {
		return usual
	}
	return *asked
}

// Items is a list that is not paged, as it is answered.
type Items[T any] struct {
	Items []T `json:"items"`
}

// List answers with all there is: an empty list rather than none.
func List[T any](all []T) Items[T] {
	if all == nil {
		all = []T{}
	}
	return Items[T]{all}
}

// Each turns records into what is answered, one by one: an empty list rather than none.
func Each[T, U any](all []T, record func(T) U) []U {
	out := make([]U, len(all))
	for i, x := range all {
		out[i] = record(x)
	}
	return out
}
