package e2e

import (
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/service/app"
)

// Pictures and packages may lie in any S3-compatible store, named by a URL.
func TestPicturesAndPackagesInS3(t *testing.T) {
	alone(t)
	backend := s3mem.New()
	require.NoError(t, backend.CreateBucket("lanternfish"))
	server := httptest.NewServer(gofakes3.New(backend).Server())
	t.Cleanup(server.Close)
	for name, value := range map[string]string{"AWS_ACCESS_KEY_ID": "loft", "AWS_SECRET_ACCESS_KEY": "loft", "AWS_REGION": "eu-west-1", "AWS_EC2_METADATA_DISABLED": "true"} {
		t.Setenv(name, value)
	}
	h := newHouse(t, func(c *app.Config) {
		c.Blobs = "s3://lanternfish?endpoint=" + server.URL + "&use_path_style=true&disable_https=true"
	})
	a := h.hand(eddy)
	h.putShot("coda-060", "1-4", nil)
	h.trialByHand(a, "coda-060", "eddy", "g0")
	h.putPackage("coda-060", scenes(t))
	keys, err := backend.ListBucket("lanternfish", nil, gofakes3.ListBucketPage{})
	require.NoError(t, err)
	pictures, chunks := 0, 0
	for _, k := range keys.Contents {
		switch {
		case strings.HasPrefix(k.Key, "runs/"):
			pictures++
		case strings.HasPrefix(k.Key, "chunks/"):
			chunks++
		}
	}
	assert.Positive(t, pictures)
	assert.Equal(t, 2, chunks, "of the package that it had first, and of this one")
	frame := query[int](t, h.database, "SELECT frame FROM frames WHERE state = 'done' LIMIT 1")
	run := query[string](t, h.database, "SELECT run_id::text FROM frames WHERE state = 'done' LIMIT 1")
	answer, err := h.admin().GetPicture(t.Context(), uuid.MustParse(run), "coda-060", frame, &api.GetPictureParams{})
	require.NoError(t, client.Check(answer, err))
	_ = answer.Body.Close()
	assert.Equal(t, "image/png", answer.Header.Get("Content-Type"))
}
