package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

// An agent's desk is talked to on the machine itself, over a socket in the file system:
// HTTP with JSON, GET /desk, PUT /desk/lent and PUT /desk/taken-back, the last two with
// {"until": RFC 3339 time} or {}, all of which answer with the status. No token is needed:
// the kernel lets in nobody but the socket's owner and root.

// SocketName is the socket's name in an agent's state folder.
const SocketName = "desk.sock"

// order is what is said over the socket.
type order struct {
	Until time.Time `json:"until,omitzero"`
}

// Serve answers on the socket in a folder until ctx ends. The socket belongs to the user
// of that name; "": to who runs the agent.
func (d *Desk) Serve(ctx context.Context, folder, owner string) error {
	path := filepath.Join(folder, SocketName)
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "unix", path)
	if err != nil {
		return fmt.Errorf("the desk's socket: %w", err)
	}
	if err := own(path, folder, owner); err != nil {
		return errors.Join(err, listener.Close())
	}
	server := &http.Server{Handler: d.handler(), ReadTimeout: 5 * time.Second, WriteTimeout: 5 * time.Second, MaxHeaderBytes: 4 << 10}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// own gives the socket to its owner alone. Others may go through the folder to it, but not
// list or read what else lies there.
func own(path, folder, owner string) error {
	if err := os.Chmod(path, 0o600); err != nil || owner == "" {
		return err
	}
	u, err := user.Lookup(owner)
	if err != nil {
		return fmt.Errorf("--desk-owner %s: %w", owner, err)
	}
	id, err := strconv.Atoi(u.Uid)
	if err == nil {
		err = os.Chown(path, id, -1)
	}
	if err != nil {
		return fmt.Errorf("--desk-owner %s: only root may give the desk's socket away: %w", owner, err)
	}
	info, err := os.Stat(folder)
	if err != nil {
		return err
	}
	return os.Chmod(folder, info.Mode().Perm()|0o011)
}

func (d *Desk) handler() http.Handler {
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, s Status, err error) {
		w.Header().Set("Content-Type", "application/json")
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			_ = json.NewEncoder(w).Encode(map[string]string{"detail": err.Error()})
			return
		}
		_ = json.NewEncoder(w).Encode(s)
	}
	mux.HandleFunc("GET /desk", func(w http.ResponseWriter, _ *http.Request) { answer(w, d.Status(), nil) })
	for path, say := range map[string]func(context.Context, time.Time) (Status, error){"PUT /desk/lent": d.Lend, "PUT /desk/taken-back": d.TakeBack} {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			var o order
			var s Status
			err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&o)
			if err == nil {
				s, err = say(r.Context(), o.Until)
			}
			answer(w, s, err)
		})
	}
	return mux
}

// Ask is how the desk of the agent with a state folder stands.
func Ask(ctx context.Context, folder string) (Status, error) {
	return call(ctx, folder, http.MethodGet, "/desk", nil)
}

// Tell says to the agent with a state folder that its desk is lent, or taken back, until a
// time; zero: without an end.
func Tell(ctx context.Context, folder string, state State, until time.Time) (Status, error) {
	body, err := json.Marshal(order{Until: until})
	if err != nil {
		return Status{}, err
	}
	return call(ctx, folder, http.MethodPut, "/desk/"+string(state), body)
}

func call(ctx context.Context, folder, method, path string, body []byte) (s Status, err error) {
	socket := filepath.Join(folder, SocketName)
	client := http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		},
	}}
	request, err := http.NewRequestWithContext(ctx, method, "http://desk"+path, bytes.NewReader(body))
	if err != nil {
		return s, err
	}
	answer, err := client.Do(request)
	if err != nil {
		return s, unreachable(socket, err)
	}
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err == nil && answer.StatusCode != http.StatusOK {
		var problem struct{ Detail string }
		_ = json.Unmarshal(data, &problem)
		return s, errors.New(problem.Detail)
	}
	if err == nil {
		err = json.Unmarshal(data, &s)
	}
	return s, err
}

// unreachable says what keeps one from an agent's desk.
func unreachable(socket string, err error) error {
	switch {
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("%s: this desk is somebody else's: its agent was started with another --desk-owner", socket)
	case errors.Is(err, os.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("%s: no agent of a desk runs here: start rotanex-agent with --desk, or say its --state-dir", socket)
	}
	return err
}
