package demo

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheBoardCountsWhatItIsTold(t *testing.T) {
	var b board
	tell := func(body string) int {
		w := httptest.NewRecorder()
		b.hear(w, httptest.NewRequest(http.MethodPost, "/", strings.NewReader(body)))
		return w.Code
	}
	assert.Equal(t, http.StatusOK, tell(`{"data": {"text": "run 12345678 is complete"}}`))
	assert.Equal(t, http.StatusBadRequest, tell(`{"data": {}}`))
	assert.Equal(t, http.StatusBadRequest, tell(`no`))
	assert.EqualValues(t, 1, b.told.Load())
}
