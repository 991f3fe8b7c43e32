package processes_test

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/processes"
)

func TestAnAddressIsFree(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	for _, usual := range []int{0, l.Addr().(*net.TCPAddr).Port} {
		free, err := processes.Address(usual)
		require.NoError(t, err)
		assert.Regexp(t, `^127\.0\.0\.1:\d+$`, free)
		assert.NotEqual(t, l.Addr().String(), free, "one that is taken is not")
	}
}

func TestProgramsGetNoneOfOurSettings(t *testing.T) {
	t.Setenv("ROTANEX_TOKEN", "ours")
	all := processes.Environment("/opt/rotanex")
	assert.NotContains(t, all, "ROTANEX_TOKEN=ours")
	assert.Contains(t, all, "TZ=UTC")
}
