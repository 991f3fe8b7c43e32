// Package agent is the program on a host that renders what it leases. It speaks
// only outgoing HTTP to the service. It starts only renderers that its own host
// allows, by launchers that lie on its own host.
package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"rotanex.example/agent/cgroup"
	"rotanex.example/agent/desk"
	"rotanex.example/agent/discover"
	"rotanex.example/agent/standback"
	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/stock"
	"rotanex.example/core/version"
	"rotanex.example/launchers"
)

// Config is how an agent is set. Validate fills in the defaults.
type Config struct {
	Service   string                        // the service's address, such as http://127.0.0.1:7070; several with commas
	Host      string                        // the host's name; default the machine's
	JoinToken string                        // to join with, at the first start
	StateDir  string                        // where the credential and work in hand lie
	Scenes    string                        // the folder below which scene files lie
	Roots     map[string]string             // other folders in which files of shots lie, by their names: see paths.Rooted
	Launchers map[string]launchers.Launcher // what this host may start, by name
	Simulated []stock.Host                  // devices as these files say instead of those that are here
	Threads   int                           // of a renderer on the CPU; default all
	Nice      int                           // how far renderers stand back behind whatever else runs here, 0 to 19
	Desk      *Desk                         // nil: nobody works at this machine
	LinkMBps  float64                       // how fast packages may be fetched, megabytes a second; 0 is no limit
	Log       *slog.Logger
}

// Validate fills in defaults and says what is wrong.
func (c *Config) Validate() error {
	if c.Nice < 0 || c.Nice > 19 {
		return fmt.Errorf("--nice %d: want 0, as everything else, to 19, behind everything else", c.Nice)
	}
	if c.Host == "" {
		name, err := os.Hostname()
		if err != nil {
			return err
		}
		c.Host = name
	}
	if err := stock.ValidName("host", c.Host); err != nil {
		return err
	}
	if c.Service == "" || c.StateDir == "" || c.Scenes == "" {
		return errors.New("the service's address, a state folder and a scene folder are needed")
	}
	if err := c.validateRoots(); err != nil {
		return err
	}
	if len(c.Launchers) == 0 {
		return errors.New("no launcher is allowed: this agent could render nothing")
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	return c.Desk.validate()
}

// Agent is a running agent.
type Agent struct {
	Config
	client *client.Client
	boot   uuid.UUID
	factor float64
	found  discover.Found

	sampler *discover.Sampler
	latest  atomic.Pointer[[]api.DeviceSample]
	stock   string // path of a file that describes the host

	packages packages
	back     *standback.Back
	desk     *desk.Desk // nil: nobody works here
	at       atomic.Pointer[desk.Status]
	beatNow  chan struct{} // there is something to say
	inputs   *inputs
	open     opens

	mu      sync.Mutex
	jobs    map[int64]*job // by lease
	starts  map[*start]bool
	cannot  string    // for which nothing is rendered here; "" for none
	triedAt time.Time // whether frames can be rendered
	work    sync.WaitGroup
}

// New makes an agent.
func New(c Config) (*Agent, error) {
	if err := c.Validate(); err != nil {
		return nil, err
	}
	a := &Agent{Config: c, boot: uuid.New(), factor: 1, jobs: map[int64]*job{}, starts: map[*start]bool{}, beatNow: make(chan struct{}, 1), inputs: newInputs()}
	var err error
	a.back, err = standback.New(c.Nice, c.Desk.keepCores())
	return a, err
}

// owner is whose control groups its renderers' are: those of an agent with this state.
func (a *Agent) owner() string {
	state, err := filepath.Abs(a.StateDir)
	if err != nil {
		state = a.StateDir
	}
	return fmt.Sprintf("%x", sha256.Sum256([]byte(state)))[:12]
}

// Run works until ctx ends. It then gives up what it renders, so that others can
// have it, and leaves no renderer behind.
func (a *Agent) Run(ctx context.Context) error {
	// What is there was rendered for leases that are nobody's any more, and what runs is nobody's either.
	cgroup.Sweep(a.back.Groups(), a.owner())
	work := filepath.Join(a.StateDir, "work")
	if err := errors.Join(os.RemoveAll(work), os.MkdirAll(work, 0o700)); err != nil {
		a.Log.Warn("work folder", "error", err) // it is told, and tried again
	}
	if err := a.discover(); err != nil {
		return err
	}
	if err := a.connect(ctx); err != nil {
		return err
	}
	if err := a.openDesk(ctx); err != nil {
		return err
	}
	beat, err := a.report(ctx)
	if err != nil {
		return err
	}
	a.Log.Info("agent is up", "host", a.Host, "devices", len(a.found.Host.Devices), "clock_factor", a.factor)
	ctx, stop := context.WithCancelCause(ctx)
	defer a.open.end()
	defer a.work.Wait()
	defer stop(nil)
	a.work.Go(func() { a.beat(ctx, beat, stop) })
	a.work.Go(func() { a.inputs.look(ctx, a.missing, beat, a.beatSoon) })
	a.work.Go(func() { a.sample(ctx) })
	a.keepDesk(ctx, stop)
	return a.lease(ctx, stop)
}

func (a *Agent) discover() (err error) {
	if err := a.find(); err != nil {
		return err
	}
	return a.describe(a.StateDir)
}

// find finds what this host has.
func (a *Agent) find() (err error) {
	if a.Simulated != nil {
		a.found, err = discover.Simulated(a.Simulated, a.Host)
	} else {
		a.found, err = discover.Host(a.Host)
	}
	a.sampler = a.found.Sampler
	return err
}

// describe writes what this host has into a folder, for launchers that are told it.
func (a *Agent) describe(folder string) error {
	data, err := json.Marshal(a.found.Host)
	if err == nil {
		a.stock, err = filepath.Abs(filepath.Join(folder, "stock.json"))
	}
	if err != nil {
		return err
	}
	return os.WriteFile(a.stock, data, 0o600)
}

type credential struct {
	Service string `json:"service"`
	Host    string `json:"host"`
	Token   string `json:"token"`
}

// connect reads the stored credential, or joins with the join token.
func (a *Agent) connect(ctx context.Context) error {
	file := filepath.Join(a.StateDir, "credential.json")
	var own credential
	if data, err := os.ReadFile(file); err == nil && json.Unmarshal(data, &own) == nil && own.Host == a.Host && a.JoinToken == "" {
		return a.use(own)
	}
	if a.JoinToken == "" {
		return fmt.Errorf("%s has not joined yet: make a join token with rotanex tokens join %s and start the agent with it", a.Host, a.Host)
	}
	if err := a.use(credential{Service: a.Service, Host: a.Host}); err != nil {
		return err
	}
	joined, err := retried(ctx, a, func(ctx context.Context) (struct{ Token string }, error) {
		return client.Decode[struct{ Token string }](a.client.JoinAgent(ctx, api.JoinAgentJSONRequestBody{JoinToken: a.JoinToken, Host: a.Host}))
	})
	if err != nil {
		return fmt.Errorf("joining: %w", err)
	}
	own = credential{a.Service, a.Host, joined.Token}
	data, err := json.Marshal(own)
	if err != nil {
		return err
	}
	if err := os.WriteFile(file, data, 0o600); err != nil {
		return err
	}
	return a.use(own)
}

func (a *Agent) use(own credential) (err error) {
	service, err := client.ParseAddresses(a.Service)
	if err != nil {
		return err
	}
	service.Doer = newCalls()
	a.client, err = client.NewClient(service.First()+"/api/v1", client.WithHTTPClient(service),
		client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if own.Token != "" {
				r.Header.Set("Authorization", "Bearer "+own.Token)
			}
			return nil
		}))
	return err
}

// report tells the service what was found and learns how to go on.
func (a *Agent) report(ctx context.Context) (time.Duration, error) {
	h := a.found.Host
	r := api.StockReport{Boot: a.boot, Version: version.Ours, MemoryGb: float32(h.MemoryGB), OnAcPower: !h.OnBattery(), Devices: []api.Device{}, Launchers: []string{}, Findings: a.found.Findings, Desk: a.deskReport()}
	r.Cpu = api.CPU{Model: h.CPU.Model, Cores: h.CPU.Cores, Threads: h.CPU.Threads, Watts: h.CPU.Watts}
	devices, err := json.Marshal(h.Devices)
	if err == nil && len(h.Devices) > 0 {
		err = json.NewDecoder(bytes.NewReader(devices)).Decode(&r.Devices)
	}
	if err != nil {
		return 0, err
	}
	for name := range a.Launchers {
		r.Launchers = append(r.Launchers, name)
	}
	r.Renderers, r.Folder = a.renderers(ctx), a.folder()
	orders, err := retried(ctx, a, func(ctx context.Context) (api.AgentOrders, error) {
		return client.Decode[api.AgentOrders](a.client.ReportStock(ctx, r))
	})
	a.factor = orders.ClockFactor
	return time.Duration(orders.HeartbeatS * float64(time.Second)), err
}

// held lists the leases in hand.
func (a *Agent) held() []api.Held {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := []api.Held{}
	for _, j := range a.jobs {
		out = append(out, api.Held{Lease: j.Lease.Lease, Fence: j.Fence, Progress: float32(j.progress.Load()) / 1000})
	}
	return out
}

// patience is how long a question for frames may wait at the service, in seconds.
const patience = 20

// answers is how long the service may take to answer what does not wait: short enough for another one of its addresses to be
// asked before a lease ends.
const answers = 5 * time.Second

// lease asks for frames and starts to render them until ctx ends.
func (a *Agent) lease(ctx context.Context, stop context.CancelCauseFunc) error {
	for ctx.Err() == nil {
		if a.works(time.Now()) != "" {
			pause(ctx, retryEvery)
			continue
		}
		asking, cancel := context.WithTimeout(ctx, patience*time.Second+answers)
		leases, err := client.Decode[[]api.Lease](a.client.Lease(asking, api.LeaseRequest{Boot: a.boot, Held: a.held(), WaitS: patience, Starts: true}))
		cancel()
		if err != nil {
			a.trouble(ctx, "asking for frames", err, stop)
			continue
		}
		a.begin(ctx, leases)
	}
	if cause := context.Cause(ctx); !errors.Is(cause, context.Canceled) {
		return cause
	}
	return nil
}

// trouble decides what an error of a loop means: the end if the credential is
// worthless, another report if the service no longer knows this agent, else a
// pause.
func (a *Agent) trouble(ctx context.Context, doing string, err error, stop context.CancelCauseFunc) {
	if ctx.Err() != nil {
		return
	}
	switch client.Status(err) {
	case http.StatusUnauthorized, http.StatusForbidden:
		stop(fmt.Errorf("%s: %w", doing, err))
		return
	case http.StatusConflict:
		if _, err := a.report(ctx); err != nil {
			a.Log.Warn("reporting again", "error", err)
		}
	}
	a.Log.Warn(doing, "error", err)
	pause(ctx, time.Second)
}

// beat renews the leases in hand and drops those that are no longer ours.
func (a *Agent) beat(ctx context.Context, every time.Duration, stop context.CancelCauseFunc) {
	ticks := time.NewTicker(max(every, 100*time.Millisecond))
	defer ticks.Stop()
	var leftOut string
	for {
		body := api.Heartbeat{Boot: a.boot, Held: a.held(), Samples: a.sampled(), Desk: a.deskReport(), Trouble: a.aside()}
		body.LookedFor, body.Missing = a.inputs.looked()
		asking, cancel := context.WithTimeout(ctx, answers)
		answer, err := client.Decode[api.HeartbeatAnswer](a.client.Heartbeat(asking, body))
		cancel()
		if err != nil {
			a.trouble(ctx, "heartbeat", err, stop)
		} else if answer.InputsSum != body.LookedFor {
			a.inputs.want(answer.Inputs, answer.InputsSum)
		}
		if err == nil && a.desk != nil {
			a.desk.Closed(answer.ClosedUntil)
		}
		if said := strings.Join(answer.LeftOut, "; "); said != "" && said != leftOut {
			a.Log.Warn("not all of a heartbeat was taken", "left_out", said)
			leftOut = said
		}
		for _, gone := range answer.Revoked {
			a.revoke(gone)
		}
		select {
		case <-ctx.Done():
			return
		case <-a.beatNow:
		case <-ticks.C:
		}
	}
}

// beatSoon has the next heartbeat follow at once.
func (a *Agent) beatSoon() {
	select {
	case a.beatNow <- struct{}{}:
	default: // it is to be said anyway
	}
}

func (a *Agent) revoke(gone api.Held) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if j := a.jobs[gone.Lease]; j != nil && j.Fence == gone.Fence {
		a.Log.Info("lease was taken back", "shot", j.Shot, "frame", j.Frame)
		j.revoke()
	}
}

// begin begins to render leases, those of one start together, unless they are in hand already.
func (a *Agent) begin(ctx context.Context, leases []api.Lease) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var all []*start
	for _, l := range leases {
		if old := a.jobs[l.Lease]; old != nil {
			if old.Fence == l.Fence {
				continue
			}
			old.revoke()
		}
		i := slices.IndexFunc(all, func(s *start) bool { return l.Start != 0 && s.of.Start == l.Start })
		if i < 0 {
			i = len(all)
			all = append(all, &start{agent: a, of: l, gives: a.keeps(l.Devices)}) // it was leased before the service heard of it
		}
		j := &job{Lease: l, agent: a, start: all[i]}
		all[i].left, a.jobs[l.Lease] = append(all[i].left, j), j
	}
	for _, s := range all {
		working, stop := context.WithCancel(ctx)
		s.stop, a.starts[s] = stop, true
		jobs := slices.Clone(s.left)
		a.work.Go(func() {
			s.do(ctx, working)
			stop()
			for _, j := range jobs {
				s.drop(j)
			}
			a.mu.Lock()
			defer a.mu.Unlock()
			delete(a.starts, s)
		})
	}
}

// retried repeats a call, with growing pauses, while the service cannot be
// reached or has an error of its own.
func retried[T any](ctx context.Context, a *Agent, call func(context.Context) (T, error)) (T, error) {
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		v, err := call(ctx)
		if status := client.Status(err); err == nil || ctx.Err() != nil || (status >= 400 && status < 500) {
			return v, err
		}
		a.Log.Warn("the service does not answer; trying again", "error", err)
		pause(ctx, wait)
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
