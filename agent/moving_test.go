package agent

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// takes is a service that takes a body at its own pace.
type takes func(r *http.Request) error

func (f takes) Do(r *http.Request) (*http.Response, error) {
	if err := f(r); err != nil {
		return nil, err
	}
	return &http.Response{StatusCode: http.StatusNoContent, Body: http.NoBody}, nil
}

// A picture has as long as it needs while it moves; one that stands still is sent anew.
func TestAPictureHasTheTimeThatItNeeds(t *testing.T) {
	for name, c := range map[string]struct {
		pause time.Duration
		works bool
	}{"slow": {stands - time.Second, true}, "stuck": {stands + time.Second, false}} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				began := time.Now()
				all := calls{nil, takes(func(r *http.Request) error {
					for piece := make([]byte, 1); ; {
						if _, err := r.Body.Read(piece); err == io.EOF {
							return nil
						}
						select {
						case <-time.After(c.pause):
						case <-r.Context().Done():
							return r.Context().Err()
						}
					}
				})}
				r, err := http.NewRequestWithContext(t.Context(), http.MethodPut, "http://127.0.0.1:1/api/v1/agent/leases/1/2/picture", strings.NewReader("0123456789"))
				require.NoError(t, err)
				_, err = all.Do(r)
				if c.works {
					require.NoError(t, err)
					assert.Greater(t, time.Since(began), usualPatience, "though it takes longer than anything else may")
				} else {
					require.ErrorIs(t, err, errStands)
				}
			})
		})
	}
}
