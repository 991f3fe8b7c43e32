package app

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/version"
	"rotanex.example/service/access"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/web"
)

func (s *Service) routes() (http.Handler, error) {
	contract, err := httpapi.Contract()
	if err != nil {
		return nil, err
	}
	metrics := newMetrics(s)
	r := chi.NewRouter()
	r.Use(httpapi.Logged(s.config.Log, s.config.AccessLog), middleware.Recoverer, metrics.count)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.ready)
	r.With(s.access.Guard).Method(http.MethodGet, "/metrics", metrics.handler())
	r.Group(func(r chi.Router) {
		r.Use(compressed, httpapi.Timed, s.access.Guard, contract, s.audit.Keep, s.freshAfter)
		api.HandlerWithOptions(endpoints{s}, api.ChiServerOptions{
			BaseURL: "/api/v1", BaseRouter: r,
			ErrorHandlerFunc: func(w http.ResponseWriter, r *http.Request, err error) {
				httpapi.Fail(w, r, badParameter(err))
			},
		})
	})
	r.With(middleware.Compress(5)).Get("/api/openapi.json", func(w http.ResponseWriter, r *http.Request) {
		text, err := api.Written()
		httpapi.Answer(w, r, http.StatusOK, json.RawMessage(text), err)
	})
	// What the interface does not have is said in its own way, not with a page.
	r.With(contract).HandleFunc("/api/*", func(w http.ResponseWriter, r *http.Request) {
		httpapi.Fail(w, r, httpapi.NotFound("there is no "+r.URL.Path+"; the interface is described at /api"))
	})
	r.With(middleware.Compress(5)).Mount("/", web.Handler())
	s.audit.Interface = r
	return r, nil
}

// freshAfter has those who changed something see it: what was worked out of runs before is not shown any more.
func (s *Service) freshAfter(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r)
		if r.Method != http.MethodGet && !strings.HasPrefix(r.URL.Path, ofAgents) {
			s.runs.Fresh()
			s.accounts.Fresh()
		}
	})
}

// ofAgents is where agents ask.
const ofAgents = "/api/v1/agent/"

// compressed makes answers to people smaller; those to agents are small, and many. The stream of events is never held back for it.
func compressed(next http.Handler) http.Handler {
	zipped := middleware.Compress(gzip.BestSpeed, "application/json", "application/problem+json", "text/csv")(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, ofAgents) {
			next.ServeHTTP(w, r)
			return
		}
		zipped.ServeHTTP(w, r)
	})
}

// ready answers whether the service can do its work, which is whether its
// database answers.
func (s *Service) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.store.Ping(ctx); err != nil {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

// endpoints hands every operation of the contract to whom it concerns.
// badParameter says what is wrong with a parameter that could not be read.
func badParameter(err error) *httpapi.Problem {
	var form *api.InvalidParamFormatError
	if !errors.As(err, &form) {
		return httpapi.BadRequest(err.Error())
	}
	want := "does not have the form that openapi.yaml gives it"
	switch form.ParamName {
	case "run", "plan", "trial", "sweep", "study", "job", "computation", "before", "after":
		want = "is no id: want one such as 84996235-6676-505f-bf54-fbb33990d8cc; the list commands show them"
	}
	return httpapi.BadRequest(fmt.Sprintf("%s %s", form.ParamName, want))
}

type endpoints struct{ *Service }

func (e endpoints) GetSession(w http.ResponseWriter, r *http.Request) {
	p := access.From(r.Context())
	out := api.Session{Name: p.Name, Role: api.Role(p.Role), Version: version.Ours, Currency: e.config.Currency, Zone: e.config.Zone, Trouble: e.pictures.Trouble()}
	out.Clock.Now, out.Clock.Factor = e.clock.Now(), float32(e.clock.Factor())
	httpapi.Answer(w, r, http.StatusOK, out, nil)
}

func (e endpoints) ListAudit(w http.ResponseWriter, r *http.Request, params api.ListAuditParams) {
	e.audit.List(w, r, params)
}

func (e endpoints) ArchiveRun(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.removal.PutArchived(w, r, run)
}

func (e endpoints) DeleteRun(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.removal.DeleteRun(w, r, run)
}

func (e endpoints) DeleteShot(w http.ResponseWriter, r *http.Request, shot string) {
	e.removal.DeleteShot(w, r, shot)
}

func (e endpoints) DeleteHost(w http.ResponseWriter, r *http.Request, host string) {
	e.removal.DeleteHost(w, r, host)
}

func (e endpoints) DeleteSource(w http.ResponseWriter, r *http.Request, source string) {
	e.removal.DeleteSource(w, r, source)
}

func (e endpoints) ListStorage(w http.ResponseWriter, r *http.Request) { e.storage.List(w, r) }
func (e endpoints) Keep(w http.ResponseWriter, r *http.Request, kind string) {
	e.storage.Put(w, r, kind)
}

func (e endpoints) ListReceivers(w http.ResponseWriter, r *http.Request) { e.notify.List(w, r) }
func (e endpoints) PutReceiver(w http.ResponseWriter, r *http.Request, receiver string) {
	e.notify.Put(w, r, receiver)
}

func (e endpoints) RemoveReceiver(w http.ResponseWriter, r *http.Request, receiver string) {
	e.notify.Remove(w, r, receiver)
}

func (e endpoints) TestReceiver(w http.ResponseWriter, r *http.Request, receiver string) {
	e.notify.Test(w, r, receiver)
}

func (e endpoints) ListNotices(w http.ResponseWriter, r *http.Request, params api.ListNoticesParams) {
	e.notify.Notices(w, r, params)
}

func (e endpoints) SignIn(w http.ResponseWriter, r *http.Request)  { e.access.SignIn(w, r) }
func (e endpoints) SignOut(w http.ResponseWriter, r *http.Request) { e.access.SignOut(w, r) }
func (e endpoints) ListTokens(w http.ResponseWriter, r *http.Request, params api.ListTokensParams) {
	e.access.ListTokens(w, r, params)
}

func (e endpoints) CreateToken(w http.ResponseWriter, r *http.Request) { e.access.CreateToken(w, r) }

func (e endpoints) RevokeToken(w http.ResponseWriter, r *http.Request, token int64) {
	e.access.RevokeToken(w, r, token)
}

func (e endpoints) RotateToken(w http.ResponseWriter, r *http.Request, token int64) {
	e.access.RotateToken(w, r, token)
}
func (e endpoints) JoinAgent(w http.ResponseWriter, r *http.Request) { e.access.JoinAgent(w, r) }

func (e endpoints) ListHosts(w http.ResponseWriter, r *http.Request, params api.ListHostsParams) {
	e.hosts.List(w, r, params)
}

func (e endpoints) GetHost(w http.ResponseWriter, r *http.Request, host string) {
	e.hosts.Get(w, r, host)
}

func (e endpoints) PutHost(w http.ResponseWriter, r *http.Request, host string) {
	e.hosts.PutHost(w, r, host)
}

func (e endpoints) DrainHost(w http.ResponseWriter, r *http.Request, host string) {
	e.hosts.PutDrain(w, r, host)
}

func (e endpoints) ListOffers(w http.ResponseWriter, r *http.Request, params api.ListOffersParams) {
	e.hosts.ListOffers(w, r, params)
}

func (e endpoints) PutOffer(w http.ResponseWriter, r *http.Request, offer string) {
	e.hosts.StoreOffer(w, r, offer)
}
func (e endpoints) ReportStock(w http.ResponseWriter, r *http.Request) { e.hosts.ReportStock(w, r) }

func (e endpoints) ListShots(w http.ResponseWriter, r *http.Request, params api.ListShotsParams) {
	e.shots.List(w, r, params)
}

func (e endpoints) GetShot(w http.ResponseWriter, r *http.Request, shot string) {
	e.shots.Get(w, r, shot)
}

func (e endpoints) PutShot(w http.ResponseWriter, r *http.Request, shot string, params api.PutShotParams) {
	e.shots.PutShot(w, r, shot, params)
}

func (e endpoints) ListTrials(w http.ResponseWriter, r *http.Request, params api.ListTrialsParams) {
	e.trials.List(w, r, params)
}

func (e endpoints) CreateTrial(w http.ResponseWriter, r *http.Request, params api.CreateTrialParams) {
	e.trials.Post(w, r, params)
}

func (e endpoints) GetTrial(w http.ResponseWriter, r *http.Request, trial uuid.UUID) {
	e.trials.Get(w, r, trial)
}

func (e endpoints) ListPlans(w http.ResponseWriter, r *http.Request, params api.ListPlansParams) {
	e.plans.List(w, r, params)
}

func (e endpoints) CreatePlan(w http.ResponseWriter, r *http.Request, params api.CreatePlanParams) {
	e.plans.Create(w, r, params)
}

func (e endpoints) GetPlan(w http.ResponseWriter, r *http.Request, plan uuid.UUID) {
	e.plans.Get(w, r, plan)
}

func (e endpoints) PlanEffects(w http.ResponseWriter, r *http.Request, plan uuid.UUID) {
	e.schedule.Effects(w, r, plan)
}

func (e endpoints) ForecastPlan(w http.ResponseWriter, r *http.Request, plan uuid.UUID, params api.ForecastPlanParams) {
	e.plans.Forecast(w, r, plan, params)
}

func (e endpoints) DrawCurve(w http.ResponseWriter, r *http.Request, plan uuid.UUID, params api.DrawCurveParams) {
	e.plans.Curve(w, r, plan, params)
}

func (e endpoints) ExplainPlan(w http.ResponseWriter, r *http.Request, plan uuid.UUID) {
	e.plans.Explain(w, r, plan)
}

func (e endpoints) ComparePlans(w http.ResponseWriter, r *http.Request, plan uuid.UUID, params api.ComparePlansParams) {
	e.plans.Compare(w, r, plan, params)
}

func (e endpoints) ExportPlan(w http.ResponseWriter, r *http.Request, plan uuid.UUID, params api.ExportPlanParams) {
	e.plans.Export(w, r, plan, params)
}

func (e endpoints) ListComputations(w http.ResponseWriter, r *http.Request, params api.ListComputationsParams) {
	e.computations.List(w, r, params)
}

func (e endpoints) GetComputation(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	e.computations.Get(w, r, id)
}

func (e endpoints) CancelComputation(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	e.computations.Delete(w, r, id)
}

func (e endpoints) SetRunPlan(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.runs.PutPlan(w, r, run)
}

func (e endpoints) ListRuns(w http.ResponseWriter, r *http.Request, params api.ListRunsParams) {
	e.runs.List(w, r, params)
}

func (e endpoints) StartRun(w http.ResponseWriter, r *http.Request, params api.StartRunParams) {
	e.runs.Post(e.shots, w, r, params)
}

func (e endpoints) GetRun(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.runs.Get(w, r, run)
}

func (e endpoints) SetRunState(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.runs.PutState(w, r, run)
}

func (e endpoints) SetRunPriority(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.runs.PutPriority(w, r, run)
}

func (e endpoints) SetRunPolicy(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.runs.PutPolicy(w, r, run)
}

func (e endpoints) SetRunDeadline(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.runs.PutDeadline(w, r, run)
}

func (e endpoints) ListWaiting(w http.ResponseWriter, r *http.Request) { e.standing.ListWaiting(w, r) }

func (e endpoints) GetSchedule(w http.ResponseWriter, r *http.Request) { e.schedule.Get(w, r) }

func (e endpoints) ListScheduleChanges(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.schedule.List(w, r, run)
}

func (e endpoints) DecideScheduleChange(w http.ResponseWriter, r *http.Request, run, change uuid.UUID) {
	e.schedule.Put(w, r, run, change)
}

func (e endpoints) ListFrames(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.ListFramesParams) {
	e.standing.ListFrames(w, r, run, params)
}

func (e endpoints) GetFrame(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, frame int) {
	e.standing.GetFrame(w, r, run, shot, frame)
}

func (e endpoints) GetPicture(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, frame int, params api.GetPictureParams) {
	e.finished.Picture(w, r, run, shot, frame, params)
}

func (e endpoints) GetFrameFile(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, frame int, file string, params api.GetFrameFileParams) {
	e.finished.FrameFile(w, r, run, shot, frame, file, params)
}

func (e endpoints) GetResults(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.GetResultsParams) {
	e.finished.GetResults(w, r, run, params)
}

func (e endpoints) GetResultsArchive(w http.ResponseWriter, r *http.Request, run uuid.UUID, params api.GetResultsArchiveParams) {
	e.finished.GetResultsArchive(w, r, run, params)
}

func (e endpoints) GetLedger(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.accounts.Ledger(w, r, run)
}

func (e endpoints) StreamEvents(w http.ResponseWriter, r *http.Request, params api.StreamEventsParams) {
	e.feed.Stream(w, r, params)
}

func (e endpoints) GetRenderLog(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, frame int, fence int64) {
	e.standing.RenderLog(w, r, run, shot, frame, fence)
}

func (e endpoints) GetFit(w http.ResponseWriter, r *http.Request, shot string) {
	e.candidates.Fit(w, r, shot)
}

func (e endpoints) CheckShot(w http.ResponseWriter, r *http.Request, shot string, params api.CheckShotParams) {
	e.candidates.Check(w, r, shot, params)
}

func (e endpoints) CompareShot(w http.ResponseWriter, r *http.Request, shot string, params api.CompareShotParams) {
	e.candidates.GetComparison(w, r, shot, params)
}

func (e endpoints) ListLicences(w http.ResponseWriter, r *http.Request) { e.licences.List(w, r) }

func (e endpoints) PutLicence(w http.ResponseWriter, r *http.Request, pool string) {
	e.licences.Put(w, r, pool)
}

func (e endpoints) GetSamples(w http.ResponseWriter, r *http.Request, host string, params api.GetSamplesParams) {
	e.samples.Get(w, r, host, params)
}

func (e endpoints) ExportTimes(w http.ResponseWriter, r *http.Request, params api.ExportTimesParams) {
	e.timings.GetTimes(w, r, params)
}

func (e endpoints) ImportTimes(w http.ResponseWriter, r *http.Request, params api.ImportTimesParams) {
	e.timings.PostTimes(w, r, params)
}

func (e endpoints) ListSweeps(w http.ResponseWriter, r *http.Request, params api.ListSweepsParams) {
	e.sweeps.List(w, r, params)
}

func (e endpoints) CreateSweep(w http.ResponseWriter, r *http.Request, params api.CreateSweepParams) {
	e.sweeps.Post(w, r, params)
}

func (e endpoints) GetSweep(w http.ResponseWriter, r *http.Request, sweep uuid.UUID) {
	e.sweeps.Get(w, r, sweep)
}

func (e endpoints) EndSweep(w http.ResponseWriter, r *http.Request, sweep uuid.UUID) {
	e.sweeps.PostEnd(w, r, sweep)
}

func (e endpoints) ListStudies(w http.ResponseWriter, r *http.Request, params api.ListStudiesParams) {
	e.studies.List(w, r, params)
}

func (e endpoints) CreateStudy(w http.ResponseWriter, r *http.Request, params api.CreateStudyParams) {
	e.studies.Post(w, r, params)
}

func (e endpoints) GetStudy(w http.ResponseWriter, r *http.Request, study uuid.UUID) {
	e.studies.Get(w, r, study)
}

func (e endpoints) GetDifference(w http.ResponseWriter, r *http.Request, study uuid.UUID, params api.GetDifferenceParams) {
	e.studies.GetDifference(w, r, study, params)
}

func (e endpoints) ListSources(w http.ResponseWriter, r *http.Request) { e.sources.List(w, r) }

func (e endpoints) PutSource(w http.ResponseWriter, r *http.Request, source string) {
	e.sources.PutSource(w, r, source)
}
func (e endpoints) ListRates(w http.ResponseWriter, r *http.Request)   { e.sources.ListRates(w, r) }
func (e endpoints) ImportRates(w http.ResponseWriter, r *http.Request) { e.sources.ImportRates(w, r) }
func (e endpoints) ListFarms(w http.ResponseWriter, r *http.Request)   { e.hosts.ListFarms(w, r) }

func (e endpoints) PutFarm(w http.ResponseWriter, r *http.Request, farm string) {
	e.hosts.StoreFarm(w, r, farm)
}

func (e endpoints) GetPackage(w http.ResponseWriter, r *http.Request, shot string) {
	e.packages.Get(w, r, shot)
}

// PutPackage holds a package against what its shot needs: its scene and its inputs.
func (e endpoints) PutPackage(w http.ResponseWriter, r *http.Request, shot string) {
	s, err := e.shots.Find(r.Context(), shot)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	e.packages.PutPackage(w, r, shot, append([]string{s.Spec.Scene}, s.Spec.Inputs...))
}

func (e endpoints) MissingChunks(w http.ResponseWriter, r *http.Request) { e.packages.Missing(w, r) }

func (e endpoints) PutChunk(w http.ResponseWriter, r *http.Request, sum string) {
	e.packages.PutChunk(w, r, sum)
}

func (e endpoints) CompareSources(w http.ResponseWriter, r *http.Request, shot string, params api.CompareSourcesParams) {
	e.plans.CompareSources(w, r, shot, params)
}

func (e endpoints) CompareRunSources(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.accounts.CompareSources(w, r, run)
}

func (e endpoints) ListFarmJobs(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.accounts.FarmJobs(w, r, run)
}

func (e endpoints) JudgeProofs(w http.ResponseWriter, r *http.Request, job uuid.UUID) {
	e.accounts.PostProofs(w, r, job)
}

func (e endpoints) GetFrameMap(w http.ResponseWriter, r *http.Request, run uuid.UUID) {
	e.standing.GetFrameMap(w, r, run)
}

func (e endpoints) WhyFrame(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, frame int) {
	e.standing.GetWhyFrame(w, r, run, shot, frame)
}

func (e endpoints) WhyHost(w http.ResponseWriter, r *http.Request, host string) {
	e.standing.GetWhyHost(w, r, host)
}

func (e endpoints) ListSeats(w http.ResponseWriter, r *http.Request) { e.licences.Seats(w, r) }

func (e endpoints) ListEntries(w http.ResponseWriter, r *http.Request, params api.ListEntriesParams) {
	e.accounts.ListEntries(w, r, params)
}

func (e endpoints) GetAgentPackage(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string) {
	e.packages.ForAgent(w, r, run, shot)
}

func (e endpoints) FetchedPackage(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string) {
	e.packages.Fetched(w, r, run, shot)
}

func (e endpoints) GetAgentChunk(w http.ResponseWriter, r *http.Request, sum string) {
	e.packages.ChunkForAgent(w, r, sum)
}
