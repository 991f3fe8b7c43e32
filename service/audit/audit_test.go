package audit

import (
	"encoding/json"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

func TestWhatOfAThingChanged(t *testing.T) {
	long, err := json.Marshal(make([]int, 2000))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		before, after string
		wanted        []string
		was, is       string
	}{
		"what was asked for":           {`{"state":"running","done":3}`, `{"state":"paused","done":4}`, []string{"state"}, `{"state":"running"}`, `{"state":"paused"}`},
		"all that differs, else":       {`{"state":"running","done":3,"cap":"5"}`, `{"state":"paused","done":4,"cap":"5"}`, []string{"why"}, `{"done":3,"state":"running"}`, `{"done":4,"state":"paused"}`},
		"what people say of it":        {`{"agent":"up","spec":{"cores":8,"note":"x"}}`, `{"agent":"lost","spec":{"cores":9,"note":"x"}}`, []string{"cores", "note"}, `{"cores":8}`, `{"cores":9}`},
		"it is new":                    {``, `{"name":"eddy"}`, nil, ``, `{"name":"eddy"}`},
		"it is gone":                   {`{"name":"eddy"}`, ``, nil, `{"name":"eddy"}`, ``},
		"secrets, wherever they stand": {``, `{"secret":"a","card":{"Token":"b","x":1}}`, nil, ``, `{"card":{"Token":"(not kept)","x":1},"secret":"(not kept)"}`},
		"what is long":                 {``, `{"frames":` + string(long) + `}`, nil, ``, `{"frames":"(too long to be kept)"}`},
		"what is no object":            {`[1]`, `<html>`, nil, ``, ``},
	} {
		was, is := changed([]byte(c.before), []byte(c.after), c.wanted)
		assert.Equal(t, c.was, string(was), name)
		assert.Equal(t, c.is, string(is), name)
	}
}

func TestWhatIsOldIsPruned(t *testing.T) {
	on := teststage.New(t)
	for day := range 5 {
		require.NoError(t, Own(on.DB.DB, teststage.Six.AddDate(0, 0, day), "let a server", "/runs/1", map[string]string{"server": "tern-solo-1"}))
	}
	gone, err := Prune(on.DB.DB, teststage.Six.AddDate(0, 0, 3), 2)
	require.NoError(t, err)
	assert.EqualValues(t, 2, gone, "so many at once")
	gone, err = Prune(on.DB.DB, teststage.Six.AddDate(0, 0, 3), 2)
	require.NoError(t, err)
	assert.EqualValues(t, 1, gone)
	a := New(on.DB, on.Clock)
	until := teststage.Six.AddDate(0, 0, 4).Add(time.Second)
	rows, next, err := a.page(t.Context(), Asked{Who: Service, Until: &until}, nil, 1)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	rest, end, err := a.page(t.Context(), Asked{Who: Service, Until: &until}, &next, 1)
	require.NoError(t, err)
	require.Len(t, rest, 1)
	assert.Empty(t, end)
	assert.True(t, rows[0].At.After(rest[0].At), "the newest first")
}
