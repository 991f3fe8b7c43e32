package demo

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/pricing"
	"rotanex.example/processes"
	"rotanex.example/providers"
)

// outside is the simulator of a source that is not one's own.
type outside struct {
	source  string
	port    int
	args    []string // of its program
	listens string
	secret  string
}

// outsiders are the sources and what goes wrong in the story: the first server that
// Skerry lets dies, and at Gannet one frame in twelve fails.
var outsiders = []outside{
	{source: "tern", port: 7081, args: []string{"hire"}},
	{source: "skerry", port: 7082, args: []string{"hire", "--fate", "1:dies=35m"}},
	{source: "saltmarsh", port: 7091, args: []string{"farm", "--analysis", "2m"}},
	{source: "gannet", port: 7092, args: []string{"farm", "--analysis", "3m", "--fail-one-in", "12"}},
}

// startOutside starts the simulators of rented sources and farms. Each wants a secret
// of its own.
func (d *Demo) startOutside(stockFile string) (err error) {
	var names []string
	for _, o := range outsiders {
		if o.listens, err = processes.Address(o.port); err != nil {
			return err
		}
		o.secret = rand.Text()
		file := "--offers"
		if o.args[0] == "farm" {
			file = "--tiers"
		}
		args := append(slices.Clone(o.args), file, stockFile, "--source", o.source, "--listen", o.listens, "--folder", filepath.Join(d.State, "outside", o.source), "--clock-factor", clockFactor)
		if o.args[0] == "hire" {
			// Their servers have no scenes: what they render comes as a package.
			args = append(args, "--", filepath.Join(d.Bin, "rotanex-agent"), "--scenes", os.TempDir(), "--allow", "simulated")
		}
		if _, err := d.processes.Start(o.source, append(processes.Environment(d.Bin), "ROTANEX_STANDIN_SECRET="+o.secret), filepath.Join(d.Bin, "rotanex-simulator"), args...); err != nil {
			return err
		}
		d.outside = append(d.outside, o)
		names = append(names, o.source+" on "+o.listens)
	}
	d.say("Starting the simulators of %s", strings.Join(names, ", "))
	return nil
}

// reachOutside stores where the sources are reached and the secrets for it.
func (d *Demo) reachOutside(ctx context.Context) error {
	all, err := asked[[]api.Source](d, ctx, "sources", "list")
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "rotanex-demo")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(folder) }()
	var specs []api.SourceSpec
	for _, s := range all {
		for _, o := range d.outside {
			if o.source == s.Spec.Name {
				s.Spec.Address = "http://" + o.listens
				specs = append(specs, s.Spec)
			}
		}
	}
	data, err := json.Marshal(map[string]any{"sources": specs}) // JSON is YAML
	if err != nil {
		return err
	}
	file := filepath.Join(folder, "addresses.yaml")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		return err
	}
	if _, err := d.output(ctx, "sources", "import", file); err != nil {
		return err
	}
	for _, o := range d.outside {
		secret := filepath.Join(folder, o.source)
		if err := os.WriteFile(secret, []byte(o.secret), 0o600); err != nil {
			return err
		}
		if _, err := d.output(ctx, "sources", "secret", o.source, "--file", secret); err != nil {
			return err
		}
	}
	return nil
}

// pack gathers the packages of the shots that may be rendered elsewhere.
func (d *Demo) pack(ctx context.Context) error {
	for _, shot := range planned {
		if files := packaged[shot]; files != "" {
			if err := d.rotanex(ctx, append([]string{"packages", "make", shot, filepath.Join(d.Data, "scenes")}, strings.Fields(files)...)...); err != nil {
				return err
			}
		}
	}
	return nil
}

// looked is how long a person looks at proof frames.
const looked = 5 * time.Second

// judgeProofs accepts the proof frames of farms' jobs as they come, as a person would
// who has looked at them, until ctx ends.
func (d *Demo) judgeProofs(ctx context.Context, run string) {
	seen := map[string]time.Time{}
	for ctx.Err() == nil { // a wait is bounded, and a run may take longer
		d.judge(ctx, run, seen)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// judge accepts what waits for a person, until a wait is over.
func (d *Demo) judge(ctx context.Context, run string, seen map[string]time.Time) {
	_ = d.until(ctx, "proof frames", func() (bool, error) {
		jobs, err := asked[[]api.FarmJob](d, ctx, "farms", "jobs", run)
		for _, j := range jobs {
			id := j.Id.String()[:8]
			if err != nil || j.State != api.FarmJobStateHeld || j.Accepted != nil {
				continue
			}
			if seen[id].IsZero() {
				seen[id] = time.Now()
			} else if time.Since(seen[id]) > looked {
				_, err = d.output(ctx, "farms", "proofs", id, "--run", run, "--to", filepath.Join(d.State, "proofs"), "--accept")
			}
		}
		return false, err
	})
}

// agree holds the ledger against what the sources' own meters say.
func (d *Demo) agree(ctx context.Context, run api.Run) error {
	for _, o := range d.outside {
		entries, err := asked[api.EntryList](d, ctx, "entries", run.Id.String()[:8], "--source", o.source)
		if err != nil {
			return err
		}
		meter, err := d.metered(ctx, o, run)
		if err != nil {
			return err
		}
		factor := ""
		sources, err := asked[[]api.Source](d, ctx, "sources", "list")
		for _, s := range sources {
			if s.Spec.Name == o.source {
				factor = s.Factor
			}
		}
		if err != nil {
			return err
		}
		by, err := pricing.ParseMoney(factor)
		if err != nil {
			return err
		}
		want := meter.Scaled(by.Rat())
		d.say("%-10s its meters say %s, which is %s %s; the ledger says %s", o.source, meter, entries.Currency, want, entries.Charged)
	}
	return nil
}

// metered adds up what a source's own meters say of a run.
func (d *Demo) metered(ctx context.Context, o outside, run api.Run) (sum pricing.Money, err error) {
	remote := providers.Remote{Address: "http://" + o.listens, Secret: o.secret}
	if o.args[0] == "farm" {
		for _, j := range run.FarmJobs {
			if j.Source != o.source || j.State == api.FarmJobStateNotStarted {
				continue
			}
			seen, err := providers.RemoteFarm{Remote: remote}.Look(ctx, j.Id.String())
			if err != nil {
				return sum, fmt.Errorf("the meter of %s: %w", o.source, err)
			}
			sum = sum.Plus(seen.Charge)
		}
		return sum, nil
	}
	all, err := providers.RemoteServers{Remote: remote}.List(ctx, "")
	for _, s := range all {
		if s.Charge != nil && strings.Contains(s.Name, run.Id.String()[:8]) {
			sum = sum.Plus(*s.Charge)
		}
	}
	return sum, err
}
