package httpapi_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

func TestARequestHasAnIdEverywhere(t *testing.T) {
	var log bytes.Buffer
	slog.SetDefault(slog.New(slog.NewJSONHandler(&log, nil)))
	t.Cleanup(func() { slog.SetDefault(slog.New(slog.DiscardHandler)) })
	r := chi.NewRouter()
	r.Use(httpapi.Logged(slog.Default(), true))
	r.Get("/runs/{run}", func(w http.ResponseWriter, r *http.Request) {
		httpapi.Fail(w, r, errors.New("row 7 of the secret table"))
	})
	answer := httptest.NewRecorder()
	r.ServeHTTP(answer, httptest.NewRequestWithContext(t.Context(), http.MethodGet, "/runs/84996235?token=secret", nil))
	id := answer.Header().Get(httpapi.RequestHeader)
	require.NotEmpty(t, id)
	var p api.Problem
	require.NoError(t, json.Unmarshal(answer.Body.Bytes(), &p))
	assert.Equal(t, "urn:uuid:"+id, p.Instance)
	assert.NotContains(t, p.Detail, "secret")

	lines := strings.Split(strings.TrimSpace(log.String()), "\n")
	require.Len(t, lines, 2, log.String())
	var failed, access map[string]any
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &failed))
	require.NoError(t, json.Unmarshal([]byte(lines[1]), &access))
	assert.Equal(t, id, failed["id"])
	assert.Equal(t, "row 7 of the secret table", failed["error"])
	assert.Equal(t, id, access["id"])
	assert.Equal(t, "/runs/{run}", access["route"])
	assert.Equal(t, "/runs/84996235", access["path"])
	assert.InDelta(t, 500, access["status"], 0)
	assert.NotContains(t, lines[1], "token=secret")

	other := httptest.NewRecorder()
	httpapi.Logged(slog.Default(), false)(r).ServeHTTP(other, httptest.NewRequestWithContext(t.Context(), http.MethodGet, "/runs/2", nil))
	assert.NotEqual(t, id, other.Header().Get(httpapi.RequestHeader))
}
