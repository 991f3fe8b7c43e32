package runs

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // pictures may be of either kind
	"image/png"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/google/uuid"
	"golang.org/x/image/draw"

	"rotanex.example/api"
	"rotanex.example/core/picture"
	"rotanex.example/core/pricing"
	"rotanex.example/service/edge"
)

// Get answers with a run as it stands.
func (q *Runs) Get(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	s, err := q.read(r.Context(), id)
	var out api.Run
	if err == nil {
		out = s.record(q.clock.WallNow())
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}

// List answers with a page of runs, newest first.
func (q *Runs) List(w http.ResponseWriter, r *http.Request, params api.ListRunsParams) {
	out := api.RunList{Items: []api.Run{}}
	runs, next, err := edge.Newest(q.store.WithContext(r.Context()).Where("kind = 'run'"), "created_at", "id",
		func(x Run) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, params.Cursor, params.Limit)
	out.Next = next
	for _, run := range runs {
		s, failed := q.read(r.Context(), run.ID)
		if failed != nil {
			err = failed
			break
		}
		out.Items = append(out.Items, s.record(q.clock.WallNow()))
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}

// PutState pauses, resumes or cancels.
func (q *Runs) PutState(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	body, err := edge.Body[api.SetRunStateJSONBody](r)
	if err == nil {
		err = q.SetState(r.Context(), id, string(body.State))
	}
	if err != nil {
		edge.Fail(w, r, err)
		return
	}
	q.Get(w, r, id)
}

func (f Frame) record() api.Frame {
	out := api.Frame{Shot: f.Shot, Frame: f.Frame, State: api.FrameState(f.State), Tries: f.Failures, Cause: f.Cause}
	if f.State == "done" || f.State == "leased" {
		out.Host, out.Crew = *f.Host, *f.Crew
	}
	if f.State == "done" {
		out.Seconds, out.Done = *f.Seconds, f.DoneAt.UTC()
		out.Sha256, out.Bytes, out.Format = *f.SHA256, *f.Bytes, api.FrameFormat(f.Format)
	}
	return out
}

// ListFrames answers with a page of a run's frames.
func (q *Runs) ListFrames(w http.ResponseWriter, r *http.Request, id uuid.UUID, params api.ListFramesParams) {
	out := api.FrameList{Items: []api.Frame{}}
	_, err := q.find(r.Context(), id)
	var keys []string
	if err == nil {
		keys, err = edge.Keys(params.Cursor, 2)
	}
	if err == nil {
		limit := edge.Limit(params.Limit, 1000)
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
			out.Next = edge.Cursor(last.Shot, strconv.Itoa(last.Frame))
		}
		for _, f := range frames {
			out.Items = append(out.Items, f.record())
		}
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}

func (q *Runs) frame(r *http.Request, id uuid.UUID, shot string, number int) (Frame, error) {
	var f Frame
	done := q.store.WithContext(r.Context()).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0", id, shot, number).Limit(1).Find(&f)
	if done.Error == nil && done.RowsAffected == 0 {
		return f, edge.NotFound(fmt.Sprintf("run %s has no frame %d of %s", id, number, shot))
	}
	return f, done.Error
}

// GetFrame answers with a frame and every try of it.
func (q *Runs) GetFrame(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number int) {
	f, err := q.frame(r, id, shot, number)
	out := api.FrameDetail{Attempts: []api.Attempt{}}
	if err == nil {
		out.Frame = f.record()
		var tries []Attempt
		err = q.store.WithContext(r.Context()).Where("frame_id = ?", f.ID).Order("fence").Find(&tries).Error
		for _, t := range tries {
			row := api.Attempt{
				Fence: t.Fence, Host: t.Host, Crew: t.Crew, Outcome: api.AttemptOutcome(t.Outcome), Cause: t.Cause, LogTail: t.LogTail,
				Started: t.StartedAt.UTC(), Ended: t.EndedAt.UTC(),
			}
			if t.Measured != nil {
				row.Measured = *t.Measured
			}
			out.Attempts = append(out.Attempts, row)
		}
	}
	edge.Answer(w, r, http.StatusOK, out, err)
}

// Picture answers with the picture of a finished frame, whole or scaled down.
func (q *Runs) Picture(w http.ResponseWriter, r *http.Request, id uuid.UUID, shot string, number, width int) {
	f, err := q.frame(r, id, shot, number)
	if err == nil && f.State != "done" {
		err = edge.NotFound(fmt.Sprintf("frame %d of %s is %s: it has no picture yet", number, shot, f.State))
	}
	if err != nil {
		edge.Fail(w, r, err)
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
	file, err := q.blobs.NewReader(r.Context(), blobKey(f, f.Fence), nil)
	if err != nil {
		edge.Fail(w, r, fmt.Errorf("the stored picture: %w", err))
		return
	}
	defer func() { _ = file.Close() }()
	w.Header().Set("Content-Type", picture.Info{Format: f.Format}.ContentType())
	if width > 0 && f.Format == "exr" {
		edge.Fail(w, r, edge.Conflict("an OpenEXR frame cannot be scaled down here: ask for the whole file"))
		return
	}
	if width > 0 {
		w.Header().Set("Content-Type", "image/png")
		if err := scaled(w, file, width); err != nil {
			edge.Fail(w, r, err)
		}
		return
	}
	sum, _ := hex.DecodeString(*f.SHA256)
	w.Header().Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	w.Header().Set("Content-Length", strconv.FormatInt(*f.Bytes, 10))
	_, _ = io.Copy(w, file)
}

func scaled(w io.Writer, file io.Reader, width int) error {
	whole, _, err := image.Decode(file)
	if err != nil {
		return err
	}
	b := whole.Bounds()
	width = min(width, b.Dx())
	small := image.NewNRGBA(image.Rect(0, 0, width, max(1, b.Dy()*width/b.Dx())))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), whole, b, draw.Src, nil)
	return (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, small)
}

// share is a part of a cost, to a hundredth of a cent: a frame may cost less than one.
func share(m pricing.Money, n int) string {
	r := m.Rat()
	return r.Quo(r, pricing.MustMoney(strconv.Itoa(n)).Rat()).FloatString(4)
}

// ErrNoPicture says that a frame has no picture that could be looked at.
var ErrNoPicture = errors.New("there is no picture of the frame that decodes")

// Image decodes the picture of a finished frame.
func (q *Runs) Image(ctx context.Context, run uuid.UUID, shot string, number int) (image.Image, error) {
	var f Frame
	found := q.store.WithContext(ctx).Where("run_id = ? AND shot = ? AND frame = ? AND NOT warm_up AND repeat = 0 AND state = 'done'", run, shot, number).Limit(1).Find(&f)
	if found.Error != nil {
		return nil, found.Error
	}
	if found.RowsAffected == 0 || f.Format == "exr" {
		return nil, ErrNoPicture
	}
	return q.decode(ctx, f)
}
