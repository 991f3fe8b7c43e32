package simulator_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/picture"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/simulator"
)

// judged serves a simulator and holds every call and answer against the document of its
// protocol; the paths that were called are kept.
type judged struct {
	t      *testing.T
	router routers.Router
	next   http.Handler
	mu     sync.Mutex
	called map[string]bool
}

func newJudged(t *testing.T, document string, next http.Handler) (*judged, providers.Remote) {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromFile("../docs/protocols/" + document)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	j := &judged{t: t, next: next, called: map[string]bool{}}
	server := httptest.NewServer(j)
	t.Cleanup(server.Close)
	doc.Servers = openapi3.Servers{{URL: server.URL}}
	j.router, err = gorillamux.NewRouter(doc)
	require.NoError(t, err)
	return j, providers.Remote{Address: server.URL, Secret: "tide"}
}

func (j *judged) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	r.URL.Host, r.URL.Scheme = r.Host, "http"
	r.Body = io.NopCloser(bytes.NewReader(body))
	route, params, err := j.router.FindRoute(r)
	if !assert.NoError(j.t, err, "%s %s is not in the document", r.Method, r.URL.Path) {
		return
	}
	options := &openapi3filter.Options{IncludeResponseStatus: false, ExcludeRequestBody: r.Header.Get("Content-Type") == "application/octet-stream"}
	in := &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route, Options: options}
	assert.NoError(j.t, openapi3filter.ValidateRequest(r.Context(), in), "%s %s", r.Method, r.URL.Path)
	j.mu.Lock()
	j.called[r.Method+" "+route.Path] = true
	j.mu.Unlock()

	r.Body = io.NopCloser(bytes.NewReader(body))
	answer := httptest.NewRecorder()
	j.next.ServeHTTP(answer, r)
	if answer.Header().Get("Content-Type") == "application/json" {
		out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: answer.Code, Header: answer.Header(), Options: options}
		out.SetBodyBytes(answer.Body.Bytes())
		assert.NoError(j.t, openapi3filter.ValidateResponse(r.Context(), out), "%s %s: %s", r.Method, r.URL.Path, answer.Body)
	}
	for name, values := range answer.Header() {
		w.Header()[name] = values
	}
	w.WriteHeader(answer.Code)
	_, _ = w.Write(answer.Body.Bytes())
}

// awaited waits for something to become true.
func awaited(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 20*time.Second, 10*time.Millisecond, what)
}

var ternSolo = stock.Offer{
	Name: "tern-solo", Source: "tern", MaxServers: 2, PriceH: pricing.MustMoney("1.20"), Fee: pricing.MustMoney("0.10"), IncrementS: 3600, BootS: 60, SetupS: 60,
	CPU: stock.CPU{Model: "Keel 16", Cores: 16}, MemoryGB: 64,
}

// The simulator of a rented source and our client keep to the document, through the
// whole life of servers.
func TestServersKeepToTheirProtocol(t *testing.T) {
	hire := &simulator.Hire{
		Offers: map[string]stock.Offer{"tern-solo": ternSolo}, ClockFactor: 6000, Folder: t.TempDir(), Secret: "tide", Fates: map[int]simulator.Fate{}, Log: slog.New(slog.DiscardHandler),
		Agent: []string{"/bin/sh", "-c", "exec sleep 60", "agent"},
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	j, remote := newJudged(t, "servers.yaml", hire.Handler(ctx))
	t.Cleanup(func() { stop(); hire.Wait() })
	source := providers.RemoteServers{Remote: remote}

	offers, err := source.Offers(ctx)
	require.NoError(t, err)
	assert.Equal(t, []providers.Offered{{Name: "tern-solo", Free: 2, PriceH: pricing.MustMoney("1.20")}}, offers)
	order := providers.Order{Name: "one 1/2", Owner: "us", Offer: "tern-solo", Service: "http://127.0.0.1:1", JoinToken: "secret"}
	require.NoError(t, source.Make(ctx, order))
	require.NoError(t, source.Make(ctx, order), "asked for twice, there is one")
	awaited(t, "the server to be up", func() bool {
		seen, err := source.Look(ctx, order.Name)
		return err == nil && seen.State == providers.Up
	})
	require.NoError(t, source.Keep(ctx, order.Name, "rotanex-solo"))

	second := order
	second.Name, second.Image = "two", "rotanex-solo"
	require.NoError(t, source.Make(ctx, second))
	third := order
	third.Name = "three"
	var no *providers.Refused
	require.ErrorAs(t, source.Make(ctx, third), &no)
	assert.ErrorContains(t, no, "all 2 servers of tern-solo are let")
	third.Offer = "tern-octet"
	require.ErrorAs(t, source.Make(ctx, third), &no)
	third.Offer, third.Image = "tern-solo", "nobody's"
	require.ErrorAs(t, source.Make(ctx, third), &no)

	ours, err := source.List(ctx, "us")
	require.NoError(t, err)
	assert.Len(t, ours, 2)
	theirs, err := source.List(ctx, "them")
	require.NoError(t, err)
	assert.Empty(t, theirs)

	require.NoError(t, source.Stop(ctx, order.Name))
	first, err := source.Look(ctx, order.Name)
	require.NoError(t, err)
	require.NoError(t, source.Stop(ctx, order.Name))
	again, err := source.Look(ctx, order.Name)
	require.NoError(t, err)
	assert.Equal(t, first, again, "once it has stopped its meter stands")
	assert.Equal(t, ternSolo.Meter().Charge(time.Duration(first.Metered*float64(time.Second))).String(), first.Charge.String())
	require.ErrorAs(t, source.Prolong(ctx, order.Name, time.Hour), &no, "it has stopped")
	require.NoError(t, source.Delete(ctx, order.Name))
	require.NoError(t, source.Delete(ctx, "who"), "gone is gone")

	// One that may stand for so long ends by itself then, to the second, unless it is prolonged.
	brief := order
	brief.Name, brief.LastsS = "brief", 600
	require.NoError(t, source.Make(ctx, brief))
	require.NoError(t, source.Prolong(ctx, brief.Name, 1200*time.Second))
	awaited(t, "its end", func() bool {
		seen, err := source.Look(ctx, brief.Name)
		return err == nil && seen.State == providers.Stopped && seen.Metered == 1200
	})
	_, err = source.Look(ctx, "who")
	assert.ErrorIs(t, err, providers.ErrGone)
	assert.Len(t, j.called, 8, "every call of the document was made: %v", j.called)

	remote.Secret = "ebb"
	_, err = providers.RemoteServers{Remote: remote}.Offers(ctx)
	require.Error(t, err)
	assert.NotErrorIs(t, err, providers.ErrGone)
	assert.NotContains(t, err.Error(), "ebb", "a secret is in no message")
}

var gannet = stock.Farm{
	Name: "gannet-day", Source: "gannet", Nodes: 3, LeadS: 60, CPU: stock.CPU{Model: "Keel 64", Cores: 64, MHz: 2700}, MemoryGB: 128, Launchers: []string{"simulated"},
	Work: pricing.Work{CoreGHzHour: pricing.MustMoney("0.045"), MinimumCharge: pricing.MustMoney("15")},
}

const skyScene = "title: Coda\nwork_s: 0.5\nframes: 64\nhue: 0.6\n"

// The simulator farm and our client keep to the document, from the package to the charge,
// with proof frames, failures and a job that is refused.
func TestFarmsKeepToTheirProtocol(t *testing.T) {
	farm := &simulator.Farm{
		Tiers: map[string]stock.Farm{"gannet-day": gannet}, ClockFactor: 600, Folder: t.TempDir(), Secret: "tide", Analysis: 30 * time.Second, Queue: 30 * time.Second, FailOneIn: 3,
		Plugins: []string{"brassleaf"}, LinkMBps: 1, Log: slog.New(slog.DiscardHandler),
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	j, remote := newJudged(t, "farm.yaml", farm.Handler(ctx))
	t.Cleanup(func() { stop(); farm.Wait() })
	source := providers.RemoteFarm{Remote: remote}

	sum := fmt.Sprintf("%x", sha256.Sum256([]byte(skyScene)))
	missing, err := source.Missing(ctx, []string{sum})
	require.NoError(t, err)
	assert.Equal(t, []string{sum}, missing)
	var no *providers.Refused
	require.ErrorAs(t, source.Send(ctx, sum, []byte("half of it")), &no)
	require.NoError(t, source.Send(ctx, sum, []byte(skyScene)))
	missing, err = source.Missing(ctx, []string{sum})
	require.NoError(t, err)
	assert.Empty(t, missing, "what is there is not sent again")

	job := providers.Job{
		Name: "a job", Owner: "us", Order: "run", Tier: "gannet-day", Shot: "coda-060", Frames: []int{1, 2, 3, 4, 5, 6, 7, 8}, Proofs: []int{1, 5, 8}, Launcher: "simulated",
		Scene: "coda.yaml", Width: 32, Height: 18, Settings: map[string]string{"samples": "16"}, Package: []providers.PackageFile{{Path: "coda.yaml", Size: int64(len(skyScene)), Chunks: []string{sum}}},
	}
	require.NoError(t, source.Submit(ctx, job))
	require.NoError(t, source.Submit(ctx, job), "handed in twice, it is there once")
	look := func(name string) providers.JobStatus {
		seen, err := source.Look(ctx, name)
		require.NoError(t, err)
		return seen
	}
	// fix lets failed frames be tried again and returns how many are done.
	fix := func() (done int) {
		var failed []int
		for _, f := range look(job.Name).Frames {
			switch f.State {
			case providers.FrameFailed:
				failed = append(failed, f.Frame)
			case providers.FrameDone:
				done++
			}
		}
		if len(failed) > 0 {
			require.NoError(t, source.Again(ctx, job.Name, failed))
		}
		return done
	}
	awaited(t, "the proof frames", func() bool { return fix() == 3 && look(job.Name).State == providers.Held })
	_, err = source.Picture(ctx, job.Name, 2)
	require.ErrorIs(t, err, providers.ErrGone, "the rest is not rendered before it is released")
	for range 2 {
		out, err := source.Withdraw(ctx, job.Name, []int{1, 6})
		require.NoError(t, err)
		assert.Equal(t, []int{6}, out, "what is begun stays")
	}
	require.NoError(t, source.Release(ctx, job.Name))
	require.NoError(t, source.Release(ctx, job.Name))
	awaited(t, "all frames", func() bool { return fix() == 7 })

	tries := 0
	for _, f := range look(job.Name).Frames {
		if tries += f.Tries; f.Frame == 6 {
			assert.Equal(t, providers.FrameWithdrawn, f.State)
			continue
		}
		file, err := source.Picture(ctx, job.Name, f.Frame)
		require.NoError(t, err)
		data, err := io.ReadAll(file)
		require.NoError(t, errors.Join(err, file.Close()))
		assert.Equal(t, f.SHA256, fmt.Sprintf("%x", sha256.Sum256(data)))
		_, err = picture.Check(bytes.NewReader(data), int64(len(data)), 32, 18)
		assert.NoError(t, err)
	}
	assert.Greater(t, tries, 7, "some failed at first")
	require.NoError(t, source.End(ctx, job.Name))
	require.NoError(t, source.End(ctx, job.Name))
	ended := look(job.Name)
	assert.Equal(t, providers.Ended, ended.State)
	assert.Equal(t, 7, ended.ChargedFrames)
	assert.Equal(t, "15.00", ended.Charge.String(), "the minimum charge")

	// A job is ended by the farm itself when it has come to what it may cost.
	capped := job
	capped.Name, capped.Order, capped.Proofs, capped.Most = "capped", "other", []int{}, new(pricing.MustMoney("0.000001"))
	require.NoError(t, source.Submit(ctx, capped))
	require.NoError(t, source.Release(ctx, "capped"))
	awaited(t, "its end", func() bool { return look("capped").State == providers.Ended })
	assert.Less(t, look("capped").ChargedFrames, 8)
	assert.Equal(t, "15.00", look("capped").Charge.String(), "the minimum charge, and no more")

	// What cannot be rendered there is found in the analysis.
	bad := job
	bad.Name, bad.Licence, bad.Plugins, bad.Launcher, bad.Scene = "bad", "named-user", []string{"tidefog"}, "povray", "other.yaml"
	require.NoError(t, source.Submit(ctx, bad))
	awaited(t, "its refusal", func() bool { return look("bad").State == providers.Rejected })
	assert.Len(t, look("bad").Findings, 4, "all that is wrong is said at once")
	assert.True(t, look("bad").Charge.IsZero())
	bad.Name, bad.Tier = "worse", "gannet-night"
	require.ErrorAs(t, source.Submit(ctx, bad), &no)
	outside := job
	outside.Name, outside.Package = "outside", []providers.PackageFile{{Path: "../../etc/passwd", Size: 1, Chunks: []string{sum}}}
	require.NoError(t, source.Submit(ctx, outside))
	awaited(t, "its refusal", func() bool { return look("outside").State == providers.Rejected })
	assert.Contains(t, look("outside").Findings[0], "leads out of it")
	assert.Len(t, j.called, 9, "every call of the document was made: %v", j.called)
}
