package api_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

func TestTheContractIsServedAsItIsWritten(t *testing.T) {
	t.Parallel()
	text, err := api.Written()
	require.NoError(t, err)
	generated, err := api.GetSpecJSON()
	require.NoError(t, err)

	var is, was struct{ Components, Paths, Tags any }
	require.NoError(t, json.Unmarshal(text, &is))
	require.NoError(t, json.Unmarshal(generated, &was))
	assert.Equal(t, was.Components, is.Components)
	assert.Len(t, is.Paths, len(was.Paths.(map[string]any)))
	host := string(text)[strings.Index(string(text), `"HostSpec"`):]
	assert.Less(t, strings.Index(host, `"name"`), strings.Index(host, `"cpu"`), "in the order in which it is written")
}
