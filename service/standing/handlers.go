package standing

import (
	"io"
	"net/http"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// ListFrames answers with a page of a run's frames.
func (s *Standing) ListFrames(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.ListFramesParams) {
	page, next, err := s.Frames(r.Context(), run, Wanted{params.Shot, (*string)(params.State), params.Cursor, params.Limit})
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	items, err := s.withFiles(r.Context(), page...)
	httpapi.Answer(w, r, http.StatusOK, api.FrameList{Items: items, Next: next}, err)
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
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	frames, err := s.withFiles(r.Context(), f)
	if err == nil {
		out.Frame = frames[0]
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

// RenderLog answers with all that the renderer said in a try.
func (s *Standing) RenderLog(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, number int, fence int64) {
	_, err := s.One(r.Context(), run, shot, number)
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
