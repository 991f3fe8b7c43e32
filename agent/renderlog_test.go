package agent

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func unpacked(t *testing.T, l *renderLog) string {
	t.Helper()
	r, err := gzip.NewReader(bytes.NewReader(l.packed()))
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(text)
}

// A log is whole up to sixteen megabytes; of a longer one the middle is left out, at lines.
func TestALogHasABound(t *testing.T) {
	t.Parallel()
	var l renderLog
	l.add("one")
	l.add("two")
	assert.Equal(t, "one\ntwo\n", unpacked(t, &l))
	line := strings.Repeat("x", 1000)
	for i := range 60_000 {
		l.add(fmt.Sprintf("%d %s", i, line))
	}
	text := unpacked(t, &l)
	assert.Less(t, len(text), 4*mostLog)
	assert.True(t, strings.HasPrefix(text, "one\ntwo\n0 x"))
	assert.True(t, strings.HasSuffix(text, "59999 "+line+"\n"))
	before, after, found := strings.Cut(text, "… ")
	require.True(t, found)
	assert.True(t, strings.HasSuffix(before, "x\n"))
	said, rest, _ := strings.Cut(after, " …\n")
	assert.Regexp(t, `^\d+ bytes are left out here$`, said)
	assert.Regexp(t, `^\d+ x`, rest[:10])
}
