package store

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatCannotBeReckonedWithIsNotRead(t *testing.T) {
	t.Parallel()
	type record struct {
		Seconds float64
		Name    string
	}
	for text, want := range map[string]record{
		`{"Seconds": 12.5, "Name": "1e308"}`: {12.5, "1e308"},
		`{"Seconds": 1e15}`:                  {Seconds: 1e15},
		`{}`:                                 {},
		``:                                   {},
	} {
		var got record
		assert.NoError(t, Read([]byte(text), &got), text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{`{"Seconds": 1e308}`, `{"Seconds": -1e16}`, `{"Seconds": 1e999}`, `{"Other": [[{"x": 1e300}]]}`, `"x"`, `7`, `[`, `{"Seconds": "x"}`} {
		assert.Error(t, Read([]byte(text), new(record)), text)
	}
}
