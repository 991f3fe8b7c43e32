package cli

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"rotanex.example/api"
)

func TestNamesAreCompleted(t *testing.T) {
	run := uuid.MustParse("84996235-0000-4000-8000-000000000000")
	m := &made{answers: map[string]any{
		"/shots":   api.ShotList{Items: []api.Shot{{FrameCount: 96, Spec: api.ShotSpec{Name: "coda-050"}}, {FrameCount: 1, Spec: api.ShotSpec{Name: "coda-060"}}}},
		"/hosts":   api.HostList{Items: []api.Host{{Spec: api.HostSpec{Name: "bellows", Source: "loft"}}}},
		"/runs":    api.RunList{Items: []api.Run{{Id: run, State: "running", Shots: []api.RunShot{{Shot: "coda-050"}, {Shot: "coda-060"}, {Shot: "lamp-040"}, {Shot: "stair-020"}}}}},
		"/sources": sourceList{[]api.Source{{Spec: api.SourceSpec{Name: "tern", Kind: "rented"}}}},
	}}
	for typed, want := range map[string]string{
		"shots delete|":              "coda-050\t96 frames\ncoda-060\t1 frame\n",
		"plan|coda-050|":             "coda-060\t1 frame\n",
		"hosts show|":                "bellows\tloft\n",
		"sources delete|":            "tern\trented\n",
		"watch|":                     "latest\tthe newest\n84996235\trunning: coda-050, coda-060 and 2 more shots\n",
		"runs priority|latest|":      "urgent\nnormal\nlow\nbacklog\n",
		"runs priority|latest|u":     "urgent\n", // no name begins otherwise
		"frames list|latest|--shot|": "coda-050\t96 frames\ncoda-060\t1 frame\n",
		"whoami|":                    "",
	} {
		_, out, _ := m.types(t, strings.Split("__complete|"+strings.ReplaceAll(typed, " ", "|"), "|")...)
		assert.Equal(t, want, out[:strings.LastIndex(out, ":")], typed)
	}
}
