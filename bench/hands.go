package bench

import (
	"bytes"
	"context"
	"crypto/md5" // as psql makes the boots
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// beats is how often agents renew what they hold, and patience is how long their questions wait for frames.
const (
	beats    = 3 * time.Second
	patience = 20
)

// hand is one agent, whose renderer is a pause.
type hand struct {
	*client.Client
	name string
	boot uuid.UUID

	mu   sync.Mutex
	held []api.Held
	sum  string // of the list of inputs that it looked for
}

func (h *house) hand(n int) (*hand, error) {
	c, err := h.as(fmt.Sprintf("bench-agent-%d", n))
	return &hand{Client: c, name: fmt.Sprintf("host-%04d", n), boot: uuid.UUID(md5.Sum(fmt.Appendf(nil, "boot-%d", n)))}, err
}

// picture is a small one that is not of one colour.
var picture = func() []byte {
	img := image.NewNRGBA(image.Rect(0, 0, 64, 36))
	for x := range 64 {
		img.Set(x, x%36, color.NRGBA{uint8(4 * x), 120, 40, 255})
	}
	var out bytes.Buffer
	_ = png.Encode(&out, img) // into memory
	return out.Bytes()
}()

// deliver sends the picture of a frame and hands it in.
func (a *hand) deliver(ctx context.Context, l api.Lease) error {
	sum := sha256.Sum256(picture)
	params := api.PutPictureParams{ContentDigest: "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"}
	if _, err := client.Decode[struct{}](a.PutPictureWithBody(ctx, l.Lease, l.Fence, &params, "application/octet-stream", bytes.NewReader(picture))); err != nil {
		return err
	}
	_, err := client.Decode[struct{}](a.PutResult(ctx, l.Lease, l.Fence, api.Result{
		Boot: a.boot, Outcome: api.ResultOutcomeDone, Sha256: hex.EncodeToString(sum[:]), Bytes: int64(len(picture)), Measured: api.Measured{Seconds: 10},
	}))
	return err
}

func (a *hand) lease(ctx context.Context) ([]api.Lease, error) {
	leases, err := client.Decode[[]api.Lease](a.Lease(ctx, api.LeaseRequest{Boot: a.boot, Held: a.holds(), WaitS: patience}))
	if err == nil {
		a.mu.Lock()
		for _, l := range leases {
			a.held = append(a.held, api.Held{Lease: l.Lease, Fence: l.Fence})
		}
		a.mu.Unlock()
	}
	return leases, err
}

func (a *hand) holds() []api.Held {
	a.mu.Lock()
	defer a.mu.Unlock()
	return append([]api.Held{}, a.held...)
}

// beat renews what it holds, with samples of its device.
func (a *hand) beat(ctx context.Context) error {
	use, memory := rand.Float64(), int64(8e9)
	answer, err := client.Decode[api.HeartbeatAnswer](a.Heartbeat(ctx, api.Heartbeat{
		Boot: a.boot, Held: a.holds(), LookedFor: a.sum, Samples: []api.DeviceSample{{Device: "g0", Use: use, MemoryBytes: memory}, {Device: "cpu", Use: use, MemoryBytes: memory}},
	}))
	if err == nil {
		a.sum = answer.InputsSum
	}
	return err
}

// counts is what hands have done.
type counts struct {
	frames, beats, faults atomic.Int64

	mu    sync.Mutex
	idle  []float64 // seconds from when a frame was rendered until its crew has the next
	fault error     // the first
}

func (c *counts) note(ctx context.Context, err error) {
	if err == nil || ctx.Err() != nil {
		return
	}
	c.faults.Add(1)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.fault == nil {
		c.fault = err
	}
}

// work leases frames, renders each for about so long and hands them in, until ctx ends.
func (a *hand) work(ctx context.Context, frame time.Duration, c *counts) {
	var rendered time.Time
	for ctx.Err() == nil {
		leases, err := a.lease(ctx)
		now := time.Now()
		if err != nil {
			c.note(ctx, err)
			rest(ctx, 100*time.Millisecond)
			continue
		}
		if len(leases) > 0 && !rendered.IsZero() {
			c.mu.Lock()
			c.idle = append(c.idle, now.Sub(rendered).Seconds())
			c.mu.Unlock()
		}
		rendered = time.Time{}
		for _, l := range leases {
			rest(ctx, time.Duration(float64(frame)*(0.5+rand.Float64())))
			rendered = time.Now()
			c.note(ctx, a.deliver(context.WithoutCancel(ctx), l)) // what it has, it hands in
			c.frames.Add(1)
		}
		a.mu.Lock()
		a.held = nil
		a.mu.Unlock()
	}
}

func rest(ctx context.Context, d time.Duration) {
	if d <= 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// live sends heartbeats, one each three seconds, at a time of its own.
func (a *hand) live(ctx context.Context, c *counts) {
	rest(ctx, time.Duration(rand.Float64()*float64(beats)))
	ticks := time.NewTicker(beats)
	defer ticks.Stop()
	for ctx.Err() == nil {
		c.note(ctx, a.beat(ctx))
		c.beats.Add(1)
		select {
		case <-ctx.Done():
		case <-ticks.C:
		}
	}
}

// crowd is hands that work side by side.
type crowd struct {
	counts
	stop context.CancelFunc
	all  sync.WaitGroup
}

// gather lets hosts from one number to another work, with frames of such a length; with less than 0 they have none to do.
func (h *house) gather(ctx context.Context, from, to int, frame time.Duration) (*crowd, error) {
	ctx, stop := context.WithCancel(ctx)
	g := &crowd{stop: stop}
	for n := from; n <= to; n++ {
		a, err := h.hand(n)
		if err != nil {
			stop()
			return nil, err
		}
		g.all.Go(func() { a.work(ctx, frame, &g.counts) })
		g.all.Go(func() { a.live(ctx, &g.counts) })
	}
	return g, nil
}

// present lets the hosts' agents be heard of, and render nothing.
func (h *house) present(ctx context.Context) (*crowd, error) {
	ctx, stop := context.WithCancel(ctx)
	g := &crowd{stop: stop}
	for n := range h.Agents {
		a, err := h.hand(n + 1)
		if err == nil {
			err = a.beat(ctx)
		}
		if err != nil {
			stop()
			return nil, err
		}
		g.all.Go(func() { a.live(ctx, &g.counts) })
	}
	return g, nil
}

func (g *crowd) end() error {
	g.stop()
	g.all.Wait()
	return g.fault
}
