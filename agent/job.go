package agent

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/framefiles"
	"rotanex.example/core/picture"
	"rotanex.example/launchers"
)

// job is one lease: a frame that a start renders.
type job struct {
	api.Lease
	agent    *Agent
	start    *start
	gone     atomic.Bool  // it is not ours any more
	progress atomic.Int64 // thousandths
}

// revoke gives the frame up: it is not ours any more. If it is in hand its renderer ends; else its turn does not come.
func (j *job) revoke() {
	j.gone.Store(true)
	j.start.mu.Lock()
	defer j.start.mu.Unlock()
	if len(j.start.left) > 0 && j.start.left[0] == j {
		j.start.stop()
	}
}

// failure is why a frame was not rendered.
type failure struct {
	cause api.ResultCause
	why   string
}

func (f *failure) Error() string { return f.why }

// rendered is a frame as its renderer left it.
type rendered struct {
	*job
	folder   string
	find     func() string                       // where its picture is, as far as there is one
	wrote    func() ([]launchers.Written, error) // what there is beside it, below the folder
	file     string
	beside   []launchers.Written
	measured api.Measured
	err      error  // why it was not rendered; nil: it was
	tail     string // the renderer's last words, of one that failed
	log      renderLog
	gives    string // why it is given back; "": it is not
}

// deliverFor is how long a file may take to be whole after the renderer said that its frame is finished.
const deliverFor = 5 * time.Second

// settle checks, sends and hands in a frame, and says whether its start may go on.
func (r *rendered) settle(ctx context.Context, ended <-chan struct{}) bool {
	defer func() {
		r.clear()
	}()
	result := api.Result{Boot: r.agent.boot, Outcome: api.ResultOutcomeDone, Measured: r.measured}
	err := r.err
	if err == nil && r.gives == "" {
		if err = r.whole(ctx, ended); err == nil {
			result.Sha256, result.Bytes, err = r.deliverAll(ctx)
		}
	}
	if err != nil && !r.gone.Load() && ctx.Err() == nil {
		// It may be this host's fault: then the frame has not failed.
		r.agent.doubt()
		if why := r.agent.works(time.Now()); why != "" {
			r.gives = why
		}
	}
	switch {
	case ctx.Err() != nil:
		return false
	case err == nil && result.Sha256 != "": // it is done, whatever was said since
	case r.gone.Load():
		return true
	case r.gives != "":
		result = api.Result{Boot: r.agent.boot, Outcome: api.ResultOutcomeGivenBack, LogTail: r.gives}
		r.agent.Log.Info("frame is given back", "shot", r.Shot, "frame", r.Frame, "why", r.gives)
		r.agent.tellDesk(ctx)
	case client.Status(err) == http.StatusConflict:
		r.agent.Log.Info("came too late", "shot", r.Shot, "frame", r.Frame)
		return true
	default:
		r.failed(&result, err)
	}
	_, handed := retried(ctx, r.agent, func(ctx context.Context) (struct{}, error) {
		return client.Decode[struct{}](r.agent.client.PutResult(ctx, r.Lease.Lease, r.Fence, result))
	})
	if handed != nil && ctx.Err() == nil {
		r.agent.Log.Warn("handing in", "shot", r.Shot, "frame", r.Frame, "error", handed)
	}
	if handed == nil && result.Outcome != api.ResultOutcomeGivenBack {
		r.agent.work.Go(func() { r.sendLog(ctx) }) // the next frame does not wait for it
	}
	return result.Outcome == api.ResultOutcomeDone
}

// failed says in a result why the frame was not rendered.
func (r *rendered) failed(result *api.Result, err error) {
	f := &failure{api.ResultCauseCrashed, err.Error()}
	errors.As(err, &f)
	result.Outcome, result.Cause, result.LogTail = api.ResultOutcomeFailed, f.cause, strings.TrimSpace(r.tail+"\n"+f.why)
	r.agent.Log.Warn("frame failed", "shot", r.Shot, "frame", r.Frame, "cause", f.cause, "why", f.why)
}

// clear deletes what was written for the frame.
func (r *rendered) clear() {
	if r.file != "" {
		_ = os.Remove(r.file)
	}
	for _, x := range r.beside {
		_ = os.Remove(r.pathOf(x))
	}
}

func (r *rendered) pathOf(x launchers.Written) string {
	return filepath.Join(r.folder, filepath.FromSlash(x.Path))
}

// whole waits until its files can be read as what they are: a renderer may say that it has finished a frame a
// little before it has written it.
func (r *rendered) whole(ctx context.Context, ended <-chan struct{}) error {
	for until := time.Now().Add(deliverFor); ; {
		r.file = r.find()
		err := r.check()
		if err == nil || !time.Now().Before(until) {
			return err
		}
		select {
		case <-ended: // it writes no more
			r.file = r.find()
			return r.check()
		case <-ctx.Done():
			return err
		case <-time.After(deliverFor / 50):
		}
	}
}

// check looks at the picture and what is beside it before anybody else is told of them.
func (r *rendered) check() error {
	if err := r.checkPicture(); err != nil {
		return err
	}
	var err error
	if r.beside, err = r.wrote(); err != nil {
		return &failure{api.ResultCauseBadPicture, err.Error()}
	}
	for _, x := range r.beside {
		if err := r.checkFile(x); err != nil {
			return &failure{api.ResultCauseBadPicture, fmt.Sprintf("%s (%s): %v", x.Path, x.Name, err)}
		}
	}
	return nil
}

func (r *rendered) checkFile(x launchers.Written) error {
	f, err := os.Open(r.pathOf(x))
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	size, err := f.Stat()
	if err != nil {
		return err
	}
	return framefiles.Check(x.Kind, f, size.Size(), r.Width, r.Height)
}

func (r *rendered) checkPicture() error {
	f, err := os.Open(r.file)
	if err != nil {
		return &failure{api.ResultCauseBadPicture, "the renderer ended well but wrote no picture"}
	}
	defer func() { _ = f.Close() }()
	size, err := f.Stat()
	if err == nil {
		_, err = picture.Check(f, size.Size(), r.Width, r.Height)
	}
	if err != nil {
		return &failure{api.ResultCauseBadPicture, err.Error()}
	}
	return nil
}

// deliverAll sends the files beside the picture, and then that. The digest and the size are the picture's.
func (r *rendered) deliverAll(ctx context.Context) (string, int64, error) {
	for _, x := range r.beside {
		_, _, err := r.deliver(ctx, r.pathOf(x), func(ctx context.Context, digest string, body io.Reader) (*http.Response, error) {
			params := api.PutFrameFileParams{Kind: api.PutFrameFileParamsKind(x.Kind), Ending: x.Ending, ContentDigest: digest}
			return r.agent.client.PutFrameFileWithBody(ctx, r.Lease.Lease, r.Fence, x.Name, &params, "application/octet-stream", body)
		})
		if err != nil {
			return "", 0, err
		}
	}
	return r.deliver(ctx, r.file, func(ctx context.Context, digest string, body io.Reader) (*http.Response, error) {
		return r.agent.client.PutPictureWithBody(ctx, r.Lease.Lease, r.Fence, &api.PutPictureParams{ContentDigest: digest}, "application/octet-stream", body)
	})
}

// deliver sends a file with its SHA-256.
func (r *rendered) deliver(ctx context.Context, path string, put func(ctx context.Context, digest string, body io.Reader) (*http.Response, error)) (string, int64, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer func() { _ = f.Close() }()
	hash := sha256.New()
	size, err := io.Copy(hash, f)
	if err != nil {
		return "", 0, err
	}
	sum := hash.Sum(nil)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum) + ":"
	_, err = retried(ctx, r.agent, func(ctx context.Context) (struct{}, error) {
		return client.Decode[struct{}](put(ctx, digest, io.NopCloser(io.NewSectionReader(f, 0, size))))
	})
	if status := client.Status(err); status >= 400 && status < 500 && status != http.StatusConflict {
		err = &failure{api.ResultCauseBadPicture, fmt.Sprintf("the service refused %s: %v", filepath.Base(path), err)}
	}
	return hex.EncodeToString(sum), size, err
}
