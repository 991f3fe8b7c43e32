package audit

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/teststage"
)

// What takes too long to be read does not hold up who changes it: what was asked for is told.
func TestWhatCannotBeReadInTimeIsToldAsItWasAsked(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	a := New(on.DB, on.Clock)
	contract, err := httpapi.Contract()
	require.NoError(t, err)
	a.Interface = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusServiceUnavailable) })
	done := contract(a.Keep(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusOK) })))
	r := httptest.NewRequest(http.MethodPut, "/api/v1/runs/7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b/state", strings.NewReader(`{"state":"paused"}`))
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	done.ServeHTTP(w, r.WithContext(access.As(t.Context(), access.Principal{Name: "ada", Role: access.Operator, From: "192.0.2.7"})))
	require.Equal(t, http.StatusOK, w.Code)
	rows, _, err := a.page(t.Context(), Asked{}, nil, 10)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.Equal(t, "ada", rows[0].Who)
	assert.Empty(t, rows[0].Before)
	var after map[string]string
	require.NoError(t, json.Unmarshal(rows[0].After, &after))
	assert.Equal(t, map[string]string{"state": "paused"}, after)
}
