package renderlogs

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

func packed(t *testing.T, text string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestALogIsKeptOfATryThatItsHostHad(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	l, run := New(on.DB, on.Blobs), uuid.New()
	exec := func(sql string, args ...any) { require.NoError(t, on.DB.Exec(sql, args...).Error) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES (?, 'run', '', 'running', 3, ?)", run, teststage.Six)
	exec("INSERT INTO frames (id, run_id, shot, frame, state) OVERRIDING SYSTEM VALUE VALUES (7, ?, 'coda-060', 12, 'waiting'), (8, ?, 'coda-060', 1, 'waiting')", run, run)
	exec(`INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, cause, log_tail, started_at, ended_at, seconds, booking_id)
		VALUES (7, $1, 2, 'eddy', 'g0', 'failed', 'crashed', '', $2, $2, 1, 0), (7, $1, 3, 'bellows', 'g0', 'done', '', '', $2, $2, 1, 0)`, run, teststage.Six)

	keep := func(host string, frame, fence int64, body []byte) error {
		return l.Keep(t.Context(), host, frame, fence, bytes.NewReader(body))
	}
	said := strings.Repeat("a line that a renderer says\n", 1000)
	require.NoError(t, keep("eddy", 7, 2, packed(t, said)))
	require.NoError(t, keep("eddy", 7, 2, packed(t, said)), "sent again")
	require.NoError(t, keep("bellows", 7, 3, packed(t, "short")))
	for want, err := range map[string]error{
		"no try with lease 7": keep("eddy", 7, 3, packed(t, said)),
		"no try with lease 8": keep("eddy", 8, 2, packed(t, said)),
		"is no gzip":          keep("eddy", 7, 2, []byte(said)),
		"does not unpack":     keep("eddy", 7, 2, packed(t, said)[:60]),
		"unpacks to more":     keep("eddy", 7, 2, packed(t, strings.Repeat("\x00", mostPlain+1))),
	} {
		assert.ErrorContains(t, err, want)
	}
	sizes, err := l.Sizes(t.Context(), run, "coda-060", 12)
	require.NoError(t, err)
	assert.Len(t, sizes, 2)
	assert.Less(t, sizes[2], int64(1000))
	none, err := l.Sizes(t.Context(), run, "coda-060", 1)
	require.NoError(t, err)
	assert.Empty(t, none)

	text, err := l.Open(t.Context(), run, "coda-060", 12, 2)
	require.NoError(t, err)
	got, err := io.ReadAll(text)
	require.NoError(t, err)
	require.NoError(t, text.Close())
	assert.Equal(t, said, string(got), "what was refused has changed nothing")
	_, err = l.Open(t.Context(), run, "coda-060", 12, 9)
	assert.ErrorContains(t, err, "no render log of frame 12 of coda-060, try 9")
}
