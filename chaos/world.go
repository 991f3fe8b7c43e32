package chaos

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"rotanex.example/api/client"
	"rotanex.example/processes"
	"rotanex.example/service/postgres"
)

//go:embed stock.yaml
var stockFile []byte

// scene is one whose frames take about a minute and a half on the better devices.
const scene = `title: Coda
frames: 1000
prepare_s: 4
load_gb: 1
work_s: 120
finish_s: 1
variation: 0.4
noise: 0.02
device_memory_gb: 3
hue: 0.7
`

const (
	clockStart = "2031-03-07T18:00:00Z"
	factor     = 40
	patience   = 4 * time.Minute // for any one thing
)

var (
	owned = []string{"bellows", "capstan", "dory", "eddy"}
	timed = []string{"bellows/g0", "bellows/g1", "capstan/g0", "dory/cpu", "eddy/g0"}
)

// world is everything that runs.
type world struct {
	Config
	group    processes.Group
	db       *postgres.Server
	services []*processes.Process
	agents   []*processes.Process
	hire     *processes.Process
	farm     *processes.Process
	address  []string // of the services
	outside  map[string]string
	token    string
	client   *client.Client
	shots    int
	times    string // of frames of coda-000, as CSV
}

func (w *world) say(format string, args ...any) { _, _ = fmt.Fprintf(w.Out, format+"\n", args...) }

func (w *world) folder(name string) string { return filepath.Join(w.State, name) }

func (w *world) program(name string) string { return filepath.Join(w.Bin, name) }

func (w *world) close() error {
	err := w.group.End()
	if w.db != nil {
		err = errors.Join(err, w.db.Stop())
	}
	return errors.Join(err, w.leftovers())
}

// setUp starts everything and tells the service what there is.
func (w *world) setUp(ctx context.Context) (err error) {
	w.group.Logs = w.folder("logs")
	if err := errors.Join(os.MkdirAll(w.folder("scenes"), 0o755), os.WriteFile(w.folder("scenes/coda.yaml"), []byte(scene), 0o600), os.WriteFile(w.folder("stock.yaml"), stockFile, 0o600)); err != nil {
		return err
	}
	if w.db, err = postgres.Start(ctx, w.folder("postgres")); err != nil {
		return err
	}
	if err := w.startServices(ctx); err != nil {
		return err
	}
	if err := w.startOutside(); err != nil {
		return err
	}
	for _, args := range [][]string{{"hosts", "import", w.folder("stock.yaml")}, {"sources", "import", w.folder("addresses.yaml")}} {
		if _, err := w.rotanex(ctx, args...); err != nil {
			return err
		}
	}
	if err := w.startAgents(ctx); err != nil {
		return err
	}
	if err := w.putShot(ctx, "coda-000", "1-100", false); err != nil {
		return err
	}
	args := []string{"trials", "run", "coda-000", "--frames", "3"}
	for _, crew := range timed {
		args = append(args, "--crew", crew)
	}
	if _, err = w.rotanex(ctx, args...); err != nil {
		return err
	}
	w.times, err = w.rotanex(ctx, "times", "export", "coda-000")
	return err
}

func (w *world) startServices(ctx context.Context) error {
	for range 2 {
		at, err := processes.Address(0)
		if err != nil {
			return err
		}
		w.address = append(w.address, "http://"+at)
	}
	all := strings.Join(w.address, ",")
	for i, at := range w.address {
		p, err := w.group.Start(fmt.Sprintf("service-%d", i+1), append(processes.Environment(w.Bin), "ROTANEX_DATABASE_URL="+w.db.URL()), w.program("rotanex-service"),
			"--listen", strings.TrimPrefix(at, "http://"), "--address", all, "--state-dir", w.folder(fmt.Sprintf("service-%d", i+1)), "--blobs", w.folder("blobs"), "--key-file", w.folder("key"),
			"--clock-start", clockStart, "--clock-factor", strconv.Itoa(factor))
		if err != nil {
			return err
		}
		w.services = append(w.services, p)
		if err := w.until(ctx, p.Name+" to be ready", func() (bool, error) { return ready(at), nil }); err != nil {
			return err
		}
	}
	said, err := os.ReadFile(w.group.Log("service-1"))
	if err != nil {
		return err
	}
	_, rest, _ := strings.Cut(string(said), "shown this once: ")
	w.token, _, _ = strings.Cut(rest, "\n")
	anywhere, err := client.ParseAddresses(all)
	if err != nil {
		return err
	}
	anywhere.Doer = &http.Client{Timeout: 10 * time.Second}
	w.client, err = client.NewClient(anywhere.First()+"/api/v1", client.WithHTTPClient(anywhere), client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+w.token)
		return nil
	}))
	return err
}

func ready(address string) bool {
	answer, err := (&http.Client{Timeout: time.Second}).Get(address + "/readyz")
	if err != nil {
		return false
	}
	_ = answer.Body.Close()
	return answer.StatusCode == http.StatusOK
}

// startOutside starts the company and the farm, and writes down where they are.
func (w *world) startOutside() (err error) {
	w.outside = map[string]string{}
	for _, source := range []string{"tern", "saltmarsh"} {
		at, err := processes.Address(0)
		if err != nil {
			return err
		}
		w.outside[source] = "http://" + at
	}
	common := func(source string) []string {
		return []string{"--source", source, "--listen", strings.TrimPrefix(w.outside[source], "http://"), "--folder", w.folder(source), "--clock-factor", strconv.Itoa(factor)}
	}
	args := append([]string{"hire", "--offers", w.folder("stock.yaml")}, common("tern")...)
	args = append(args, "--", w.program("rotanex-agent"), "--scenes", os.TempDir(), "--allow", "simulated")
	if w.hire, err = w.group.Start("tern", processes.Environment(w.Bin), w.program("rotanex-simulator"), args...); err != nil {
		return err
	}
	args = append([]string{"farm", "--tiers", w.folder("stock.yaml"), "--analysis", "1m", "--fail-one-in", "9"}, common("saltmarsh")...)
	if w.farm, err = w.group.Start("saltmarsh", processes.Environment(w.Bin), w.program("rotanex-simulator"), args...); err != nil {
		return err
	}
	var file bytes.Buffer
	fmt.Fprintf(&file, "sources:\n")
	for _, line := range strings.Split(string(stockFile), "\n") { // the sources as they are, each with its address
		if name, is := strings.CutPrefix(line, "  - name: "); is && w.outside[name] != "" {
			fmt.Fprintf(&file, "%s\n    address: %s\n    plain: true\n", line, w.outside[name])
			kind := map[string]string{"tern": "kind: rented\n    card: { currency: EUR, tax: \"0.20\" }", "saltmarsh": "kind: farm\n    card: { currency: credits, credit: { price: \"0.02\", currency: EUR } }"}[name]
			fmt.Fprintf(&file, "    %s\n    upload_mb_s: 25\n", kind)
		}
	}
	return os.WriteFile(w.folder("addresses.yaml"), file.Bytes(), 0o600)
}

func (w *world) startAgents(ctx context.Context) error {
	for i, host := range owned {
		token, err := w.rotanex(ctx, "tokens", "join", host)
		if err != nil {
			return err
		}
		all := slices.Clone(w.address)
		if i%2 == 1 {
			slices.Reverse(all)
		}
		p, err := w.group.Start("agent-"+host, append(processes.Environment(w.Bin), "ROTANEX_JOIN_TOKEN="+strings.TrimSpace(token)), w.program("rotanex-agent"),
			"--service", strings.Join(all, ","), "--host", host, "--state-dir", w.folder("agents/"+host), "--scenes", w.folder("scenes"), "--simulate", w.folder("stock.yaml"), "--allow", "simulated", "--threads", "1")
		if err != nil {
			return err
		}
		w.agents = append(w.agents, p)
	}
	for _, host := range owned {
		err := w.until(ctx, "the agent of "+host, func() (bool, error) {
			_, err := os.Stat(filepath.Join(w.folder("agents/"+host), "credential.json"))
			return err == nil, nil
		})
		if err != nil {
			return err
		}
	}
	// From now on an agent that starts again does so with its credential.
	for _, p := range w.agents {
		p.Forget("ROTANEX_JOIN_TOKEN")
	}
	return nil
}

// passes are those of a shot that is rendered amid faults: the second is made of the first, which has files beside its pictures. It does not ask for them, as no farm sends those home.
var passes = []string{"plate", "grade"}

// putShot stores a shot, in passes or by itself, with a package of each.
func (w *world) putShot(ctx context.Context, name, frames string, inPasses bool) error {
	file, in, names := w.folder("shot.yaml"), "", []string{name}
	if inPasses {
		in = fmt.Sprintf(", passes: [{ name: %s, settings: { layers: \"on\" } }, { name: %s, after: [%s] }]", passes[0], passes[1], passes[0])
		names = []string{name + "." + passes[0], name + "." + passes[1]}
	}
	text := fmt.Sprintf("shots:\n  - { name: %s, scene: coda.yaml, frames: %s, width: 64, height: 36, launcher: simulated, settings: { samples: \"16\" }, host_memory_gb: 2, device_memory_gb: 3%s }\n", name, frames, in)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	if _, err := w.rotanex(ctx, "shots", "import", file); err != nil {
		return err
	}
	for _, shot := range names {
		if _, err := w.rotanex(ctx, "packages", "make", shot, w.folder("scenes"), "coda.yaml"); err != nil {
			return err
		}
	}
	return nil
}

// timesOf are the times of the shot that was timed, as those of the passes of another.
func (w *world) timesOf(shot string) string {
	head, rows, _ := strings.Cut(w.times, "\n")
	out := head + "\n"
	for _, pass := range passes {
		out += strings.ReplaceAll(rows, "coda-000", shot+"."+pass)
	}
	return out
}

// rotanex calls the command line at either service, again if it was in vain.
func (w *world) rotanex(ctx context.Context, args ...string) (string, error) {
	var fault error
	for try := range 3 {
		cmd := exec.CommandContext(ctx, w.program("rotanex"), args...)
		cmd.Env = append(processes.Environment(w.Bin), "ROTANEX_SERVICE="+w.address[try%2], "ROTANEX_TOKEN="+w.token)
		var said bytes.Buffer
		cmd.Stderr = &said
		out, err := cmd.Output()
		if err == nil {
			return string(out), nil
		}
		fault = fmt.Errorf("rotanex %s: %w: %s%s", strings.Join(args, " "), err, out, said.String())
		if !pause(ctx, time.Second) {
			break
		}
	}
	return "", fault
}

// asked returns the record that a call of the command line answers with.
func asked[T any](ctx context.Context, w *world, args ...string) (v T, err error) {
	out, err := w.rotanex(ctx, append(args, "--output", "json")...)
	if err == nil {
		err = json.Unmarshal([]byte(out), &v)
	}
	return v, err
}

func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (w *world) until(ctx context.Context, what string, done func() (bool, error)) error {
	limit, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		if ok, err := done(); err != nil || ok {
			return err
		}
		if !pause(limit, 200*time.Millisecond) {
			return fmt.Errorf("waited for %s: %w", what, limit.Err())
		}
	}
}
