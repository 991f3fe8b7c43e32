package standing

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/picture"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
)

// ListFrames answers with a page of a run's frames.
func (s *Standing) ListFrames(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.ListFramesParams) {
	page, next, err := s.Frames(r.Context(), run, Wanted{params.Shot, (*string)(params.State), params.Cursor, params.Limit})
	httpapi.Answer(w, r, http.StatusOK, api.FrameList{Items: httpapi.Each(page, record), Next: next}, err)
}

// GetFrameMap answers with how every frame of a run is.
func (s *Standing) GetFrameMap(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	m, err := s.Map(r.Context(), run)
	httpapi.Answer(w, r, http.StatusOK, api.FrameMap{
		Shots: httpapi.Each(m.Shots, func(x ShotMap) api.ShotMap {
			return api.ShotMap{Shot: x.Shot, Frames: x.Frames.String(), States: x.States}
		}),
		Failed: httpapi.Each(m.Failed, failedRecord), Marked: httpapi.Each(m.Marked, failedRecord), Latest: httpapi.Each(m.Latest, record),
	}, err)
}

// GetFrame answers with a frame and every try of it.
func (s *Standing) GetFrame(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, number int) {
	f, tries, err := s.Frame(r.Context(), run, shot, number)
	out := api.FrameDetail{Tries: httpapi.Each(tries, tryRecord)}
	if err == nil {
		out.Frame = record(f)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// GetWhyFrame answers why a frame is not being rendered.
func (s *Standing) GetWhyFrame(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, number int) {
	why, err := s.WhyFrame(r.Context(), run, shot, number)
	httpapi.Answer(w, r, http.StatusOK, api.FrameWhy{
		Run: run, Shot: shot, Frame: number, State: told(why.State), Answer: why.Answer, Left: why.Left, Ahead: why.Ahead, Crews: verdictRecords(why.Crews),
	}, err)
}

// GetWhyHost answers why a host does nothing, or what it does.
func (s *Standing) GetWhyHost(w http.ResponseWriter, r *http.Request, host string) {
	why, err := s.WhyHost(r.Context(), host)
	out := api.HostWhy{Host: host, Answer: why.Answer, Crews: verdictRecords(why.Crews), Rendering: []api.HostLease{}}
	for _, l := range why.Rendering {
		out.Rendering = append(out.Rendering, api.HostLease{Run: l.Run, Shot: l.Shot, Frame: l.Frame, Crew: l.Crew})
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Picture answers with the picture of a finished frame: its file, or as it is looked at.
func (s *Standing) Picture(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number int, params api.GetPictureParams) {
	f, err := s.frame(r.Context(), id, shot, number)
	if err == nil && f.State != queue.Done {
		err = httpapi.NotFound(fmt.Sprintf("frame %d of %s is %s: it has no picture yet", number, shot, f.State))
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	// A done frame never changes, so neither does its picture.
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	view, width, looked := viewOf(params)
	etag := fmt.Sprintf(`"%s-%d-%g-%x"`, *f.SHA256, width, view.Stops, view.Layer)
	w.Header().Set("ETag", etag)
	if r.Header.Get("If-None-Match") == etag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	if looked {
		s.look(w, r, f, view, width)
		return
	}
	file, err := s.pictures.Open(r.Context(), f.Key())
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	defer func() { _ = file.Close() }()
	w.Header().Set("Content-Type", picture.Info{Format: f.Format}.ContentType())
	sum, _ := hex.DecodeString(*f.SHA256)
	w.Header().Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	w.Header().Set("Content-Length", strconv.FormatInt(*f.Bytes, 10))
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

// look answers with a frame's picture as PNG.
func (s *Standing) look(w http.ResponseWriter, r *http.Request, f queue.Frame, view picture.View, width int) {
	if !f.Seen.Shown(f.Format) {
		httpapi.Fail(w, r, httpapi.Conflict("the pixels of this OpenEXR frame are packed in a way that is not read here: ask for the file, without width, layer and exposure"))
		return
	}
	if view == (picture.View{}) && slices.Contains(pictures.Widths, width) {
		w.Header().Set("Content-Type", "image/jpeg")
		if err := s.pictures.Preview(r.Context(), w, f.Key(), width); err != nil {
			httpapi.Fail(w, r, err)
		}
		return
	}
	w.Header().Set("Content-Type", "image/png")
	if err := s.pictures.Look(r.Context(), w, f.Key(), view, width); err != nil {
		if errors.Is(err, picture.ErrNoLayer) {
			err = httpapi.BadField("layer", view.Layer, fmt.Sprintf("is no layer of this frame; it has %s", listed(f.Seen.LayerNames())))
		}
		httpapi.Fail(w, r, err)
	}
}

// listed names layers; the main one has no name.
func listed(layers []string) string {
	if len(layers) == 0 {
		return "one alone, which is asked for without layer"
	}
	quoted := make([]string, len(layers))
	for i, l := range layers {
		quoted[i] = strconv.Quote(l)
	}
	return strings.Join(quoted, ", ")
}

// RenderLog answers with all that the renderer said in a try.
func (s *Standing) RenderLog(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, number int, fence int64) {
	_, err := s.frame(r.Context(), run, shot, number)
	var text io.ReadCloser
	if err == nil {
		text, err = s.logs.Open(r.Context(), run, shot, number, fence)
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	defer func() { _ = text.Close() }()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.Copy(w, text)
}

// ListWaiting answers with what waits for a person in all open runs.
func (s *Standing) ListWaiting(w http.ResponseWriter, r *http.Request) {
	all, err := s.AllWaiting(r.Context())
	var items []api.Waiting
	for _, x := range all {
		items = append(items, x.Record()...)
	}
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(items), err)
}
