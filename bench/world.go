// Package bench measures the programs as they stand, through their interface: it starts PostgreSQL and services over databases
// that it fills with made-up runs of any size, plays their agents and their viewers, and holds what it finds against what was
// asked for.
package bench

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"rotanex.example/api/client"
	"rotanex.example/processes"
	"rotanex.example/service/postgres"
)

// Config is what measuring needs.
type Config struct {
	Bin    string // folder of the programs
	State  string // an empty folder
	Frames int    // of the large run
	Ended  int    // runs behind it
	Agents int    // that render
	Idle   int    // that wait beside them
	For    time.Duration
	Rounds int
	Only   string    // a part alone; "": all
	Hold   bool      // stay as it is made, to be looked at
	Out    io.Writer // what is being done
}

// world is a PostgreSQL server with the services over its databases.
type world struct {
	Config
	group processes.Group
	db    *postgres.Server
}

func open(ctx context.Context, c Config) (*world, error) {
	w := &world{Config: c}
	w.group.Logs = filepath.Join(c.State, "logs")
	var err error
	w.db, err = postgres.Start(ctx, filepath.Join(c.State, "postgres"))
	return w, err
}

func (w *world) close() error { return errors.Join(w.group.End(), w.db.Stop()) }

func (w *world) say(format string, args ...any) { _, _ = fmt.Fprintf(w.Out, format+"\n", args...) }

// house is a service over a database of its own.
type house struct {
	*world
	name     string
	database string
	address  string
	service  *processes.Process
	token    string
}

// program runs one of PostgreSQL's programs.
func program(ctx context.Context, stdin io.Reader, name string, args ...string) (string, error) {
	folder, err := postgres.Programs()
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(folder, name), args...)
	var said, trouble bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = stdin, &said, &trouble
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("%s: %w: %s", name, err, trouble.String())
	}
	return said.String(), nil
}

// sql has statements carried out, with psql's variables.
func sql(ctx context.Context, database, statements string, variables map[string]any) (string, error) {
	args := []string{"-X", "-q", "-t", "-A", "-v", "ON_ERROR_STOP=1", "-d", database}
	for name, value := range variables {
		args = append(args, "-v", fmt.Sprintf("%s=%v", name, value))
	}
	return program(ctx, strings.NewReader(statements), "psql", append(args, "-f", "-")...)
}

// until waits for something, at most three minutes.
func until(ctx context.Context, what string, is func() bool) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	for !is() {
		select {
		case <-ctx.Done():
			return fmt.Errorf("waiting for %s: %w", what, ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

// start starts a service over a new database, which has what a service makes by itself.
func (w *world) start(ctx context.Context, name string) (*house, error) {
	if _, err := sql(ctx, w.db.URL(), "CREATE DATABASE "+name+";", nil); err != nil {
		return nil, err
	}
	at, err := processes.Address(0)
	if err != nil {
		return nil, err
	}
	h := &house{world: w, name: name, database: w.db.URLFor(name), address: "http://" + at}
	h.service, err = w.group.Start(name, append(processes.Environment(w.Bin), "ROTANEX_DATABASE_URL="+h.database), filepath.Join(w.Bin, "rotanex-service"),
		"--listen", at, "--state-dir", filepath.Join(w.State, name), "--policy", "off")
	if err != nil {
		return nil, err
	}
	if err := until(ctx, name, h.ready); err != nil {
		return nil, err
	}
	said, err := os.ReadFile(w.group.Log(name))
	_, rest, _ := strings.Cut(string(said), "shown this once: ")
	h.token, _, _ = strings.Cut(rest, "\n")
	return h, err
}

func (h *house) ready() bool {
	answer, err := (&http.Client{Timeout: time.Second}).Get(h.address + "/readyz")
	if err != nil {
		return false
	}
	_ = answer.Body.Close()
	return answer.StatusCode == http.StatusOK
}

// as is a client with a token. All clients of a process share connections.
func (h *house) as(token string) (*client.Client, error) {
	return client.NewClient(h.address+"/api/v1", client.WithHTTPClient(client.Await{Doer: &http.Client{Transport: wire, Timeout: 2 * time.Minute}}),
		client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		}))
}

var wire = &http.Transport{MaxIdleConns: 10_000, MaxIdleConnsPerHost: 10_000}

//go:embed seed.sql
var seed string

// fill puts runs and hosts into the service's database, and has the server clean up and take its statistics, as it would have in the life
// of a studio, in which they come one after another.
func (h *house) fill(ctx context.Context, variables map[string]any) error {
	all := map[string]any{"agents": h.Agents + h.Idle, "rendering": h.Agents, "frames": h.Frames, "shots": 1, "ended": 0, "ended_frames": 100, "booked": 1, "now": time.Now().UTC().Format(time.RFC3339)}
	for name, value := range variables {
		all[name] = value
	}
	began := time.Now()
	_, err := sql(ctx, h.database, seed, all)
	if err == nil {
		_, err = sql(ctx, h.database, "VACUUM (ANALYZE);\nCHECKPOINT;", nil)
	}
	h.say("  %s filled in %s", h.name, time.Since(began).Round(time.Second))
	return err
}

// usage is the processor time that a process and those below it have used, in seconds, and the memory that it holds, in bytes.
func usage(pid int) (cpu float64, memory int64) {
	const hertz = 100 // of the kernel's counters, on every machine that this runs on
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, 0
	}
	fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
	for _, i := range []int{11, 12, 13, 14} { // its own and that of its children that ended
		n, _ := strconv.ParseFloat(fields[i], 64)
		cpu += n / hertz
	}
	pages, _ := strconv.ParseInt(fields[21], 10, 64)
	return cpu, pages * int64(os.Getpagesize())
}

// used is the processor time of a service and of PostgreSQL's processes, in seconds.
func (h *house) used() (service, database float64) {
	service, _ = usage(h.service.Pid())
	database, _ = usage(h.db.Pid())
	children, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", h.db.Pid()))
	for _, file := range children {
		data, _ := os.ReadFile(file)
		for _, pid := range strings.Fields(string(data)) {
			n, _ := strconv.Atoi(pid)
			cpu, _ := usage(n)
			database += cpu
		}
	}
	return service, database
}

func median(all []float64) float64 { return quantile(all, 0.5) }

func quantile(all []float64, q float64) float64 {
	if len(all) == 0 {
		return 0
	}
	sorted := append([]float64{}, all...)
	sort.Float64s(sorted)
	return sorted[min(len(sorted)-1, int(q*float64(len(sorted))))]
}
