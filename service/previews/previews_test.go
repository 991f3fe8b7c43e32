package previews

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/pictures"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

func TestFinishedFramesGetPreviewsOnce(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	kept := pictures.New(on.Blobs)
	m, run, past := New(on.DB, kept, on.Log), uuid.New(), uuid.New()
	exec := func(sql string, args ...any) { require.NoError(t, on.DB.Exec(sql, args...).Error) }
	img := image.NewNRGBA(image.Rect(0, 0, 800, 450))
	for x := range 800 {
		img.Set(x, 7, color.NRGBA{uint8(x), 90, 200, 255})
	}
	var file bytes.Buffer
	require.NoError(t, png.Encode(&file, img))
	key := func(frame int) string { return fmt.Sprintf("runs/%s/coda-060/%06d-1", run, frame) }
	exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, $3), ($2, 'trial', '', 'running', 3, $3)", run, past, teststage.Six)
	done := func(frame int, state, format string) {
		require.NoError(t, on.Blobs.WriteAll(context.Background(), key(frame), file.Bytes(), nil))
		exec("INSERT INTO frames (run_id, shot, frame, fence, state, format, done_at, host, crew) VALUES (?, 'coda-060', ?, 1, ?, ?, ?, 'eddy', 'g0')",
			run, frame, state, format, teststage.Six.Add(time.Duration(frame)*time.Second))
	}
	done(1, "done", "png")
	done(2, "done", "png")
	done(3, "rendering", "png")
	done(4, "done", "exr") // of which nothing is known that could be looked at
	require.NoError(t, on.Blobs.Delete(t.Context(), key(2)))
	previews := func() (out []string) {
		for all := on.Blobs.List(nil); ; {
			x, err := all.Next(t.Context())
			if err != nil {
				return out
			}
			if strings.HasPrefix(x.Key, pictures.PreviewPrefix) {
				out = append(out, x.Key)
			}
		}
	}
	require.NoError(t, m.Sweep(t.Context()), "a picture that is lost is left out")
	assert.Equal(t, []string{"previews/240/" + key(1) + ".jpg", "previews/640/" + key(1) + ".jpg"}, previews())
	done(5, "done", "png")
	require.NoError(t, m.Sweep(t.Context()))
	assert.Len(t, previews(), 4)
	require.NoError(t, on.Blobs.WriteAll(t.Context(), "previews/240/"+key(1)+".jpg", []byte("ours"), nil))
	require.NoError(t, New(on.DB, kept, on.Log).Sweep(t.Context()), "another service makes none that are there")
	var small bytes.Buffer
	require.NoError(t, kept.Preview(t.Context(), &small, key(1), 240))
	assert.Equal(t, "ours", small.String())

	require.NoError(t, on.Blobs.Delete(t.Context(), "previews/640/"+key(5)+".jpg"))
	small.Reset()
	require.NoError(t, kept.Preview(t.Context(), &small, key(5), 640), "it is made again")
	size, err := jpeg.DecodeConfig(&small)
	require.NoError(t, err)
	assert.Equal(t, [2]int{640, 360}, [2]int{size.Width, size.Height})
	assert.Len(t, previews(), 4)
}
