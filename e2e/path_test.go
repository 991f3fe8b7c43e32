package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/cli"
	"rotanex.example/core/stock"
)

// rotanex runs the command line as a person would, and returns the exit status
// and what it printed.
func (h *house) rotanex(args ...string) (int, string, string) {
	h.t.Helper()
	var out, errs bytes.Buffer
	args = append([]string{"--service", h.address, "--token", h.token}, args...)
	status := cli.Main(h.t.Context(), args, strings.NewReader(""), &out, &errs)
	return status, out.String(), errs.String()
}

// good asserts that a command ends well and returns what it printed.
func (h *house) good(args ...string) string {
	h.t.Helper()
	status, out, errs := h.rotanex(args...)
	require.Zero(h.t, status, "rotanex %s: %s%s", strings.Join(args, " "), out, errs)
	return out
}

// bad asserts that a command ends badly and returns what it said.
func (h *house) bad(args ...string) string {
	h.t.Helper()
	status, out, errs := h.rotanex(args...)
	require.NotZero(h.t, status, "rotanex %s: %s%s", strings.Join(args, " "), out, errs)
	return errs
}

func records[T any](h *house, args ...string) (v T) {
	h.t.Helper()
	require.NoError(h.t, json.Unmarshal([]byte(h.good(append(args, "--output", "json")...)), &v))
	return v
}

// The whole job on the command line, with a rented server and frames that fail.
func TestTheWholePath(t *testing.T) {
	folder, films := t.TempDir(), scenes(t)
	slow := strings.Replace(quickScene, "work_s: 2", "work_s: 8", 1)
	require.NoError(t, os.WriteFile(filepath.Join(films, "coda.yaml"), []byte(slow), 0o600))
	tern := stock.Offer{
		Name: "tern-solo", Source: "tern", MaxServers: 5, IncrementS: 60, BootS: 10, ShutdownS: 2, CPU: stock.CPU{Model: "Keel 16", Cores: 16}, MemoryGB: 64,
		Devices: bellows.Devices[:1], Launchers: []string{"simulated"},
	}
	require.NoError(t, tern.PriceH.UnmarshalText([]byte("1.35")))
	data, err := yaml.Marshal(map[string]any{"hosts": []stock.Host{bellows, eddy}, "offers": []stock.Offer{tern}})
	require.NoError(t, err)
	// Which frames bellows takes is not known: of these, which no trial renders, it meets some.
	faulty := []int{1, 2, 3, 4, 5, 6, 8, 9, 10}
	var faults []string
	causeOf := map[int]string{}
	for _, frame := range faulty {
		fault := []string{"crash", "half-written", "half-written", "crash"}[frame%4]
		causeOf[frame] = map[string]string{"crash": "crashed", "half-written": "bad-picture"}[fault]
		faults = append(faults, fmt.Sprintf("%s@%d@bellows", fault, frame))
	}
	failing := strings.Join(faults, ",")
	stockFile, shotsFile := filepath.Join(folder, "stock.yaml"), filepath.Join(folder, "shots.yaml")
	require.NoError(t, os.WriteFile(stockFile, data, 0o600))
	require.NoError(t, os.WriteFile(shotsFile, []byte(`shots:
  - { name: coda-060, title: night sky, scene: coda.yaml, frames: 1-24, width: 64, height: 36, launcher: simulated,
      settings: { fail: "`+failing+`" } }
`), 0o600))

	hire := freePort(t)
	h, _ := newServed(t, database(t))
	launch(t, "rotanex-simulator", "hire", "--listen", hire, "--offers", stockFile, "--folder", t.TempDir(), "--clock-factor", servedFactor,
		"--", filepath.Join(bin, "rotanex-agent"), "--scenes", films, "--allow", "simulated")

	assert.Contains(t, h.good("hosts", "import", stockFile), "Stored 2 hosts, 1 offer")
	sourcesFile := filepath.Join(folder, "sources.yaml")
	require.NoError(t, os.WriteFile(sourcesFile, []byte("sources:\n  - { name: tern, kind: rented, address: \"http://"+hire+"\", card: { currency: EUR } }\n"), 0o600))
	assert.Contains(t, h.good("sources", "import", sourcesFile), "Stored 1 source.")
	assert.Contains(t, h.good("shots", "import", shotsFile), "Stored 1 shot.")
	h.good("packages", "make", "coda-060", films, "coda.yaml")
	h.agentProcess(bellows, t.TempDir(), films)
	h.agentProcess(eddy, t.TempDir(), films)
	h.bothUp()
	assert.Contains(t, h.good("hosts", "show", "bellows"), "Halyard 24 + Halyard 12")

	assert.Contains(t, h.good("trials", "run", "coda-060", "--crew", "bellows/g0", "--crew", "bellows/g1", "--crew", "eddy/g0", "--frames", "2"), "complete")
	trials := records[[]api.Trial](&h.house, "trials", "list", "coda-060")
	require.Len(t, trials, 3)
	for _, trial := range trials {
		assert.Equal(t, 2, trial.Summary.Frames, "the warm-up is not counted")
		require.Len(t, trial.Frames, 3)
		assert.True(t, trial.Frames[0].WarmUp)
		assert.Equal(t, "128", trial.Settings["samples"], "settings are kept as the launcher settled them")
		assert.Equal(t, "ac", trial.Conditions["power"])
		assert.Greater(t, trial.Frames[1].Stages["work"], trial.Frames[1].Stages["finish"])
	}

	h.until("agents to have looked for its files", func() bool {
		_, said, _ := h.rotanex("preflight", "coda-060")
		return !strings.Contains(said, "not yet looked")
	})
	// What it would take on owned machines alone is too long: the status says so.
	status, out, _ := h.rotanex("plan", "coda-060", "--by", "+20s", "--owned-only", "--output", "json")
	require.Equal(t, cli.ExitLate, status, out)
	var alone api.Plan
	require.NoError(t, json.Unmarshal([]byte(out), &alone))
	by := "+" + (alone.Finish.Sub(alone.Start) * 88 / 100).Round(time.Second).String()
	// Sooner than the soonest that they can do takes a server. The cheapest plan is through just in time; how sure that is is not what is asked here.
	plan := records[api.Plan](&h.house, "plan", "coda-060", "--by", by, "--min-chance", "0%")
	require.NotEmpty(t, plan.Servers, "a server is needed to be in time by %s, %s", by, out)
	assert.Contains(t, h.good("plans", "show", "latest"), "no plan costs less than EUR")

	status, _, said := h.rotanex("start", "latest")
	assert.NotZero(t, status, "nobody said that it may be spent")
	assert.Contains(t, said, "pass --yes")
	run := records[api.Run](&h.house, "start", "latest", "--yes")
	assert.Contains(t, h.good("watch", "latest"), "complete: 24 of 24 frames")
	eachDoneOnce(t, h.database, run, 24)
	h.until("the servers to be ended", func() bool {
		for _, v := range h.run(run).Servers {
			if v.State != api.RunServerStateStopped && v.State != api.RunServerStateNotStarted {
				return false
			}
		}
		return true
	})
	failed, done := 0, 0
	for _, frame := range faulty {
		for _, try := range records[api.FrameDetail](&h.house, "frames", "show", "latest", "coda-060", fmt.Sprint(frame)).Tries {
			if try.Cause == "" {
				done++
				continue
			}
			failed++
			assert.Equal(t, causeOf[frame], try.Cause, "frame %d", frame)
			assert.Equal(t, "bellows", try.Host)
		}
	}
	assert.Positive(t, failed, "bellows tried some that fail there")
	assert.Equal(t, len(faults), done, "and each was done in the end")

	collected := filepath.Join(folder, "frames")
	assert.Contains(t, h.good("download", "latest", "--to", collected), "24 copied now, 0 there before")
	one := filepath.Join(collected, "coda-060", "coda-060.0012.png")
	require.NoError(t, os.WriteFile(one, []byte("half a"), 0o600))
	assert.Contains(t, h.good("download", "latest", "--to", collected), "1 copied now, 23 there before")
	sums, err := os.ReadFile(filepath.Join(collected, "coda-060", "SHA256SUMS"))
	require.NoError(t, err)
	picture, err := os.ReadFile(one)
	require.NoError(t, err)
	sum := sha256.Sum256(picture)
	assert.Contains(t, string(sums), hex.EncodeToString(sum[:])+"  coda-060.0012.png")
	assert.Equal(t, 24, strings.Count(string(sums), "\n"))

	rows, err := csv.NewReader(strings.NewReader(h.good("ledger", "latest", "--output", "csv"))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "where", rows[0][0])
	ledger := records[api.Ledger](&h.house, "ledger", "latest")
	assert.Equal(t, 24, ledger.FramesDone)
	rented := 0
	for _, row := range ledger.Rows {
		if row.Source == "tern" {
			rented++
			assert.Positive(t, row.PaidS, "a server that was asked for is paid for")
			assert.NotEqual(t, "0.00", row.Cost)
		}
	}
	assert.Equal(t, len(plan.Servers), rented)
}

func TestSolveAnswersByItsExitStatus(t *testing.T) {
	folder := t.TempDir()
	problem := `{"format":"rotanex-problem-1","start":"2031-03-03T18:00:00Z","currency":"EUR","goal":"cheapest",%s
		"shots":[{"id":"gale-010","frames":10,"ready_s":0,"deadline_s":%s}],
		"hosts":[{"id":"anvil","windows":[[0,5000]],"crews":[{"id":"g0","devices":["g0"],"busy_price_h":"3.60"}]}],
		"timings":[{"shot":"gale-010","host":"anvil","crew":"g0","frame_s":%s}]}`
	for _, c := range []struct {
		name, budget, deadline, frame string
		status                        int
		says                          string
	}{
		{"meets", "", "1000", "100", cli.ExitOK, "meets: EUR 1.00, finish"},
		{"late", "", "999.999", "100", cli.ExitLate, "late: EUR 1.00"},
		{"over", `"budget":"0.99",`, "1000", "100", cli.ExitOverBudget, "over-budget: EUR 1.00"},
		{"impossible", "", "1000", "501", cli.ExitImpossible, "only 9 of its 10 frames fit"},
		{"broken", "", "1000", "0", cli.ExitFailed, "frame_s: want above 0"},
	} {
		file, to := filepath.Join(folder, c.name+".json"), filepath.Join(folder, c.name+".plan.json")
		text := problem
		for _, part := range []string{c.budget, c.deadline, c.frame} {
			text = strings.Replace(text, "%s", part, 1)
		}
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		var out, errs bytes.Buffer
		status := cli.Main(t.Context(), []string{"solve", file, "--to", to}, nil, &out, &errs)
		assert.Equal(t, c.status, status, c.name)
		assert.Contains(t, out.String()+errs.String(), c.says)
		_, err := os.Stat(to)
		assert.Equal(t, c.name != "broken", err == nil, "bad input writes nothing")
	}
}

func TestTheCommandLineSaysWhatToDo(t *testing.T) {
	alone(t)
	var out, errs bytes.Buffer
	assert.Equal(t, cli.ExitFailed, cli.Main(t.Context(), []string{"hosts", "list", "--service", "http://127.0.0.1:1", "--token", "x"}, nil, &out, &errs))
	assert.Contains(t, errs.String(), "does not answer: start it with rotanex-service")
	errs.Reset()
	t.Setenv("ROTANEX_TOKEN", "")
	assert.Equal(t, cli.ExitFailed, cli.Main(t.Context(), []string{"hosts", "list"}, nil, &out, &errs))
	assert.Contains(t, errs.String(), "set ROTANEX_TOKEN")
	for _, shell := range []string{"bash", "zsh", "fish"} {
		out.Reset()
		assert.Zero(t, cli.Main(t.Context(), []string{"completion", shell}, nil, &out, &errs))
		assert.Contains(t, out.String(), "rotanex")
	}
}

func TestEveryCommandHasAnExample(t *testing.T) {
	root := cli.New()
	for _, group := range root.Commands() {
		leaves := group.Commands()
		if len(leaves) == 0 {
			assert.NotEmpty(t, group.Example, group.CommandPath())
		}
		for _, leaf := range leaves {
			assert.NotEmpty(t, leaf.Example, leaf.CommandPath())
			assert.NotEmpty(t, leaf.Short, leaf.CommandPath())
		}
	}
}
