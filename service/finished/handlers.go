// Package finished answers with the files of finished frames: their pictures and what they have beside them, as they are or as they are looked at.
package finished

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"

	"github.com/google/uuid"

	"rotanex.example/api"
	kinds "rotanex.example/core/framefiles"
	"rotanex.example/core/picture"
	"rotanex.example/service/clock"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/standing"
)

// Finished answers.
type Finished struct {
	Standing *standing.Standing
	Pictures *pictures.Pictures
	Files    framefiles.Files
	Clock    clock.Clock
}

// Picture answers with the picture of a finished frame: its file, or as it is looked at.
func (x *Finished) Picture(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number int, params api.GetPictureParams) {
	f, err := x.done(r.Context(), id, shot, number)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	x.answer(w, r, shown{
		key: f.Key(), sha256: *f.SHA256, bytes: *f.Bytes, contentType: picture.Info{Format: f.Format}.ContentType(), looked: f.Seen.Shown(f.Format), previewed: true,
	}, params)
}

// FrameFile answers with a file that a finished frame has beside its picture, in the same way.
func (x *Finished) FrameFile(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number int, name string, params api.GetFrameFileParams) {
	f, err := x.done(r.Context(), id, shot, number)
	var file framefiles.File
	if err == nil {
		file, err = x.Files.Named(r.Context(), f.ID, name)
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	x.answer(w, r, shown{
		key: file.Key, sha256: file.SHA256, bytes: file.Bytes, contentType: "application/octet-stream", looked: file.Kind == kinds.Picture,
	}, api.GetPictureParams(params))
}

// done is a frame that is, or a problem.
func (x *Finished) done(ctx context.Context, run uuid.UUID, shot string, number int) (queue.Frame, error) {
	f, err := x.Standing.One(ctx, run, shot, number)
	if err == nil && f.State != queue.Done {
		err = httpapi.NotFound(fmt.Sprintf("frame %d of %s is %s: it has no picture yet", number, shot, f.State))
	}
	return f, err
}

// shown is a file of a finished frame.
type shown struct {
	key, sha256, contentType string
	bytes                    int64
	looked, previewed        bool // it can be looked at; small ones of it are kept
}

// answer answers with a file, or with it as it is looked at.
func (x *Finished) answer(w http.ResponseWriter, r *http.Request, f shown, params api.GetPictureParams) {
	// A done frame never changes, so neither do its files.
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	view, width, looked := viewOf(params)
	etag := fmt.Sprintf(`"%s-%d-%g-%x"`, f.sha256, width, view.Stops, view.Layer)
	w.Header().Set("ETag", etag)
	if r.Header.Get("If-None-Match") == etag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	if looked {
		x.look(w, r, f, view, width)
		return
	}
	file, err := x.Pictures.Open(r.Context(), f.key)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	defer func() { _ = file.Close() }()
	w.Header().Set("Content-Type", f.contentType)
	sum, _ := hex.DecodeString(f.sha256)
	w.Header().Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	w.Header().Set("Content-Length", strconv.FormatInt(f.bytes, 10))
	_, _ = io.Copy(w, file)
}

// viewOf is how a picture is asked for; looked is false if it is the file that is.
func viewOf(p api.GetPictureParams) (v picture.View, width int, looked bool) {
	if p.Width != nil {
		width = *p.Width
	}
	if p.Layer != nil {
		v.Layer = *p.Layer
	}
	if p.Exposure != nil {
		v.Stops = *p.Exposure
	}
	return v, width, p.Width != nil || p.Layer != nil || p.Exposure != nil
}

// unreadable says that a file has no pixels that are read.
var unreadable = httpapi.Conflict("it is no picture, or one whose pixels are packed in a way that is not read here: ask for the file, without width, layer and exposure")

// look answers with a picture as PNG.
func (x *Finished) look(w http.ResponseWriter, r *http.Request, f shown, view picture.View, width int) {
	if !f.looked {
		httpapi.Fail(w, r, unreadable)
		return
	}
	if view == (picture.View{}) && f.previewed && slices.Contains(pictures.Widths, width) {
		w.Header().Set("Content-Type", "image/jpeg")
		if err := x.Pictures.Preview(r.Context(), w, f.key, width); err != nil {
			httpapi.Fail(w, r, err)
		}
		return
	}
	w.Header().Set("Content-Type", "image/png")
	err := x.Pictures.Look(r.Context(), w, f.key, view, width)
	noLayer := (*picture.NoLayerError)(nil)
	switch {
	case errors.As(err, &noLayer):
		err = httpapi.BadField("layer", view.Layer, noLayer.Detail())
	case errors.Is(err, picture.ErrUndecodable):
		err = unreadable
	}
	if err != nil {
		httpapi.Fail(w, r, err)
	}
}

// GetResults answers with how a run's results would be named.
func (x *Finished) GetResults(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.GetResultsParams) {
	found, err := x.Results(r.Context(), run, params.Name, params.Files)
	out := api.Results{Frames: found.Frames, Of: found.Of, Files: len(found.Files), Names: []string{}}
	seen := map[[2]string]bool{}
	for _, f := range found.Files {
		out.Bytes += f.Bytes
		if of := [2]string{f.Shot, f.Name}; !seen[of] && len(out.Names) < mostNames {
			seen[of], out.Names = true, append(out.Names, f.Path)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// mostNames is how many names are told beforehand.
const mostNames = 20

// GetResultsArchive answers with a run's results in one file. What goes wrong once it is under way ends it short, so that it is no whole ZIP file.
func (x *Finished) GetResultsArchive(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.GetResultsArchiveParams) {
	found, err := x.Results(r.Context(), run, params.Name, params.Files)
	if err == nil && len(found.Files) == 0 {
		err = httpapi.Conflict("no frame of the run is finished yet")
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	name := "run-" + run.String()[:8]
	if found.Frames < found.Of {
		name += fmt.Sprintf("-%d-of-%d", found.Frames, found.Of)
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", `attachment; filename="`+name+`.zip"`)
	body := &begun{Writer: w}
	err = x.Write(r.Context(), body, found.Files, x.Clock.Now())
	switch {
	case err != nil && !body.yes:
		w.Header().Del("Content-Disposition")
		httpapi.Fail(w, r, err)
	case err != nil:
		panic(http.ErrAbortHandler)
	}
}

// begun knows whether anything was written.
type begun struct {
	io.Writer
	yes bool
}

func (b *begun) Write(p []byte) (int, error) {
	b.yes = true
	return b.Writer.Write(p)
}
