// Package app puts the service together: one http.Handler, and one loop that does
// what time brings about.
package app

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"gocloud.dev/blob"
	_ "gocloud.dev/blob/fileblob" // pictures lie in a folder by default
	_ "gocloud.dev/blob/s3blob"   // or in an S3-compatible store, by URL

	"rotanex.example/core/replan"
	"rotanex.example/service/access"
	"rotanex.example/service/accounts"
	"rotanex.example/service/agents"
	"rotanex.example/service/audit"
	"rotanex.example/service/candidates"
	"rotanex.example/service/clock"
	"rotanex.example/service/computations"
	"rotanex.example/service/endings"
	"rotanex.example/service/events"
	"rotanex.example/service/farms"
	"rotanex.example/service/finished"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/hosts"
	"rotanex.example/service/jobs"
	"rotanex.example/service/licences"
	"rotanex.example/service/notify"
	"rotanex.example/service/packages"
	"rotanex.example/service/pictures"
	"rotanex.example/service/plans"
	"rotanex.example/service/problems"
	"rotanex.example/service/queue"
	"rotanex.example/service/removal"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/rental"
	"rotanex.example/service/runs"
	"rotanex.example/service/samples"
	"rotanex.example/service/schedule"
	"rotanex.example/service/secrets"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/standing"
	"rotanex.example/service/storage"
	"rotanex.example/service/store"
	"rotanex.example/service/studies"
	"rotanex.example/service/sweeps"
	"rotanex.example/service/timings"
	"rotanex.example/service/trials"
	"rotanex.example/service/uncertainty"
)

// Config is how a service is set. Validate fills in the defaults.
type Config struct {
	DatabaseURL string
	Blobs       string          // where pictures lie: a folder, or a URL of gocloud.dev/blob
	Address     string          // where agents of rented servers reach the service; several with commas
	Name        string          // of this service, of those over one database; the same after a restart; default the address
	Currency    string          // default EUR
	Zone        string          // IANA zone in which opening hours are read; default UTC
	Key         []byte          // of 32 bytes, with which providers' secrets are sealed; default one that is forgotten
	Agent       string          // the agent's program, for servers reached over SSH
	Policy      string          // how far runs are planned anew by themselves that say nothing else; default auto
	Computing   int             // plans, forecasts and the like that are computed at once; default half the processors
	AccessLog   bool            // each request that was answered is logged
	SMTP        string          // mail server for notifications, such as smtp://mail.example:587; none: no mailboxes are told
	MailFrom    string          // the sender of mail
	Secure      bool            // browsers reach the service over TLS
	Proxied     bool            // a proxy in front says whose requests are
	ClockStart  time.Time       // demo: what the service's clock begins at; zero is life
	ClockFactor float64         // demo: how many times as fast it runs; default 1
	Wall        clockwork.Clock // default the database's
	Log         *slog.Logger

	following *clock.Following // Wall, where that is the database's
	ownKey    bool             // Key was given
}

// Validate fills in defaults and says what is wrong.
func (c *Config) Validate() error {
	if c.DatabaseURL == "" || c.Blobs == "" {
		return errors.New("a database URL and a place for pictures are needed")
	}
	if c.Currency == "" {
		c.Currency = "EUR"
	}
	if c.Zone == "" {
		c.Zone = "UTC"
	}
	if _, err := time.LoadLocation(c.Zone); err != nil {
		return fmt.Errorf("zone %q: want an IANA zone such as Europe/Lisbon", c.Zone)
	}
	if c.ClockFactor == 0 {
		c.ClockFactor = 1
	}
	if c.ClockFactor < 1 || c.ClockFactor > 10_000 {
		return fmt.Errorf("clock factor %g: want 1 to 10000", c.ClockFactor)
	}
	c.ownKey = c.Key != nil
	if c.Key == nil {
		c.Key = make([]byte, 32)
		if _, err := rand.Read(c.Key); err != nil {
			return err
		}
	}
	if _, err := replan.ParsePolicy(c.Policy, replan.Auto); err != nil {
		return err
	}
	if c.Computing == 0 {
		c.Computing = max(1, runtime.NumCPU()/2)
	}
	if c.Computing < 0 {
		return fmt.Errorf("--computing %d: want the number of plans and forecasts to compute at once, 1 or more", c.Computing)
	}
	c.Name = cmp.Or(c.Name, c.Address, "rotanex")
	if c.Wall == nil {
		c.following = clock.Follow(clockwork.NewRealClock())
		c.Wall = c.following
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	return nil
}

// Service is a running service.
type Service struct {
	Handler http.Handler
	// FirstToken is the first admin token's secret, at the very first start only.
	FirstToken string

	config      Config
	clock       clock.Clock
	store       *store.Store
	feed        *events.Feed
	blobs       *blob.Bucket
	access      *access.Access
	hosts       *hosts.Hosts
	shots       *shots.Shots
	trials      *trials.Trials
	uncertainty *uncertainty.Uncertainty
	plans       *plans.Plans

	problems *problems.Problems
	schedule *schedule.Schedule
	endings  *endings.Endings

	computations *computations.Computations

	notify *notify.Notify

	queue    *queue.Queue
	standing *standing.Standing
	finished finished.Finished
	licences *licences.Licences
	agents   *agents.Agents
	runs     *runs.Runs

	accounts *accounts.Accounts
	audit    *audit.Audit
	storage  *storage.Storage
	removal  *removal.Removal
	pictures *pictures.Pictures

	renderLogs *renderlogs.Logs

	rental *rental.Rental

	sources  *sources.Sources
	jobs     *jobs.Jobs
	packages *packages.Packages
	farms    *farms.Farms

	samples    *samples.Samples
	timings    *timings.Timings
	candidates *candidates.Candidates
	sweeps     *sweeps.Sweeps
	studies    *studies.Studies

	cancel context.CancelFunc
	loops  sync.WaitGroup
}

// Start connects, migrates and begins to work. Close ends it.
func Start(ctx context.Context, c Config) (*Service, error) {
	if err := c.Validate(); err != nil {
		return nil, err
	}
	s := &Service{config: c}
	var err error
	if s.store, err = store.Open(ctx, c.DatabaseURL, c.Log); err != nil {
		return nil, err
	}
	if err := s.build(ctx); err != nil {
		s.store.Close()
		return nil, err
	}
	var running context.Context
	running, s.cancel = context.WithCancel(context.WithoutCancel(ctx))
	s.loops.Go(func() { s.feed.Run(running) })
	wait := newLeniency(s.clock.WallNow())
	s.loops.Go(func() { wait.watch(running, s.clock) })
	for _, w := range s.work(wait) {
		s.loops.Go(func() { w.Run(running, s.clock.Clock, c.Log) })
	}
	if err := s.jobs.Start(running); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Service) build(ctx context.Context) (err error) {
	c := s.config
	if c.following != nil {
		if err := c.following.Ask(ctx, s.store.Now); err != nil {
			return err
		}
	}
	if s.clock, err = s.agreeOnClock(ctx); err != nil {
		return err
	}
	if s.blobs, err = OpenBlobs(ctx, c.Blobs); err != nil {
		return err
	}
	zone, err := time.LoadLocation(c.Zone)
	if err != nil {
		return err
	}
	owner, err := s.store.Setting(ctx, "installation", uuid.NewString())
	if err != nil {
		return err
	}
	if s.jobs, err = jobs.New(s.store, jobs.Config{Name: c.Name, Computing: c.Computing}, c.Log); err != nil {
		return err
	}
	if s.sources, err = sources.New(s.store, s.clock, sources.Config{Currency: c.Currency, Key: c.Key, Agent: c.Agent}); err != nil {
		return err
	}
	s.feed = events.New(s.store, s.clock, c.Log)
	s.access = access.New(s.store, s.clock, c.Secure, c.Proxied)
	s.audit = audit.New(s.store, s.clock)
	s.storage = storage.New(s.store, s.clock, s.blobs, c.Log)
	s.removal = removal.New(s.store, s.feed, s.jobs)
	s.hosts = hosts.New(hosts.Config{Store: s.store, Clock: s.clock, Feed: s.feed, Beat: queue.Beat, Currency: c.Currency, Zone: zone})
	s.shots = shots.New(s.store, s.clock, s.feed)
	s.licences = licences.New(s.store)
	s.pictures = pictures.New(s.blobs)
	kept := s.pictures
	s.queue = queue.New(s.store, s.clock, s.feed, kept, c.Log)
	s.renderLogs = renderlogs.New(s.store, s.blobs)
	s.standing = standing.New(s.store, s.clock, s.feed, s.queue, s.renderLogs)
	s.finished = finished.Finished{Standing: s.standing, Pictures: kept, Files: framefiles.Files{Store: s.store, Pictures: kept}, Clock: s.clock}
	s.accounts = accounts.New(s.store, s.clock, s.queue)
	s.runs = runs.New(runs.Config{Store: s.store, Clock: s.clock, Feed: s.feed, Queue: s.queue, Standing: s.standing, Accounts: s.accounts, Sources: s.sources, Policy: replan.Policy(c.Policy), Log: c.Log})
	s.trials = trials.New(s.store, s.clock, s.hosts, s.shots, s.runs)
	s.runs.TrialFrameDone = s.trials.FrameDone
	s.samples = samples.New(s.store, s.clock, s.hosts)
	s.agents = agents.New(agents.Config{Store: s.store, Clock: s.clock, Feed: s.feed, Queue: s.queue, Pictures: kept, Samples: s.samples, Hosts: s.hosts, Log: c.Log})
	s.timings = timings.New(s.store, s.clock, s.hosts)
	s.packages = packages.New(s.store, s.clock, s.blobs, s.sources)
	s.candidates = candidates.New(candidates.Config{
		Store: s.store, Clock: s.clock, Hosts: s.hosts, Shots: s.shots, Timings: s.timings, Sources: s.sources, Packages: s.packages, Licences: s.licences,
		Currency: c.Currency, Zone: zone,
	})
	s.sweeps = sweeps.New(s.store, s.clock, s.feed, s.shots, s.trials, s.candidates)
	s.studies = studies.New(s.store, s.clock, s.shots, s.trials, s.standing, kept)
	s.rental = rental.New(rental.Config{
		Store: s.store, Clock: s.clock, Feed: s.feed, Hosts: s.hosts, Access: s.access, Sources: s.sources, Jobs: s.jobs, Standing: s.standing,
		Address: c.Address, Owner: owner, Log: c.Log,
	})
	s.farms = farms.New(farms.Config{
		Store: s.store, Clock: s.clock, Feed: s.feed, Queue: s.queue, Standing: s.standing, Pictures: kept, Sources: s.sources, Packages: s.packages, Jobs: s.jobs,
		Owner: owner, Log: c.Log,
	})
	s.computations = computations.New(s.store, s.clock, s.feed, s.jobs, c.Log)
	s.endings = endings.New(s.store)
	s.uncertainty = uncertainty.New(s.store, s.clock, s.timings, s.sources, s.endings)
	s.problems = problems.New(problems.Config{
		Store: s.store, Clock: s.clock, Hosts: s.hosts, Shots: s.shots, Candidates: s.candidates, Sources: s.sources, Packages: s.packages,
		Licences: s.licences, Timings: s.timings, Disruptions: s.uncertainty.Disruptions, Currency: c.Currency, Zone: zone,
	})
	s.plans = plans.New(plans.Config{
		Store: s.store, Clock: s.clock, Feed: s.feed, Computations: s.computations, Problems: s.problems,
		Hosts: s.hosts, Shots: s.shots, Timings: s.timings, Uncertainty: s.uncertainty, Sources: s.sources, Currency: c.Currency, Zone: zone,
	})
	s.schedule = schedule.New(schedule.Config{
		Store: s.store, Clock: s.clock, Feed: s.feed, Jobs: s.jobs, Asked: s.computations, Runs: s.runs, Plans: s.plans, Problems: s.problems, Sources: s.sources, Endings: s.endings,
		Currency: c.Currency, Log: c.Log,
	})
	box, err := secrets.New(c.Key)
	if err == nil && c.ownKey {
		err = agreeOnKey(ctx, s.store, box)
	}
	if err != nil {
		return err
	}
	var mail *notify.Mail
	if c.SMTP != "" {
		if mail, err = notify.NewMail(c.SMTP, c.MailFrom); err != nil {
			return err
		}
	}
	address, _, _ := strings.Cut(c.Address, ",") // people are shown one
	s.notify = notify.New(notify.Config{
		Store: s.store, Clock: s.clock, Jobs: s.jobs, Standing: s.standing, Secrets: box, Address: address, Zone: zone, Mail: mail, Log: c.Log,
	})
	if s.FirstToken, err = s.access.Bootstrap(ctx); err != nil {
		return err
	}
	s.Handler, err = s.routes()
	return err
}

// agreeOnClock stores how the clock runs at the first start; services started
// later over the same database go by that.
func (s *Service) agreeOnClock(ctx context.Context) (clock.Clock, error) {
	if s.config.ClockStart.IsZero() && s.config.ClockFactor == 1 {
		return clock.New(s.config.Wall, time.Time{}, time.Time{}, 1), nil
	}
	start := s.config.ClockStart
	if start.IsZero() {
		start = s.config.Wall.Now()
	}
	set := fmt.Sprintf("%s %s %g", s.config.Wall.Now().UTC().Format(time.RFC3339Nano), start.UTC().Format(time.RFC3339), s.config.ClockFactor)
	set, err := s.store.Setting(ctx, "clock", set)
	if err != nil {
		return clock.Clock{}, err
	}
	var began, first string
	var factor float64
	if _, err := fmt.Sscan(set, &began, &first, &factor); err != nil {
		return clock.Clock{}, fmt.Errorf("stored clock %q: %w", set, err)
	}
	wall, err := time.Parse(time.RFC3339Nano, began)
	if err != nil {
		return clock.Clock{}, err
	}
	start, err = time.Parse(time.RFC3339, first)
	return clock.New(s.config.Wall, wall, start, factor), err
}

// OpenBlobs opens a URL, or a folder, which is made if it is not there. A file is
// written beside its place and then renamed.
func OpenBlobs(ctx context.Context, place string) (*blob.Bucket, error) {
	if filepath.IsAbs(place) {
		if err := os.MkdirAll(place, 0o750); err != nil {
			return nil, err
		}
		place = "file://" + filepath.ToSlash(place) + "?metadata=skip&no_tmp_dir=true"
	}
	return blob.OpenBucket(ctx, place)
}

// Close ends the loops and lets go of the database. The HTTP server that serves
// the Handler is shut down before.
func (s *Service) Close() {
	// Jobs are cut off: what was under way is taken up again after the next start.
	stopping, done := context.WithTimeout(context.Background(), 10*time.Second)
	_ = s.jobs.Stop(stopping)
	done()
	s.cancel()
	s.loops.Wait()
	_ = s.blobs.Close()
	s.store.Close()
}
