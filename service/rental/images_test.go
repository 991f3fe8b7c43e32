package rental

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/version"
	"rotanex.example/providers"
	"rotanex.example/service/states"
)

// An image is used as long as the agent in it can work with this service; then the next server is set up anew and kept.
func TestAnImageIsRenewedWhenItsAgentIsTooOld(t *testing.T) {
	for agent, image := range map[string]string{version.Ours: "rotanex-tern-solo", "": "rotanex-tern-solo", "17.0.0": "", "0.999.0": ""} {
		t.Run(agent, func(t *testing.T) {
			l := newLet(t, func(http.ResponseWriter, *http.Request) {})
			l.exec("UPDATE offers SET spec = jsonb_set(spec, '{setup_s}', '300')")
			l.exec("INSERT INTO images (source, offer, image, kept_at, agent_version) VALUES ('tern', 'tern-solo', 'rotanex-tern-solo', $1, $2)", six, agent)
			require.NoError(t, l.Sweep(t.Context(), false))
			assert.Equal(t, states.ServerRequested, l.server().State)
			assert.Equal(t, image, l.server().Image)

			l.heard(0)
			l.exec("UPDATE servers SET state = 'up'")
			l.exec("UPDATE hosts SET agent_version = $1", version.Ours)
			require.NoError(t, l.keep(t.Context(), l.run.String()+" tern-solo#1"))
			all, err := images(l.db.DB)
			require.NoError(t, err)
			if image == "" {
				agent = version.Ours
			}
			assert.Equal(t, []kept{{"tern", "tern-solo", agent}}, all)
		})
	}
}

// A source that does not have an image any more is asked for a blank server; what it refuses for another reason keeps its image.
func TestAnImageThatItsSourceDoesNotHave(t *testing.T) {
	for name, c := range map[string]struct {
		refuses func(image string) bool
		state   states.Server
		images  int
	}{
		"the image is gone": {func(image string) bool { return image != "" }, states.ServerStarting, 0},
		"all are let":       {func(string) bool { return true }, states.ServerNotStarted, 1},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLet(t, func(w http.ResponseWriter, r *http.Request) {
				var o providers.Order
				if _ = json.NewDecoder(r.Body).Decode(&o); c.refuses(o.Image) {
					http.Error(w, "not today", http.StatusUnprocessableEntity)
				}
			})
			l.exec("INSERT INTO images (source, offer, image, kept_at) VALUES ('tern', 'tern-solo', 'rotanex-tern-solo', $1)", six)
			l.exec("UPDATE servers SET state = 'requested', started_at = from_at, image = 'rotanex-tern-solo'")
			require.NoError(t, l.make(t.Context(), l.run.String()+" tern-solo#1"))
			assert.Equal(t, c.state, l.server().State)
			all, err := images(l.db.DB)
			require.NoError(t, err)
			assert.Len(t, all, c.images)
		})
	}
}
