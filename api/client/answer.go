package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"rotanex.example/api"
)

// Error is a problem document that the service answered with.
type Error struct{ api.Problem }

// Error says what went wrong in one line.
func (e *Error) Error() string {
	if e.Detail == "" {
		return fmt.Sprintf("%s (%d)", e.Title, e.Status)
	}
	if id, told := strings.CutPrefix(e.Instance, "urn:uuid:"); told && e.Problem.Status >= http.StatusInternalServerError {
		return e.Detail + " (request " + id + ")"
	}
	return e.Detail
}

// Status returns the HTTP status of an answered problem, or 0 for any other error.
func Status(err error) int {
	var e *Error
	if errors.As(err, &e) {
		return e.Problem.Status
	}
	return 0
}

// Check returns nil for a good answer, else what went wrong. It closes the body of
// a bad one.
func Check(answer *http.Response, err error) error {
	if err != nil {
		return err
	}
	if answer.StatusCode < 300 {
		return nil
	}
	defer func() { _ = answer.Body.Close() }()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	var p api.Problem
	if json.Unmarshal(said, &p) != nil || p.Status == 0 {
		p = api.Problem{Title: answer.Status, Status: answer.StatusCode, Detail: strings.TrimSpace(string(said))}
	}
	return &Error{p}
}

// Decode reads the JSON of a good answer, or returns what went wrong. For an
// answer without content, T is struct{}.
func Decode[T any](answer *http.Response, err error) (T, error) {
	var v T
	if err := Check(answer, err); err != nil {
		return v, err
	}
	defer func() { _ = answer.Body.Close() }()
	if answer.StatusCode == http.StatusNoContent {
		return v, nil
	}
	return v, json.NewDecoder(answer.Body).Decode(&v)
}
