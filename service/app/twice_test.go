package app

import (
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is sent twice under one key, at once or later, happens once and is answered alike; another request under the same
// key is a conflict.
func TestAKeyIsOneRequest(t *testing.T) {
	b := besiege(t)
	by := time.Now().UTC().Add(48 * time.Hour).Format(time.RFC3339)
	const asJSON, csv = "application/json", "text/csv"
	plan := b.known["plan"][0]
	for name, c := range map[string]struct{ path, kind, body, other string }{
		"plan":  {"/plans", asJSON, `{"shots":["gale-010"],"by":"` + by + `"}`, `{"shots":["gale-010"],"by":"` + by + `","slack":0.1}`},
		"run":   {"/runs", asJSON, `{"plan":"` + plan + `","spend":"5"}`, `{"plan":"` + plan + `","spend":"6"}`},
		"trial": {"/trials", asJSON, `{"shot":"coda-060","host":"bellows","crew":"g0"}`, `{"shot":"coda-060","host":"bellows","crew":"cpu"}`},
		"sweep": {"/sweeps", asJSON, `{"shot":"coda-060"}`, `{"shot":"gale-010"}`},
		"study": {"/settings-studies", asJSON, `{"shot":"coda-060","host":"bellows","crew":"g0","variants":[{},{"settings":{"samples":"4"}}]}`, `{"shot":"coda-060","host":"bellows","crew":"g0","variants":[{},{"settings":{"samples":"8"}}]}`},
		"times": {"/times", csv, "shot,host,crew,models,seconds\ncoda-060,bellows,g0,a,55\n", "shot,host,crew,models,seconds\ncoda-060,bellows,g0,a,66\n"},
	} {
		header := http.Header{"Idempotency-Key": {"the same for " + name}}
		var together sync.WaitGroup
		answers := make([]string, 4)
		for i := range answers {
			together.Go(func() {
				w := b.send(t, "admin", "POST", c.path, c.kind, strings.NewReader(c.body), header)
				assert.Equal(t, http.StatusCreated, w.Code, "%s: %s", name, w.Body)
				answers[i] = w.Body.String()
			})
		}
		together.Wait()
		id := func(text string) any {
			var v struct {
				ID   string
				Rows int
			}
			require.NoError(t, json.Unmarshal([]byte(text), &v), text)
			return v
		}
		for _, other := range answers[1:] {
			assert.Equal(t, id(answers[0]), id(other), name)
		}
		w := b.send(t, "admin", "POST", c.path, c.kind, strings.NewReader(c.other), header)
		assert.Equal(t, http.StatusConflict, w.Code, "%s: %s", name, w.Body)
	}
	assert.Equal(t, int64(3), count(t, b, "SELECT count(*) FROM times"), "two rows were there")
	assert.Empty(t, b.said())
}

func count(t *testing.T, b *besieged, statement string) (n int64) {
	t.Helper()
	require.NoError(t, b.store.Raw(statement).Scan(&n).Error)
	return n
}
