package simulator

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-chi/chi/v5"

	"rotanex.example/core/stock"
	"rotanex.example/providers"
)

// Hire is a made-up company that lets servers: the reference server of Rotanex's
// protocol for rented servers. It takes its time to boot one, longer for a blank one
// than from a kept image, starts an agent there, and runs a meter.
type Hire struct {
	Offers      map[string]stock.Offer
	ClockFactor float64
	Folder      string   // where its servers' disks are
	Agent       []string // the agent's command line, to which what a server is told is added
	Secret      string   // bearer token that it wants; none: no
	Fates       map[int]Fate
	Log         *slog.Logger

	mu      sync.Mutex
	servers map[string]*machine
	order   []string
	images  map[string]string // the offer of each
	group   sync.WaitGroup
}

// Fate is what happens to a server, told by how many were asked for before it.
type Fate struct {
	NeverBoots bool
	DiesAfter  time.Duration // by the simulation's clock, from when it is up; 0 is never
}

// ParseFate reads "2:never-boots" or "1:dies=40m".
func ParseFate(text string) (nth int, f Fate, err error) {
	number, what, _ := strings.Cut(text, ":")
	if nth, err = strconv.Atoi(number); err != nil || nth < 1 {
		return 0, f, fmt.Errorf("fate %q: want NUMBER:never-boots or NUMBER:dies=DURATION, such as 1:dies=40m", text)
	}
	if after, found := strings.CutPrefix(what, "dies="); found {
		f.DiesAfter, err = time.ParseDuration(after)
		return nth, f, err
	}
	if f.NeverBoots = what == "never-boots"; !f.NeverBoots {
		err = fmt.Errorf("fate %q: want NUMBER:never-boots or NUMBER:dies=DURATION, such as 1:dies=40m", text)
	}
	return nth, f, err
}

type machine struct {
	providers.Order
	fate  Fate
	state string
	began time.Time
	ended time.Time
	stop  context.CancelFunc
	gone  chan struct{}
	limit *time.Timer // ends it when it has lasted as long as was ordered
}

// bootShare is how much of an offer's lead time the boot takes.
const bootShare = 0.9

// Handler serves the protocol until ctx ends.
func (h *Hire) Handler(ctx context.Context) http.Handler {
	h.servers, h.images = map[string]*machine{}, map[string]string{}
	r := chi.NewRouter()
	r.Use(bearer(h.Secret))
	r.Get("/offers", h.offers)
	r.Get("/servers", h.list)
	r.Get("/servers/{name}", h.on(func(w http.ResponseWriter, m *machine) { answer(w, h.status(m)) }))
	r.Put("/servers/{name}", func(w http.ResponseWriter, r *http.Request) { h.make(ctx, w, r) })
	r.Put("/servers/{name}/lasts", h.prolong)
	r.Post("/servers/{name}/stop", h.on(func(w http.ResponseWriter, m *machine) {
		h.end(m)
		w.WriteHeader(http.StatusNoContent)
	}))
	r.Delete("/servers/{name}", h.on(func(w http.ResponseWriter, m *machine) {
		h.end(m)
		w.WriteHeader(http.StatusNoContent)
	}))
	r.Put("/images/{image}", h.keep)
	return r
}

// bearer refuses who does not send the secret.
func bearer(secret string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if secret != "" && r.Header.Get("Authorization") != "Bearer "+secret {
				http.Error(w, "the token is missing or wrong", http.StatusUnauthorized)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// Wait returns when no server runs any more.
func (h *Hire) Wait() { h.group.Wait() }

func (h *Hire) offers(w http.ResponseWriter, _ *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := []providers.Offered{}
	for name, o := range h.Offers {
		out = append(out, providers.Offered{Name: name, Free: o.MaxServers - h.standing(name), PriceH: o.PriceH})
	}
	slices.SortFunc(out, func(a, b providers.Offered) int { return strings.Compare(a.Name, b.Name) })
	answer(w, out)
}

// standing counts the servers of an offer that did not stop.
func (h *Hire) standing(offer string) (n int) {
	for _, m := range h.servers {
		if m.Offer == offer && m.state != providers.Stopped {
			n++
		}
	}
	return n
}

func (h *Hire) make(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	var o providers.Order
	if err := json.NewDecoder(r.Body).Decode(&o); err != nil || o.Name != param(r, "name") {
		http.Error(w, "want a server's order, with the name of the path", http.StatusBadRequest)
		return
	}
	offer, known := h.Offers[o.Offer]
	if !known {
		http.Error(w, fmt.Sprintf("there is no offer %q", o.Offer), http.StatusUnprocessableEntity)
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.servers[o.Name] != nil {
		w.WriteHeader(http.StatusOK) // it stands already
		return
	}
	if o.Image != "" && h.images[o.Image] != o.Offer {
		http.Error(w, fmt.Sprintf("there is no image %q of %s", o.Image, o.Offer), http.StatusUnprocessableEntity)
		return
	}
	if h.standing(o.Offer) >= offer.MaxServers {
		http.Error(w, fmt.Sprintf("all %d servers of %s are let", offer.MaxServers, o.Offer), http.StatusConflict)
		return
	}
	h.order = append(h.order, o.Name)
	m := &machine{Order: o, state: providers.Booting, began: time.Now(), fate: h.Fates[len(h.order)], gone: make(chan struct{})}
	var running context.Context
	running, m.stop = context.WithCancel(ctx)
	h.servers[o.Name] = m
	lead := offer.BootS
	if o.Image == "" {
		lead += offer.SetupS
	}
	if m.LastsS > 0 {
		m.limit = time.AfterFunc(h.real(m.LastsS), func() { h.over(m) })
	}
	boot := time.Duration(float64(lead) * bootShare / h.ClockFactor * float64(time.Second))
	h.group.Go(func() { h.run(running, m, offer, boot) })
	w.WriteHeader(http.StatusCreated)
}

// real turns seconds of the simulation into real time.
func (h *Hire) real(seconds float64) time.Duration {
	return time.Duration(seconds / h.ClockFactor * float64(time.Second))
}

// over ends a server that has lasted as long as was ordered, to the second.
func (h *Hire) over(m *machine) {
	h.end(m)
	h.mu.Lock()
	defer h.mu.Unlock()
	if at := m.began.Add(h.real(m.LastsS)); m.ended.After(at) {
		m.ended = at
	}
}

// prolong lets a server stand for longer.
func (h *Hire) prolong(w http.ResponseWriter, r *http.Request) {
	var to struct {
		LastsS float64 `json:"lasts_s"`
	}
	err := json.NewDecoder(r.Body).Decode(&to)
	h.mu.Lock()
	defer h.mu.Unlock()
	m := h.servers[param(r, "name")]
	switch {
	case m == nil:
		http.Error(w, "there is no such server", http.StatusNotFound)
	case err != nil || m.state == providers.Stopped:
		http.Error(w, "want for how long in all a server is to stand that does", http.StatusUnprocessableEntity)
	default:
		if m.limit != nil && to.LastsS > m.LastsS && m.limit.Stop() {
			m.LastsS = to.LastsS
			m.limit.Reset(time.Until(m.began.Add(h.real(to.LastsS))))
		}
		w.WriteHeader(http.StatusNoContent)
	}
}

// run is a server's life: it boots, its agent works, it ends.
func (h *Hire) run(ctx context.Context, m *machine, offer stock.Offer, boot time.Duration) {
	defer close(m.gone)
	select {
	case <-ctx.Done():
		return
	case <-time.After(boot):
	}
	if m.fate.NeverBoots {
		<-ctx.Done()
		return
	}
	disk := filepath.Join(h.Folder, m.Name)
	defer func() { _ = os.RemoveAll(disk) }() // its disk does not outlive it
	if err := h.install(disk, m.Name, offer); err != nil {
		h.Log.Error("server does not start", "name", m.Name, "error", err)
		return
	}
	args := append([]string{}, h.Agent[1:]...)
	args = append(args, "--service", m.Service, "--host", m.Name, "--state-dir", disk, "--simulate", filepath.Join(disk, "machine.json"))
	cmd := exec.CommandContext(ctx, h.Agent[0], args...)
	cmd.Env = append(os.Environ(), "ROTANEX_JOIN_TOKEN="+m.JoinToken)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 5 * time.Second
	if after := m.fate.DiesAfter; after > 0 {
		// It dies without a word, all at once.
		died := time.AfterFunc(time.Duration(float64(after)/h.ClockFactor), func() {
			if cmd.Process != nil {
				_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
			}
			h.end(m)
		})
		defer died.Stop()
	}
	h.set(m, providers.Up)
	if err := cmd.Run(); err != nil && ctx.Err() == nil {
		h.Log.Error("server's agent ended", "name", m.Name, "error", err)
	}
}

// install puts onto the server's disk what the agent will find there.
func (h *Hire) install(disk, name string, offer stock.Offer) error {
	data, err := json.Marshal(map[string]any{"hosts": []stock.Host{offer.Server(name)}})
	return errors.Join(err, os.MkdirAll(disk, 0o700), os.WriteFile(filepath.Join(disk, "machine.json"), data, 0o600))
}

func (h *Hire) set(m *machine, state string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if m.state != providers.Stopped {
		m.state = state
	}
	h.Log.Info("server", "name", m.Name, "state", m.state)
}

// end stops a server's meter, and the server.
func (h *Hire) end(m *machine) {
	h.mu.Lock()
	if m.state != providers.Stopped {
		m.state, m.ended = providers.Stopped, time.Now()
		h.Log.Info("server", "name", m.Name, "state", m.state)
	}
	if m.limit != nil {
		m.limit.Stop()
	}
	h.mu.Unlock()
	m.stop()
}

// status is a server with what its meter says.
func (h *Hire) status(m *machine) providers.Server {
	h.mu.Lock()
	defer h.mu.Unlock()
	end := m.ended
	if end.IsZero() {
		end = time.Now()
	}
	existed := time.Duration(float64(end.Sub(m.began)) * h.ClockFactor).Round(time.Millisecond)
	charge := h.Offers[m.Offer].Meter().Charge(existed)
	return providers.Server{Name: m.Name, Owner: m.Owner, Offer: m.Offer, State: m.state, Image: m.Image, Metered: existed.Seconds(), Charge: &charge}
}

func (h *Hire) list(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	var all []*machine
	for _, name := range h.order {
		if owner := r.URL.Query().Get("owner"); owner == "" || owner == h.servers[name].Owner {
			all = append(all, h.servers[name])
		}
	}
	h.mu.Unlock()
	out := []providers.Server{}
	for _, m := range all {
		out = append(out, h.status(m))
	}
	answer(w, out)
}

// on finds the server of the path.
func (h *Hire) on(do func(http.ResponseWriter, *machine)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		m := h.servers[param(r, "name")]
		h.mu.Unlock()
		if m == nil {
			http.Error(w, "there is no such server", http.StatusNotFound)
			return
		}
		do(w, m)
	}
}

func (h *Hire) keep(w http.ResponseWriter, r *http.Request) {
	var of struct {
		Server string `json:"server"`
	}
	err := json.NewDecoder(r.Body).Decode(&of)
	h.mu.Lock()
	defer h.mu.Unlock()
	m := h.servers[of.Server]
	if err != nil || m == nil || m.state != providers.Up {
		http.Error(w, "want the name of a server that is up", http.StatusUnprocessableEntity)
		return
	}
	h.images[param(r, "image")] = m.Offer
	w.WriteHeader(http.StatusNoContent)
}

// param is a piece of the path, as the caller meant it.
func param(r *http.Request, name string) string {
	text := chi.URLParam(r, name)
	if plain, err := url.PathUnescape(text); err == nil && r.URL.RawPath != "" {
		return plain
	}
	return text
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}
