package httpapi

import (
	"encoding/base64"
	"encoding/json"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Cursor packs the keys of the last row of a page into what the client hands back: texts, numbers, times, ids.
func Cursor(keys ...any) string {
	packed, _ := json.Marshal(keys)
	return base64.RawURLEncoding.EncodeToString(packed)
}

// Keys unpacks a cursor into keys of the types that it was packed from, and reports whether there is one: there is
// none for the first page. What was not packed by Cursor, of keys of these types, is a problem.
func Keys(cursor *string, into ...any) (given bool, err error) {
	if cursor == nil || *cursor == "" {
		return false, nil
	}
	var keys []json.RawMessage
	packed, err := base64.RawURLEncoding.DecodeString(*cursor)
	if err == nil {
		err = json.Unmarshal(packed, &keys)
	}
	ours := err == nil && len(keys) == len(into)
	for i := 0; ours && i < len(keys); i++ {
		ours = json.Unmarshal(keys[i], into[i]) == nil && storable(into[i]) && string(keys[i]) != "null"
	}
	if !ours {
		return false, BadField("cursor", *cursor, "is not a cursor from `next` of the page before")
	}
	return true, nil
}

// storable reports whether the database could hold a key.
func storable(key any) bool {
	switch key := key.(type) {
	case *string:
		return !strings.ContainsRune(*key, 0)
	case *time.Time:
		return aTime(key.Format(time.RFC3339)) == nil
	}
	return true
}

// Page reads one page of records in rising order of a column, which the cursor
// holds the last value of, and says how to go on. The query is GORM's, with what
// else it shall hold.
func Page[T any, K string | int64](query *gorm.DB, column string, key func(T) K, cursor *string, asked *int) (rows []T, next string, err error) {
	var last K
	given, err := Keys(cursor, &last)
	if err != nil {
		return nil, "", err
	}
	limit := Limit(asked, usualPage)
	query = query.Order(column).Limit(limit + 1)
	if given {
		query = query.Where(column+" > ?", last)
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
	var last time.Time
	var lastID uuid.UUID
	given, err := Keys(cursor, &last, &lastID)
	if err != nil {
		return nil, "", err
	}
	limit := Limit(asked, usualPage)
	query = query.Order(at + " DESC, " + id + " DESC").Limit(limit + 1)
	if given {
		query = query.Where("("+at+", "+id+") < (?::timestamptz, ?::uuid)", last.Format(time.RFC3339Nano), lastID)
	}
	if err := query.Find(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		last, lastID := key(rows[limit-1])
		next = Cursor(last, lastID)
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
