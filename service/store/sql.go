package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"reflect"

	"gorm.io/gorm"
)

// What a package reads or writes in PostgreSQL's own words it says with Raw and Exec of
// GORM, in its records.go, with parameters $1, $2 …: GORM passes them on as they are,
// so a parameter may be used twice and a slice is an array.

// JSON scans a json or jsonb column into what v points at; null leaves it as it is.
func JSON(v any) sql.Scanner { return jsonColumn{v} }

type jsonColumn struct{ v any }

// Scan implements sql.Scanner.
func (c jsonColumn) Scan(src any) error {
	switch data := src.(type) {
	case nil:
		return nil
	case []byte:
		return c.read(data)
	case string:
		return c.read([]byte(data))
	}
	return fmt.Errorf("a %T is no JSON", src)
}

// read reads what can be used; what cannot is told, and counts as nothing: see tolerant.
func (c jsonColumn) read(data []byte) error {
	into := reflect.ValueOf(c.v).Elem()
	fresh := reflect.New(into.Type())
	if err := Read(data, fresh.Interface()); err != nil {
		slog.Error(unusable, "of", into.Type(), "error", err)
		fresh = reflect.New(into.Type())
	}
	into.Set(fresh.Elem())
	return nil
}

// AsJSON is v as a parameter for a jsonb column.
func AsJSON(v any) (string, error) {
	data, err := json.Marshal(v)
	return string(data), err
}

// AllAsJSON is AsJSON for several.
func AllAsJSON(all ...any) ([]any, error) {
	out := make([]any, len(all))
	for i, v := range all {
		text, err := AsJSON(v)
		if err != nil {
			return nil, err
		}
		out[i] = text
	}
	return out, nil
}

// Row is one row of an answer.
type Row interface{ Scan(into ...any) error }

// Rows reads all rows of a query with scan.
func Rows[T any](query *gorm.DB, scan func(Row) (T, error)) ([]T, error) {
	rows, err := query.Rows()
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	out := []T{}
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// Column reads a query of one column.
func Column[T any](query *gorm.DB) ([]T, error) {
	return Rows(query, func(row Row) (v T, err error) { return v, row.Scan(&v) })
}

// First reads the first row of a query with scan, and whether there was one.
func First[T any](query *gorm.DB, scan func(Row) (T, error)) (v T, found bool, err error) {
	all, err := Rows(query, scan)
	if err != nil || len(all) == 0 {
		return v, false, err
	}
	return all[0], true, nil
}
