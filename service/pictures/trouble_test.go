package pictures

import (
	"crypto/sha256"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gocloud.dev/blob/fileblob"

	"rotanex.example/service/httpapi"
)

// A store that takes nothing is said to, rests, and is tried again; what a client does wrong is not its fault.
func TestAStoreThatTakesNothingIsSaidTo(t *testing.T) {
	t.Parallel()
	folder := filepath.Join(t.TempDir(), "pictures")
	require.NoError(t, os.Mkdir(folder, 0o700))
	bucket, err := fileblob.OpenBucket(folder, &fileblob.Options{NoTempDir: true, Metadata: fileblob.MetadataDontWrite})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, bucket.Close()) })
	p, now := New(bucket), time.Now()
	p.trouble.now = func() time.Time { return now }
	good := drawn(t, 40, 20)
	require.NoError(t, keep(t, p, "a/1", good, 40, 20))

	sum := sha256.Sum256(good)
	_, _, err = p.Keep(t.Context(), "a/2", iotest.ErrReader(errors.New("gone")), sum[:], 40, 20)
	require.ErrorContains(t, err, "gone")
	require.Error(t, keep(t, p, "a/3", []byte("no picture"), 40, 20))
	assert.Empty(t, p.Trouble())

	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.WriteFile(folder, nil, 0o600))
	err = keep(t, p, "b/1", good, 40, 20)
	var problem *httpapi.Problem
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, http.StatusServiceUnavailable, problem.Status)
	assert.Contains(t, p.Trouble(), "the store of pictures cannot be written to: ")
	assert.True(t, p.Rests())
	now = now.Add(rests)
	assert.False(t, p.Rests(), "it is tried again")

	require.NoError(t, os.Remove(folder))
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, keep(t, p, "b/1", good, 40, 20))
	assert.Empty(t, p.Trouble())
}
