package edge

import (
	"encoding/base64"
	"strings"
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

// Limit returns how many rows a page has.
func Limit(asked *int, usual int) int {
	if asked == nil {
		return usual
	}
	return *asked
}
