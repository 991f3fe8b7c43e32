package simulator

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
)

// Farm is a made-up render farm: the reference server of Rotanex's protocol for
// farms. It analyses jobs, lets them queue, renders proof frames and waits, renders
// the rest on many nodes, fails now and then, and bills for the work.
type Farm struct {
	Tiers       map[string]stock.Farm
	ClockFactor float64
	Folder      string        // where packages and pictures lie
	Scenes      string        // scenes that the farm has anyway, for jobs without a package
	Secret      string        // bearer token that it wants; none: no
	Analysis    time.Duration // by the simulation's clock
	Queue       time.Duration // before the first frame; 0 is what the tier's lead leaves
	FailOneIn   int           // of how many frames one fails at first; 0 is none
	Plugins     []string      // that it has; none: all
	Lacks       string        // what its renderer leaves out of the picture without a word; see Render.Lacks
	LinkMBps    float64       // how fast packages come in and pictures go out, megabytes a second; 0 is at once
	Log         *slog.Logger

	mu    sync.Mutex
	moved *sync.Cond
	jobs  map[string]*farmJob
	names []string
	group sync.WaitGroup
}

type farmJob struct {
	providers.Job
	tier     stock.Farm
	state    string
	findings []string
	released bool
	frames   []providers.JobFrame
	node     time.Duration
	charged  int
	stop     context.CancelFunc
}

// Handler serves the protocol until ctx ends.
func (f *Farm) Handler(ctx context.Context) http.Handler {
	f.jobs, f.moved = map[string]*farmJob{}, sync.NewCond(&f.mu)
	f.group.Go(func() {
		<-ctx.Done()
		f.mu.Lock()
		defer f.mu.Unlock()
		f.moved.Broadcast()
	})
	r := chi.NewRouter()
	r.Use(bearer(f.Secret))
	r.Post("/chunks/missing", f.missing)
	r.Put("/chunks/{sum}", f.putChunk)
	r.Put("/jobs/{name}", func(w http.ResponseWriter, r *http.Request) { f.submit(ctx, w, r) })
	r.Get("/jobs/{name}", f.on(func(w http.ResponseWriter, _ *http.Request, j *farmJob) { answer(w, f.status(j)) }))
	r.Post("/jobs/{name}/release", f.on(func(w http.ResponseWriter, _ *http.Request, j *farmJob) {
		j.released = true
		if j.state == providers.Held {
			j.state = providers.Rendering
		}
		f.moved.Broadcast()
		w.WriteHeader(http.StatusNoContent)
	}))
	r.Post("/jobs/{name}/again", f.on(f.again))
	r.Post("/jobs/{name}/withdraw", f.on(f.withdraw))
	r.Get("/jobs/{name}/frames/{frame}", f.picture)
	r.Delete("/jobs/{name}", f.on(func(w http.ResponseWriter, _ *http.Request, j *farmJob) {
		f.end(j)
		w.WriteHeader(http.StatusNoContent)
	}))
	return r
}

// Wait returns when no job is worked on any more.
func (f *Farm) Wait() { f.group.Wait() }

func (f *Farm) chunk(sum string) string { return filepath.Join(f.Folder, "chunks", filepath.Base(sum)) }

func (f *Farm) missing(w http.ResponseWriter, r *http.Request) {
	var sums []string
	if err := json.NewDecoder(r.Body).Decode(&sums); err != nil {
		http.Error(w, "want a list of SHA-256 sums", http.StatusBadRequest)
		return
	}
	out := []string{}
	for _, s := range sums {
		if _, err := os.Stat(f.chunk(s)); err != nil {
			out = append(out, s)
		}
	}
	answer(w, out)
}

func (f *Farm) putChunk(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(io.LimitReader(r.Body, 64<<20))
	if !f.carry(r.Context(), len(data)) {
		return
	}
	sum := param(r, "sum")
	if got := sha256.Sum256(data); err != nil || hex.EncodeToString(got[:]) != sum {
		http.Error(w, "the chunk is not what its name says", http.StatusUnprocessableEntity)
		return
	}
	err = errors.Join(os.MkdirAll(filepath.Join(f.Folder, "chunks"), 0o700), os.WriteFile(f.chunk(sum)+".part", data, 0o600), os.Rename(f.chunk(sum)+".part", f.chunk(sum)))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// on finds the job of the path, and holds the lock while it is looked at.
func (f *Farm) on(do func(http.ResponseWriter, *http.Request, *farmJob)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		defer f.mu.Unlock()
		j := f.jobs[param(r, "name")]
		if j == nil {
			http.Error(w, "there is no such job", http.StatusNotFound)
			return
		}
		do(w, r, j)
	}
}

func (f *Farm) submit(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	var o providers.Job
	if err := json.NewDecoder(io.LimitReader(r.Body, 64<<20)).Decode(&o); err != nil || o.Name != param(r, "name") || len(o.Frames) == 0 {
		http.Error(w, "want a job, with the name of the path and frames", http.StatusBadRequest)
		return
	}
	tier, known := f.Tiers[o.Tier]
	if !known {
		http.Error(w, fmt.Sprintf("there is no tier %q", o.Tier), http.StatusUnprocessableEntity)
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.jobs[o.Name] != nil {
		w.WriteHeader(http.StatusOK) // it is here already
		return
	}
	j := &farmJob{Job: o, tier: tier, state: providers.Analysing, findings: []string{}}
	for _, n := range o.Frames {
		j.frames = append(j.frames, providers.JobFrame{Frame: n, State: providers.FrameWaiting})
	}
	running, stop := context.WithCancel(ctx)
	j.stop = stop
	f.jobs[o.Name] = j
	f.names = append(f.names, o.Name)
	f.group.Go(func() { f.work(running, j) })
	w.WriteHeader(http.StatusCreated)
}

// status is a job with what it costs. The minimum charge of an order stands with its
// first job.
func (f *Farm) status(j *farmJob) providers.JobStatus {
	out := providers.JobStatus{Name: j.Name, State: j.state, Findings: j.findings, Frames: slices.Clone(j.frames), NodeSeconds: j.node.Seconds(), ChargedFrames: j.charged, Charge: f.workCharge(j)}
	if j.state == providers.Queued {
		out.Queue = 1
	}
	first, sum, worked := "", pricing.Money{}, false
	for _, name := range f.names {
		if x := f.jobs[name]; x.Order == j.Order && x.Tier == j.Tier {
			if first == "" {
				first = name
			}
			sum = sum.Plus(f.workCharge(x))
			worked = worked || x.node > 0
		}
	}
	if first == j.Name && worked && sum.Cmp(j.tier.Work.MinimumCharge) < 0 {
		out.Charge = out.Charge.Plus(j.tier.Work.MinimumCharge.Minus(sum))
	}
	return out
}

// workCharge is what a job's work comes to, which is no more than its owner allowed.
func (f *Farm) workCharge(j *farmJob) pricing.Money {
	w := j.tier.Work
	w.MinimumCharge = pricing.Money{}
	charge := w.Charge(j.tier.CPU.Cores, j.tier.CPU.MHz, j.node, j.charged)
	if j.Most != nil && charge.Cmp(*j.Most) > 0 {
		return *j.Most
	}
	return charge
}

// spent reports whether a job has come to what its owner allowed.
func (f *Farm) spent(j *farmJob) bool { return j.Most != nil && f.workCharge(j).Cmp(*j.Most) >= 0 }

// named reads a list of frames.
func named(w http.ResponseWriter, r *http.Request) ([]int, bool) {
	var frames []int
	if err := json.NewDecoder(r.Body).Decode(&frames); err != nil {
		http.Error(w, "want a list of frames", http.StatusBadRequest)
		return nil, false
	}
	return frames, true
}

// withdraw takes frames out that are not begun.
func (f *Farm) withdraw(w http.ResponseWriter, r *http.Request, j *farmJob) {
	frames, good := named(w, r)
	if !good {
		return
	}
	out := []int{}
	for i := range j.frames {
		x := &j.frames[i]
		if !slices.Contains(frames, x.Frame) {
			continue
		}
		if x.State == providers.FrameWaiting || x.State == providers.FrameFailed {
			x.State = providers.FrameWithdrawn
		}
		if x.State == providers.FrameWithdrawn {
			out = append(out, x.Frame)
		}
	}
	f.moved.Broadcast()
	answer(w, out)
}

func (f *Farm) again(w http.ResponseWriter, r *http.Request, j *farmJob) {
	frames, good := named(w, r)
	if !good {
		return
	}
	for i := range j.frames {
		if x := &j.frames[i]; slices.Contains(frames, x.Frame) && x.State == providers.FrameFailed {
			x.State = providers.FrameWaiting
			if j.state == providers.Done {
				j.state = providers.Rendering
			}
		}
	}
	f.moved.Broadcast()
	w.WriteHeader(http.StatusNoContent)
}

func (f *Farm) file(j *farmJob, frame int) string {
	return filepath.Join(f.Folder, "jobs", j.Name, fmt.Sprintf("%06d.png", frame))
}

// picture answers with a frame that is done. It does not hold the lock while its line
// is busy.
func (f *Farm) picture(w http.ResponseWriter, r *http.Request) {
	n, err := strconv.Atoi(param(r, "frame"))
	f.mu.Lock()
	j := f.jobs[param(r, "name")]
	done := j != nil && slices.ContainsFunc(j.frames, func(x providers.JobFrame) bool { return x.Frame == n && x.State == providers.FrameDone })
	f.mu.Unlock()
	if err != nil || !done {
		http.Error(w, "that frame is not done", http.StatusNotFound)
		return
	}
	data, err := os.ReadFile(f.file(j, n))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	if f.carry(r.Context(), len(data)) {
		_, _ = w.Write(data)
	}
}

// carry takes as long as the farm's line needs for so many bytes.
func (f *Farm) carry(ctx context.Context, bytes int) bool {
	return f.LinkMBps == 0 || f.pass(ctx, time.Duration(float64(bytes)/f.LinkMBps*float64(time.Second)/1e6))
}

// pass lets time of the simulation go by; false if the job ended meanwhile.
func (f *Farm) pass(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(time.Duration(float64(d) / f.ClockFactor)):
		return true
	}
}

// enter moves a job on, unless it was ended.
func (f *Farm) enter(j *farmJob, state string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if j.state != providers.Ended {
		j.state = state
		f.Log.Info("job", "name", j.Name, "shot", j.Shot, "tier", j.Tier, "state", state)
	}
}
