package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/go-chi/chi/v5"

	"rotanex.example/core/stock"
	"rotanex.example/service/rental"
)

// Hire is a made-up company that lets servers: it answers Rotanex's protocol for
// rented servers, takes its time to boot one, and then starts an agent there.
type Hire struct {
	Offers      map[string]stock.Offer
	ClockFactor float64
	Folder      string   // where its servers' disks are
	Agent       []string // the agent's command line, to which what a server is told is added
	Log         *slog.Logger

	mu      sync.Mutex
	servers map[string]*machine
	group   sync.WaitGroup
}

type machine struct {
	rental.Order
	state string
	began time.Time
	ended time.Time
	stop  context.CancelFunc
}

// bootShare is how much of an offer's lead time the boot takes.
const bootShare = 0.9

// Handler serves the protocol until ctx ends.
func (h *Hire) Handler(ctx context.Context) http.Handler {
	h.servers = map[string]*machine{}
	r := chi.NewRouter()
	r.Get("/servers", h.list)
	r.Get("/servers/{name}", h.look)
	r.Delete("/servers/{name}", h.end)
	r.Put("/servers/{name}", func(w http.ResponseWriter, r *http.Request) { h.make(ctx, w, r) })
	return r
}

// Wait returns when no server runs any more.
func (h *Hire) Wait() { h.group.Wait() }

func (h *Hire) make(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	var o rental.Order
	if err := json.NewDecoder(r.Body).Decode(&o); err != nil || o.Name != chi.URLParam(r, "name") {
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
	m := &machine{Order: o, state: "booting", began: time.Now()}
	var running context.Context
	running, m.stop = context.WithCancel(ctx)
	h.servers[o.Name] = m
	boot := time.Duration(float64(offer.LeadS) * bootShare / h.ClockFactor * float64(time.Second))
	h.group.Go(func() { h.run(running, m, offer, boot) })
	w.WriteHeader(http.StatusCreated)
}

// run is a server's life: it boots, its agent works, it ends.
func (h *Hire) run(ctx context.Context, m *machine, offer stock.Offer, boot time.Duration) {
	defer h.set(m, "gone")
	select {
	case <-ctx.Done():
		return
	case <-time.After(boot):
	}
	disk := filepath.Join(h.Folder, m.Name)
	defer func() { _ = os.RemoveAll(disk) }() // its disk does not outlive it
	if err := h.install(disk, m.Name, offer); err != nil {
		h.Log.Error("server does not start", "name", m.Name, "error", err)
		return
	}
	args := append([]string{}, h.Agent[1:]...)
	args = append(args, "--service", m.Service, "--host", m.Name, "--join-token", m.JoinToken, "--state-dir", disk, "--simulate", filepath.Join(disk, "machine.json"))
	cmd := exec.CommandContext(ctx, h.Agent[0], args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 5 * time.Second
	h.set(m, "up")
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
	m.state = state
	if state == "gone" {
		m.ended = time.Now()
	}
	h.Log.Info("server", "name", m.Name, "state", state)
}

// meter is what the company's own meter says of a server.
type meter struct {
	rental.Status
	MeteredS float64 `json:"metered_s"` // how long it has existed, in the simulation's seconds
}

func (h *Hire) status(m *machine) meter {
	end := m.ended
	if end.IsZero() {
		end = time.Now()
	}
	return meter{rental.Status{Name: m.Name, Offer: m.Offer, State: m.state}, end.Sub(m.began).Seconds() * h.ClockFactor}
}

func (h *Hire) list(w http.ResponseWriter, _ *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := []meter{}
	for _, m := range h.servers {
		out = append(out, h.status(m))
	}
	answer(w, out)
}

func (h *Hire) look(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	m := h.servers[chi.URLParam(r, "name")]
	if m == nil {
		http.Error(w, "there is no such server", http.StatusNotFound)
		return
	}
	answer(w, h.status(m))
}

func (h *Hire) end(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	m := h.servers[chi.URLParam(r, "name")]
	if m == nil {
		http.Error(w, "there is no such server", http.StatusNotFound)
		return
	}
	m.stop()
	w.WriteHeader(http.StatusNoContent)
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}
