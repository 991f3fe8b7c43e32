package queue

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"io"
	"net/http"
	"strconv"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/picture"
	"rotanex.example/service/httpapi"
)

func (f Frame) record() api.Frame {
	out := api.Frame{Shot: f.Shot, Frame: f.Frame, State: api.FrameState(f.State), Failures: f.Failures, Cause: f.Cause}
	if f.State == "done" || f.State == "rendering" {
		out.Host, out.Crew = *f.Host, *f.Crew
	}
	if f.State == "done" {
		out.Seconds, out.Done = *f.Seconds, f.DoneAt.UTC()
		out.Sha256, out.Bytes, out.Format = *f.SHA256, *f.Bytes, api.FrameFormat(f.Format)
	}
	return out
}

// ListFrames answers with a page of a run's frames.
func (q *Queue) ListFrames(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ListFramesParams) {
	out := api.FrameList{Items: []api.Frame{}}
	err := q.known(r.Context(), id)
	var keys []string
	if err == nil {
		keys, err = httpapi.Keys(params.Cursor, 2)
	}
	if err == nil {
		limit := httpapi.Limit(params.Limit, 1000)
		query := q.store.WithContext(r.Context()).Where("run_id = ? AND NOT warm_up", id).Order("shot, frame").Limit(limit + 1)
		if params.Shot != nil {
			query = query.Where("shot = ?", params.Shot)
		}
		if params.State != nil {
			query = query.Where("state = ?", params.State)
		}
		if keys != nil {
			number, _ := strconv.Atoi(keys[1])
			query = query.Where("(shot, frame) > (?, ?)", keys[0], number)
		}
		var frames []Frame
		err = query.Find(&frames).Error
		if len(frames) > limit {
			frames = frames[:limit]
			last := frames[limit-1]
			out.Next = httpapi.Cursor(last.Shot, strconv.Itoa(last.Frame))
		}
		for _, f := range frames {
			out.Items = append(out.Items, f.record())
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (q *Queue) frame(r *http.Request, id uuid.UUID, shot string, number int) (Frame, error) {
	var f Frame
	done := q.store.WithContext(r.Context()).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0", id, shot, number).Limit(1).Find(&f)
	if done.Error == nil && done.RowsAffected == 0 {
		return f, httpapi.NotFound(fmt.Sprintf("run %s has no frame %d of %s", id, number, shot))
	}
	return f, done.Error
}

// GetFrame answers with a frame and every try of it.
func (q *Queue) GetFrame(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number int) {
	f, err := q.frame(r, id, shot, number)
	out := api.FrameDetail{Tries: []api.Try{}}
	if err == nil {
		out.Frame = f.record()
		var tries []Try
		err = q.store.WithContext(r.Context()).Where("frame_id = ?", f.ID).Order("fence").Find(&tries).Error
		for _, t := range tries {
			row := api.Try{
				Fence: t.Fence, Host: t.Host, Crew: t.Crew, Outcome: api.TryOutcome(t.Outcome), Cause: t.Cause, LogTail: t.LogTail,
				Started: t.StartedAt.UTC(), Ended: t.EndedAt.UTC(),
			}
			if t.Measured != nil {
				row.Measured = api.Measured{
					Seconds: t.Measured.Seconds, Stages: t.Measured.Stages, PeakMemoryBytes: t.Measured.PeakMemoryBytes, DevicePeakBytes: t.Measured.DevicePeakBytes,
					DeviceUse: t.Measured.DeviceUse, Conditions: t.Measured.Conditions, Settings: t.Measured.Settings,
				}
			}
			out.Tries = append(out.Tries, row)
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Picture answers with the picture of a finished frame, whole or scaled down.
func (q *Queue) Picture(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number, width int) {
	f, err := q.frame(r, id, shot, number)
	if err == nil && f.State != "done" {
		err = httpapi.NotFound(fmt.Sprintf("frame %d of %s is %s: it has no picture yet", number, shot, f.State))
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	// A done frame never changes, so neither does its picture.
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	etag := fmt.Sprintf(`"%s-%d"`, *f.SHA256, width)
	w.Header().Set("ETag", etag)
	if r.Header.Get("If-None-Match") == etag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	if width > 0 && f.Format == "exr" {
		httpapi.Fail(w, r, httpapi.Conflict("an OpenEXR frame cannot be scaled down here: ask for the whole file"))
		return
	}
	if width > 0 {
		w.Header().Set("Content-Type", "image/png")
		if err := q.pictures.Scaled(r.Context(), w, f.Key(), width); err != nil {
			httpapi.Fail(w, r, err)
		}
		return
	}
	file, err := q.pictures.Open(r.Context(), f.Key())
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

// ErrNoPicture says that a frame has no picture that could be looked at.
var ErrNoPicture = errors.New("there is no picture of the frame that decodes")

// Image decodes the picture of a finished frame.
func (q *Queue) Image(ctx context.Context, run uuid.UUID, shot string, number int) (image.Image, error) {
	var f Frame
	found := q.store.WithContext(ctx).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0 AND state = 'done'", run, shot, number).Limit(1).Find(&f)
	if found.Error != nil {
		return nil, found.Error
	}
	if found.RowsAffected == 0 || f.Format == "exr" {
		return nil, ErrNoPicture
	}
	return q.pictures.Decode(ctx, f.Key())
}

// known answers with a problem if there is no such run.
func (q *Queue) known(ctx context.Context, run uuid.UUID) error {
	var there bool
	err := q.store.WithContext(ctx).Raw("SELECT EXISTS (SELECT FROM runs WHERE id = $1)", run).Row().Scan(&there)
	if err == nil && !there {
		err = httpapi.NotFound(fmt.Sprintf("there is no run %s; rotanex runs list shows them", run))
	}
	return err
}
