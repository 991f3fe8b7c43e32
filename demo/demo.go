// Package demo sets the whole of Rotanex up on one machine, faster than life, and
// does the main job on the Lanternfish scenario: stock, trials, plan, run,
// download, account. Everything it starts it also ends.
package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"rotanex.example/api"
	"rotanex.example/core/stock"
	"rotanex.example/processes"
	"rotanex.example/service/postgres"
)

// Config is how the demo is set.
type Config struct {
	Bin   string // folder of the binaries
	Data  string // folder of the scenario
	State string // folder of everything that is kept
	Once  bool   // end when the job is done
	Out   io.Writer
}

// The story: Friday 18:00 at Lanternfish. A minute passes in a second and a half:
// faster, and what the demo itself costs of this machine counts for rendering.
const (
	clockStart  = "2031-03-07T18:00:00Z"
	clockFactor = "40"
	deadline    = "+4h00m"
	begins      = "+12m" // at forty times life planning takes some minutes of it
	contingency = "20"   // for servers that are let on the way
)

var planned = []string{"orrery-010", "orrery-020", "stair-030", "storm-050"}

// renderedAs is how many shots those are with the passes of stair-030 each for itself.
const renderedAs = 6

// packaged is what of the scenes each shot needs that may be rendered elsewhere.
var packaged = map[string]string{"orrery-020": "gears.yaml", "stair-030.beauty": "stair.yaml", "storm-050": "storm.yaml storm"}

// trials are the crews that are timed, by shot. What is not timed is predicted
// from like devices.
var trials = map[string][]string{
	"orrery-010": {"dory/cpu", "bellows/cpu"},
	"orrery-020": {"bellows/g0", "bellows/g1", "capstan/g0", "eddy/g0", "eddy/g0+g1"},
	"storm-050":  {"dory/cpu", "eddy/cpu", "desk-ada/cpu"},

	"stair-030.beauty":    {"eddy/g0"},
	"stair-030.occlusion": {"dory/cpu", "bellows/cpu"},
	"stair-030.composite": {"dory/cpu", "bellows/cpu"}, // of the frames that were timed of the other two
}

// trialFrames is how many frames of a shot are timed: of the ray tracer's short
// ones more, so that they last as long as the others'.
var trialFrames = map[string]string{
	"orrery-010": "12", "orrery-020": "5", "storm-050": "5", "stair-030.beauty": "5", "stair-030.occlusion": "5", "stair-030.composite": "5",
}

// swept are the shots of which a sweep finds out how every crew would do, each within
// the story time given.
var swept = [][2]string{{"coda-060", "40m"}, {"stair-030.beauty", "30m"}}

// povrayHosts may start the real ray tracer. They share this machine's cores, so
// they are few.
var povrayHosts = map[string]bool{"dory": true, "bellows": true}

// Demo is a running demo.
type Demo struct {
	Config
	processes processes.Group
	address   string
	token     string
	outside   []outside
	board     board
	late      error // by how much the deadline was missed; nil: it was not
}

// errOver is that a demo was cut off before its run began, so long ago that its weekend is over: clocks that
// were started go on.
var errOver = errors.New("the demo in the state folder was cut off before its run began, and its weekend is over")

// Run does the demo. It returns nil when everything that was to be rendered was
// rendered, checked and downloaded, and with Once in time as well.
func Run(ctx context.Context, c Config) error {
	err := play(ctx, c)
	if !errors.Is(err, errOver) {
		return err
	}
	for _, name := range []string{"postgres", "pictures", "agents", "frames", "outside", "proofs", "logs", "secrets.key", "admin-token"} {
		if err := os.RemoveAll(filepath.Join(c.State, name)); err != nil {
			return err
		}
	}
	return play(ctx, c)
}

// play is a demo from its start, or from where it was cut off.
func play(ctx context.Context, c Config) (err error) {
	d := &Demo{Config: c}
	if d.State, err = filepath.Abs(d.State); err != nil {
		return err
	}
	if err := os.MkdirAll(d.State, 0o755); err != nil {
		return err
	}
	d.processes.Logs = filepath.Join(d.State, "logs")
	began := time.Now()
	d.say("Starting PostgreSQL on loopback, data in %s", d.State)
	db, err := postgres.Start(ctx, filepath.Join(d.State, "postgres"))
	if err != nil {
		return err
	}
	defer func() {
		d.say("Ending everything that was started")
		err = errors.Join(err, d.processes.End(), d.board.server.Close(), db.Stop())
	}()
	if err := d.setUp(ctx, db.URL()); err != nil {
		return err
	}
	d.say("Up after %.1f s", time.Since(began).Seconds())
	if err := d.job(ctx); err != nil {
		return err
	}
	d.say("Console:  %s", d.address)
	d.say("Token:    %s", d.token)
	if d.Once {
		return d.late
	}
	d.say("Serving until Ctrl-C. The command line:  export ROTANEX_SERVICE=%s ROTANEX_TOKEN=%s PATH=$PATH:%s", d.address, d.token, d.Bin)
	<-ctx.Done()
	return nil
}

func (d *Demo) say(format string, args ...any) {
	_, _ = fmt.Fprintf(d.Out, "▸ "+format+"\n", args...)
}

// setUp starts the service, the rented source and the agents.
func (d *Demo) setUp(ctx context.Context, database string) error {
	listen, err := processes.Address(7070)
	if err != nil {
		return err
	}
	d.address = "http://" + listen
	d.say("Starting the service on %s; its clock runs %s times as fast as life", d.address, clockFactor)
	if _, err := d.processes.Start("service", append(processes.Environment(d.Bin), "ROTANEX_DATABASE_URL="+database), filepath.Join(d.Bin, "rotanex-service"),
		"--state-dir", d.State, "--listen", listen,
		"--clock-start", clockStart, "--clock-factor", clockFactor); err != nil {
		return err
	}
	if err := d.awaitReady(ctx); err != nil {
		return err
	}
	if err := d.readToken(); err != nil {
		return err
	}
	stockFile, scenes := filepath.Join(d.Data, "stock.yaml"), filepath.Join(d.Data, "scenes")
	if err := d.startOutside(stockFile); err != nil {
		return err
	}
	if err := d.rotanex(ctx, "hosts", "import", stockFile); err != nil {
		return err
	}
	if err := d.reachOutside(ctx); err != nil {
		return err
	}
	if err := d.rotanex(ctx, "exchange-rates", "import", filepath.Join(d.Data, "rates.csv")); err != nil {
		return err
	}
	if err := d.rotanex(ctx, "shots", "import", filepath.Join(d.Data, "shots.yaml")); err != nil {
		return err
	}
	if err := d.startBoard(ctx); err != nil {
		return err
	}
	return d.startAgents(ctx, stockFile, scenes)
}

func (d *Demo) startAgents(ctx context.Context, stockFile, scenes string) error {
	data, err := os.ReadFile(stockFile)
	if err != nil {
		return err
	}
	var file struct {
		Hosts []stock.Host `yaml:"hosts"`
	}
	if err := yaml.Unmarshal(data, &file); err != nil {
		return err
	}
	var names []string
	for _, h := range file.Hosts {
		allow := "simulated"
		if povrayHosts[h.Name] {
			allow = "simulated,povray"
		}
		folder := filepath.Join(d.State, "agents", h.Name)
		scenes := scenes
		if h.Name == incomplete {
			if scenes, err = partOf(scenes, filepath.Join(folder, "scenes")); err != nil {
				return err
			}
		}
		args := []string{"--service", d.address, "--host", h.Name, "--state-dir", folder, "--scenes", scenes, "--simulate", stockFile, "--allow", allow, "--threads", "1", "--nice", "10"}
		if strings.HasPrefix(h.Name, "desk-") { // nobody has touched it all day
			args = append(args, "--desk", "--desk-idle-command", "echo 86400")
		}
		if _, err := os.Stat(filepath.Join(folder, "credential.json")); err != nil {
			token, err := d.output(ctx, "tokens", "join", h.Name)
			if err != nil {
				return err
			}
			args = append(args, "--join-token", strings.TrimSpace(string(token)))
		}
		if _, err := d.processes.Start("agent-"+h.Name, processes.Environment(d.Bin), filepath.Join(d.Bin, "rotanex-agent"), args...); err != nil {
			return err
		}
		names = append(names, h.Name)
	}
	d.say("Starting the agents of %s", strings.Join(names, ", "))
	return d.until(ctx, "the agents to come up", func() (bool, error) {
		up := 0
		hosts, err := asked[[]api.Host](d, ctx, "hosts", "list")
		for _, h := range hosts {
			if h.Agent == api.HostAgentUp && !h.Server {
				up++
			}
		}
		return up >= len(names), err
	})
}

// incomplete is the host to which somebody forgot to copy an input file.
const (
	incomplete = "desk-brin"
	forgotten  = "storm/spray.vdb"
)

// partOf copies the scenes without the file that was forgotten.
func partOf(scenes, to string) (string, error) {
	if err := os.RemoveAll(to); err != nil {
		return "", err
	}
	if err := os.CopyFS(to, os.DirFS(scenes)); err != nil {
		return "", err
	}
	return to, os.Remove(filepath.Join(to, filepath.FromSlash(forgotten)))
}

func (d *Demo) awaitReady(ctx context.Context) error {
	return d.until(ctx, "the service to be ready", func() (bool, error) {
		answer, err := http.Get(d.address + "/readyz")
		if err != nil {
			return false, nil
		}
		_ = answer.Body.Close()
		return answer.StatusCode == http.StatusOK, nil
	})
}

// readToken takes the first admin token from what the service printed at its very
// first start, and keeps it for the next.
func (d *Demo) readToken() error {
	kept := filepath.Join(d.State, "admin-token")
	if data, err := os.ReadFile(kept); err == nil {
		d.token = strings.TrimSpace(string(data))
		return nil
	}
	said, err := os.ReadFile(d.processes.Log("service"))
	if err != nil {
		return err
	}
	_, rest, found := strings.Cut(string(said), "shown this once: ")
	if !found {
		return fmt.Errorf("the service printed no token; remove %s to start afresh", d.State)
	}
	d.token, _, _ = strings.Cut(rest, "\n")
	return os.WriteFile(kept, []byte(d.token+"\n"), 0o600)
}

// patience is how long the demo waits for any one thing.
const patience = 3 * time.Minute

func (d *Demo) until(ctx context.Context, what string, done func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		ok, err := done()
		if err != nil || ok {
			return err
		}
		if name := d.processes.Dead(); name != "" {
			return fmt.Errorf("%s ended by itself; see %s", name, d.processes.Log(name))
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("waited for %s: %w", what, ctx.Err())
		case <-time.After(150 * time.Millisecond):
		}
	}
}

// command is a call of the command line.
func (d *Demo) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(d.Bin, "rotanex"), args...)
	cmd.Env = append(processes.Environment(d.Bin), "ROTANEX_SERVICE="+d.address, "ROTANEX_TOKEN="+d.token)
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 5 * time.Second
	cmd.Stdout, cmd.Stderr = d.Out, d.Out
	return cmd
}

// rotanex shows a call and its output, as a person would type and read it.
func (d *Demo) rotanex(ctx context.Context, args ...string) error {
	shown := make([]string, len(args))
	for i, a := range args {
		shown[i] = strings.TrimPrefix(strings.TrimPrefix(a, d.Data+"/"), d.State+"/")
	}
	_, _ = fmt.Fprintf(d.Out, "\n$ rotanex %s\n", strings.Join(shown, " "))
	return d.command(ctx, args...).Run()
}

func (d *Demo) output(ctx context.Context, args ...string) ([]byte, error) {
	cmd := d.command(ctx, args...)
	cmd.Stdout = nil
	return cmd.Output()
}

// asked returns the records that a call of the command line lists.
func asked[T any](d *Demo, ctx context.Context, args ...string) (v T, err error) {
	data, err := d.output(ctx, append(args, "--output", "json")...)
	if err == nil {
		err = json.Unmarshal(data, &v)
	}
	return v, err
}
