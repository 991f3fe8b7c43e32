package pictures

import (
	"bytes"
	"crypto/sha256"
	"image"
	"image/color"
	"image/png"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gocloud.dev/blob/fileblob"
	"gocloud.dev/blob/memblob"
	"golang.org/x/image/tiff"

	"rotanex.example/core/picture"
)

func drawn(t *testing.T, width, height int) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	img.Set(1, 1, color.NRGBA{200, 120, 40, 255})
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, img))
	return out.Bytes()
}

func keep(t *testing.T, p *Pictures, key string, data []byte, width, height int) error {
	t.Helper()
	sum := sha256.Sum256(data)
	_, _, err := p.Keep(t.Context(), key, bytes.NewReader(data), sum[:], width, height)
	return err
}

func TestWhatIsKeptIsWholeAndRight(t *testing.T) {
	t.Parallel()
	p := New(memblob.OpenBucket(nil))
	good := drawn(t, 40, 20)
	require.NoError(t, keep(t, p, "a", good, 40, 20))
	file, err := p.Open(t.Context(), "a")
	require.NoError(t, err)
	back, err := io.ReadAll(file)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Equal(t, good, back, "byte for byte")
	p.Drop(t.Context(), "a")
	_, err = p.Open(t.Context(), "a")
	require.Error(t, err)
	p.Drop(t.Context(), "a") // once more is no fault

	var flat bytes.Buffer
	require.NoError(t, png.Encode(&flat, image.NewNRGBA(image.Rect(0, 0, 40, 20))))
	for name, data := range map[string][]byte{"cut off": good[:len(good)/2], "of another size": drawn(t, 20, 20), "no picture": []byte("hello"), "flat": flat.Bytes(), "empty": {}} {
		require.Error(t, keep(t, p, "b", data, 40, 20), name)
		_, err := p.Open(t.Context(), "b")
		require.Error(t, err, "%s: nothing stays behind", name)
	}
}

func TestWhatArrivesOtherwiseThanItWasSentIsRefused(t *testing.T) {
	t.Parallel()
	p := New(memblob.OpenBucket(nil))
	good := drawn(t, 40, 20)
	other := sha256.Sum256([]byte("another"))
	_, _, err := p.Keep(t.Context(), "a", bytes.NewReader(good), other[:], 40, 20)
	assert.ErrorContains(t, err, "have SHA-256")
	_, err = p.Open(t.Context(), "a")
	require.Error(t, err)
}

func TestAPictureIsScaledDownAndNeverUp(t *testing.T) {
	t.Parallel()
	p := New(memblob.OpenBucket(nil))
	require.NoError(t, keep(t, p, "a", drawn(t, 40, 20), 40, 20))
	require.NoError(t, keep(t, p, "line", drawn(t, 400, 2), 400, 2))
	for _, c := range []struct {
		key           string
		width         int
		wantW, wantHe int
	}{{"a", 10, 10, 5}, {"a", 40, 40, 20}, {"a", 4000, 40, 20}, {"a", 0, 40, 20}, {"line", 10, 10, 1}} {
		var out bytes.Buffer
		require.NoError(t, p.Look(t.Context(), &out, c.key, picture.View{}, c.width))
		got, err := png.DecodeConfig(&out)
		require.NoError(t, err)
		assert.Equal(t, [2]int{c.wantW, c.wantHe}, [2]int{got.Width, got.Height}, "%s at %d", c.key, c.width)
	}
	require.Error(t, p.Look(t.Context(), io.Discard, "nothing", picture.View{}, 10))
}

// A picture that lies in a folder is made sure of, and found again by another process.
func TestAPictureInAFolderIsOnItsDisk(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	bucket, err := fileblob.OpenBucket(folder, &fileblob.Options{NoTempDir: true, Metadata: fileblob.MetadataDontWrite})
	require.NoError(t, err)
	p := New(bucket)
	require.NoError(t, keep(t, p, "runs/one/coda-060/000001-1", drawn(t, 40, 20), 40, 20))
	var inner io.Reader
	stored, err := bucket.NewReader(t.Context(), "runs/one/coda-060/000001-1", nil)
	require.NoError(t, err)
	require.True(t, stored.As(&inner))
	file, is := inner.(*os.File)
	require.True(t, is, "else nothing is made sure of")
	assert.FileExists(t, file.Name())
	require.NoError(t, stored.Close())
	require.NoError(t, bucket.Close())
}

// TIFF is read from its places, in a folder and elsewhere, and shown as any picture is.
func TestATIFFIsKeptAndShown(t *testing.T) {
	t.Parallel()
	img, err := png.Decode(bytes.NewReader(drawn(t, 400, 300)))
	require.NoError(t, err)
	var file bytes.Buffer
	require.NoError(t, tiff.Encode(&file, img, &tiff.Options{Compression: tiff.Deflate}))
	folder, err := fileblob.OpenBucket(t.TempDir(), nil)
	require.NoError(t, err)
	for _, p := range []*Pictures{New(memblob.OpenBucket(nil)), New(folder)} {
		sum := sha256.Sum256(file.Bytes())
		_, info, err := p.Keep(t.Context(), "a", bytes.NewReader(file.Bytes()), sum[:], 400, 300)
		require.NoError(t, err)
		assert.Equal(t, "tiff", info.Format)
		var shown bytes.Buffer
		require.NoError(t, p.Look(t.Context(), &shown, "a", picture.View{}, 0))
		back, err := png.Decode(&shown)
		require.NoError(t, err)
		assert.Equal(t, image.Rect(0, 0, 400, 300), back.Bounds())
		assert.Equal(t, img.At(1, 1), color.NRGBAModel.Convert(back.At(1, 1)))
		require.NoError(t, p.Preview(t.Context(), io.Discard, "a", 240))
	}
}
