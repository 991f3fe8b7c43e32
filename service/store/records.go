package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math"
	"reflect"
	"time"

	"gorm.io/gorm"

	"gorm.io/gorm/schema"
)

// The store is older than the checks at its edge, and others write to it. A value that cannot be read, or holds a number
// that nothing can be reckoned with, costs its own record, not the page that it is on: it is read as its zero value, which is
// good for nothing, and told.
func init() { schema.RegisterSerializer("json", tolerant{}) }

// farthest is beyond any number that is stored: bytes of a package, at most 1e13.
const farthest = 1e15

const unusable = "a stored value cannot be used and counts as nothing"

type tolerant struct{ schema.JSONSerializer }

// Scan implements schema.SerializerInterface.
func (tolerant) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, value any) error {
	var data []byte
	switch v := value.(type) {
	case nil:
	case []byte:
		data = v
	case string:
		data = []byte(v)
	default:
		return fmt.Errorf("%s of %s is %T, not JSON", field.Name, field.Schema.Table, value)
	}
	to := reflect.New(field.FieldType)
	if err := Read(data, to.Interface()); err != nil {
		slog.ErrorContext(ctx, unusable, "table", field.Schema.Table, "column", field.DBName, "error", err)
		to = reflect.New(field.FieldType)
	}
	field.ReflectValueOf(ctx, dst).Set(to.Elem())
	return nil
}

// Read reads stored JSON into a value; none leaves it as it is.
func Read(data []byte, into any) error {
	if len(data) == 0 {
		return nil
	}
	if mayBeFar(data) {
		if err := finite(data); err != nil {
			return err
		}
	}
	return json.Unmarshal(data, into)
}

// mayBeFar reports whether anything in it looks like a number of more than fifteen digits, or with an exponent: few records have
// that, and only those are read for it.
func mayBeFar(data []byte) bool {
	digits := 0
	for _, b := range data {
		switch {
		case b >= '0' && b <= '9':
			if digits++; digits > 15 {
				return true
			}
		case digits > 0 && (b == 'e' || b == 'E'):
			return true
		default:
			digits = 0
		}
	}
	return false
}

// finite looks for numbers beyond all that is stored.
func finite(data []byte) error {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil // its end, or what json.Unmarshal says better
		}
		number, is := token.(json.Number)
		if !is {
			continue
		}
		if v, err := number.Float64(); err != nil || math.Abs(v) > farthest {
			return fmt.Errorf("the number %s is beyond all that can be meant", number)
		}
	}
}

// Prune deletes up to so many rows of a table of which a condition with one time holds, and says how many there were.
func Prune(tx *gorm.DB, table, condition string, before time.Time, most int) (int64, error) {
	done := tx.Exec("DELETE FROM "+table+" WHERE ctid = ANY (ARRAY(SELECT ctid FROM "+table+" WHERE "+condition+" LIMIT ?))", before, most)
	return done.RowsAffected, done.Error
}
