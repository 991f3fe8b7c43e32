package agents

import (
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// A question that is open says nothing of who asked it: only what was heard of since does.
func TestAnOpenQuestionIsNoSignOfLife(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	a := New(Config{Store: on.DB, Clock: on.Clock, Feed: on.Feed})
	boot, began := uuid.New(), on.Wall.Now()
	require.NoError(t, on.DB.Create(&hosts.Host{Name: "eddy", Spec: stock.Host{Name: "eddy"}, Boot: &boot, AgentSeen: &began, Launchers: []string{}, Findings: []string{}, Missing: []string{}, Renderers: []preflight.Renderer{}}).Error)
	silent := func(host string, asked time.Time) bool {
		is, err := a.silent(t.Context(), host, asked)
		require.NoError(t, err)
		return is
	}
	on.Wall.Advance(silence - time.Second)
	assert.False(t, silent("eddy", began), "it has just asked")
	on.Wall.Advance(2 * time.Second)
	assert.True(t, silent("eddy", began))
	assert.True(t, silent("nobody", began))
	assert.False(t, silent("eddy", on.Wall.Now()), "to ask is to live")
	_, err := hosts.HeardAll(on.DB.DB, []string{"eddy"}, []uuid.UUID{boot}, on.Wall.Now())
	require.NoError(t, err)
	assert.False(t, silent("eddy", began))
}
