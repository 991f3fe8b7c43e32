package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/postgres"
	"rotanex.example/service/testdb"
)

func firstToken(said string) string {
	_, rest, _ := strings.Cut(said, "shown this once: ")
	token, _, _ := strings.Cut(rest, "\n")
	return strings.TrimSpace(token)
}

// underWay is a house of processes in which a run of 24 frames is under way.
func underWay(t *testing.T, databaseURL string) (s *served, service, agent *program, restartAgent func() *program, run api.Run) {
	t.Helper()
	return underWayWith(t, databaseURL, nil, 20*time.Second)
}

// underWayWith is underWay with settings of the shot, and a time in which it is to be done.
func underWayWith(t *testing.T, databaseURL string, settings map[string]string, within time.Duration) (s *served, service, agent *program, restartAgent func() *program, run api.Run) {
	t.Helper()
	s, service = newServed(t, databaseURL)
	folder, films := t.TempDir(), scenes(t)
	agent = s.agentProcess(bellows, folder, films)
	s.agentProcess(eddy, t.TempDir(), films)
	s.putShot("coda-060", "1-24", settings)
	s.bothUp()
	s.timed("coda-060", "bellows/g0", "bellows/g1", "eddy/g0")
	// A deadline this near keeps every crew at work.
	_, run = s.started(within, "coda-060")
	s.until("some frames to be done", func() bool { return s.run(run).Counts.Done >= 3 })
	return s, service, agent, func() *program { return s.agentProcess(bellows, folder, films) }, run
}

// bothUp waits for the agents of bellows and eddy.
func (s *served) bothUp() {
	s.t.Helper()
	s.until("both agents to be up", func() bool {
		up := 0
		for _, h := range must[api.HostList](s.t)(s.admin().ListHosts(s.t.Context(), &api.ListHostsParams{})).Items {
			if h.Agent == api.HostAgentUp {
				up++
			}
		}
		return up == 2
	})
}

func (s *served) completes(run api.Run) {
	s.t.Helper()
	got := s.awaitOver(run)
	assert.Equal(s.t, api.RunStateComplete, got.State)
	eachDoneOnce(s.t, s.database, run, 24)
}

func TestARunSurvivesItsAgentBeingKilled(t *testing.T) {
	s, _, agent, again, run := underWay(t, database(t))
	agent.kill()
	again()
	s.completes(run)
}

func TestARunSurvivesItsServiceBeingKilled(t *testing.T) {
	s, service, _, _, run := underWay(t, database(t))
	service.kill()
	s.serve()
	s.completes(run)
}

func TestARunSurvivesPostgreSQLBeingKilled(t *testing.T) {
	folder := shared(t)
	own, err := postgres.Start(t.Context(), folder)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, own.Stop()) })
	s, service, _, _, run := underWay(t, own.URL())
	require.NoError(t, syscall.Kill(own.Pid(), syscall.SIGKILL))
	// A service that starts meanwhile waits for it.
	service.kill()
	again := s.launch()
	testdb.Until(t, "the service to wait for its database", func() bool {
		said, err := os.ReadFile(again.log)
		return err == nil && strings.Contains(string(said), "waiting for it")
	})
	testdb.Until(t, "PostgreSQL to start again", func() bool { return own.Restart(t.Context()) == nil })
	s.ready(again)
	s.completes(run)
}

// shared is a folder that PostgreSQL's user can enter.
func shared(t *testing.T) string {
	t.Helper()
	return filepath.Join(filepath.Dir(bin), strings.ToLower(t.Name()))
}

func TestTwoServicesOverOneDatabase(t *testing.T) {
	url := database(t)
	first, _ := newServed(t, url)
	second := &served{house: house{t: t, database: url, blobs: first.blobs, token: first.token}, listen: freePort(t)}
	second.address = "http://" + second.listen
	second.serve()
	films := scenes(t)
	first.agentProcess(bellows, t.TempDir(), films)
	second.agentProcess(eddy, t.TempDir(), films)
	first.putShot("coda-060", "1-12", nil)
	first.putShot("gale-010", "13-24", nil)
	second.bothUp()
	first.timed("coda-060", "bellows/g0", "bellows/g1")
	first.timed("gale-010", "eddy/g0")
	// Each host has a shot of its own: however long its trial took on a machine that is busy, it is needed.
	plan := must[api.Plan](t)(first.admin().CreatePlan(t.Context(), &api.CreatePlanParams{}, api.NewPlan{
		Shots: []string{"coda-060", "gale-010"}, By: first.now().Add(20 * time.Second), Pin: []api.Pin{{Shot: "coda-060", Places: []string{"bellows"}}, {Shot: "gale-010", Places: []string{"eddy"}}},
	}))
	run := must[api.Run](t)(second.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id}))
	heard := second.hearAfter(run, new("0-0"), map[int]int{}) // what both did is heard at either, from the first
	second.completes(run)
	first.until("every frame to be heard of", func() bool { return heard.done() == 24 })
	hosts := query[int](t, url, "SELECT count(DISTINCT host) FROM frames WHERE run_id = $1", run.Id)
	assert.Equal(t, 2, hosts, "agents of both services had a part")
}
