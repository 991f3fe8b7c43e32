package client_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api/client"
)

// Whoever answers is asked on; what one address does not answer, the next is asked next time.
func TestTheAddressThatAnswersIsAsked(t *testing.T) {
	says := http.StatusOK
	first := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if says == 0 {
			<-r.Context().Done()
			return
		}
		w.Header().Set("At", "first"+r.URL.Path)
		w.WriteHeader(says)
	}))
	t.Cleanup(first.Close)
	second := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Header().Set("At", "second"+r.URL.Path) }))
	t.Cleanup(second.Close)

	a, err := client.ParseAddresses(first.URL + ", " + second.URL + "/below/")
	require.NoError(t, err)
	ask := func() string {
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		defer cancel()
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, a.First()+"/api", nil)
		require.NoError(t, err)
		answer, err := a.Do(r)
		if err != nil {
			return "nobody"
		}
		require.NoError(t, answer.Body.Close())
		return answer.Header.Get("At")
	}
	assert.Equal(t, "first/api", ask())
	says = http.StatusServiceUnavailable
	assert.Equal(t, "first/api", ask(), "its answer is given")
	assert.Equal(t, "second/below/api", ask())
	assert.Equal(t, "second/below/api", ask(), "who answers is asked on")

	says = 0 // it stands still
	second.CloseClientConnections()
	second.Close()
	assert.Equal(t, "nobody", ask())
	assert.Equal(t, "nobody", ask())
	assert.Equal(t, "nobody", ask())
	says = http.StatusOK
	ask()
	assert.Equal(t, "first/api", ask())

	for _, bad := range []string{"", "render.example", "ftp://render.example", "http://a.example,"} {
		_, err := client.ParseAddresses(bad)
		assert.ErrorContains(t, err, "want http:// or https://", bad)
	}
}
