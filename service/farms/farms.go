// Package farms hands frames to render farms: sends the package, waits for the
// analysis, shows the proof frames to a person, releases the rest, brings every
// frame home as it is done, and closes the job when none is left. A job holds its
// frames under lease like an agent, so that whatever dies, none is lost or doubled.
//
//	planned → sending → analysing → queued → proofing → held → rendering → closing → ended
//	                       ↘ rejected (by the farm), refused (by a person) ↗
//
// Each step asks the farm once and moves the job on; it may be repeated.
package farms

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/paths"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/service/audit"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/jobs"
	"rotanex.example/service/packages"
	"rotanex.example/service/pictures"
	"rotanex.example/service/queue"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Config is what looking after farms needs of the service. All of it is wanted.
type Config struct {
	Store    *store.Store
	Clock    clock.Clock
	Feed     *events.Feed
	Queue    *queue.Queue
	Standing *standing.Standing
	Pictures *pictures.Pictures
	Sources  *sources.Sources
	Packages *packages.Packages
	Jobs     *jobs.Jobs
	Owner    string // what all our jobs are marked with at farms
	Log      *slog.Logger
}

// Farms looks after the jobs of all runs.
type Farms struct {
	store    *store.Store
	clock    clock.Clock
	feed     *events.Feed
	queue    *queue.Queue
	standing *standing.Standing
	pictures *pictures.Pictures
	sources  *sources.Sources
	packages *packages.Packages
	jobs     *jobs.Jobs
	owner    string
	log      *slog.Logger
}

// Kinds of jobs.
const (
	step    = "farm job"
	contact = "farm contact"
)

// contactEvery is how often, in real time, a farm is asked whether it answers at all.
const contactEvery = time.Minute

// New makes it.
func New(c Config) *Farms {
	out := &Farms{c.Store, c.Clock, c.Feed, c.Queue, c.Standing, c.Pictures, c.Sources, c.Packages, c.Jobs, c.Owner, c.Log}
	c.Jobs.OnSlow(step, out.step)
	c.Jobs.On(contact, c.Sources.Contact)
	return out
}

// lookEvery is how often, in real time, a farm is asked how a job is.
const lookEvery = time.Second

// Renew renews the leases of jobs that farms have.
func (f *Farms) Renew(ctx context.Context) error {
	holders, err := holding(f.store.WithContext(ctx))
	if err != nil {
		return err
	}
	return f.queue.Renew(ctx, holders)
}

// Sweep sends for the jobs whose turn it is and for farms that were not asked for long. Any number of services may
// do so at once.
func (f *Farms) Sweep(ctx context.Context) error {
	return f.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		wall := f.clock.WallNow()
		due, err := takeDue(tx, f.clock.Now(), wall)
		for _, id := range due {
			err = errors.Join(err, f.jobs.Send(ctx, tx, step, id))
		}
		if err != nil {
			return err
		}
		farms, err := sources.DueForSweep(tx, stock.FarmSource, wall, contactEvery)
		for _, name := range farms {
			err = errors.Join(err, f.jobs.Send(ctx, tx, contact, name))
		}
		return err
	})
}

// job is a row that is being looked after.
type job struct {
	id, run  uuid.UUID
	order    uuid.UUID // jobs of one plan are one order
	booking  int64
	shot     string
	farm     string
	source   string
	crew     string
	frames   int
	state    states.Job
	proofs   []int
	accepted *bool
	runState states.Run
	accepts  bool // the run accepts proof frames by check alone
	tier     stock.Farm
	shotSpec shots.Spec
	files    []providers.PackageFile
	seenAt   *time.Time        // when the farm was asked about it last
	begun    map[int]time.Time // since when each frame is in work there, as far as was seen
	licence  string            // kind of the shot's licence
}

func (j job) holder() queue.Holder {
	return queue.Holder{ID: j.id, Run: j.run, Shot: j.shot, Place: j.farm, Crew: j.crew, Booking: j.booking}
}

func (j job) open() bool { return j.runState.Open() }

// step does what a job is due for.
func (f *Farms) step(ctx context.Context, id string) error {
	j, found, err := f.find(ctx, id)
	if err != nil || !found {
		return err
	}
	if err = f.advance(ctx, j); err != nil && ctx.Err() == nil {
		f.log.Warn("farm job", "farm", j.farm, "shot", j.shot, "state", j.state, "error", err)
	}
	fault := err
	if p := (*httpapi.Problem)(nil); errors.As(err, &p) && p.Status == http.StatusServiceUnavailable {
		fault = nil // it is our own store's
	}
	return errors.Join(err, f.sources.Reachable(ctx, j.source, fault))
}

func (f *Farms) advance(ctx context.Context, j job) error {
	if j.state == states.JobPlanned {
		return f.begin(ctx, j)
	}
	farm, err := f.sources.Farm(ctx, j.source)
	if err != nil {
		return err
	}
	switch {
	case j.state == states.JobClosing || j.state == states.JobRejected || j.state == states.JobRefused:
		return f.close(ctx, farm, j)
	case !j.open():
		return f.set(ctx, j, states.JobClosing, "", nil)
	case j.state == states.JobSending:
		return f.send(ctx, farm, j)
	default:
		return f.look(ctx, farm, j)
	}
}

// begin leases the job's frames, if its money is not too much.
func (f *Farms) begin(ctx context.Context, j job) error {
	if !j.open() {
		return f.set(ctx, j, states.JobNotStarted, "", nil)
	}
	why, taken := "", 0
	err := f.set(ctx, j, states.JobSending, "", func(tx *gorm.DB) error {
		n, cost, short, err := f.affords(tx, j)
		if why = short; err != nil || n == 0 {
			return errors.Join(err, errNotBegun)
		}
		frames, err := f.queue.LeaseFor(tx, j.holder(), n)
		if taken = len(frames); err != nil || taken == 0 {
			return errors.Join(err, errNotBegun)
		}
		if why != "" {
			if err := errors.Join(noteTrouble(tx, j.id, why), bookings.OneOwesNothing(tx, j.booking)); err != nil {
				return err
			}
		}
		proofs := []int{frames[0], frames[taken/2], frames[taken-1]}
		slices.Sort(proofs)
		bought := map[string]string{"job": j.id.String(), "farm": j.farm, "shot": j.shot, "frames": strconv.Itoa(taken), "for": cost.String()}
		return errors.Join(begun(tx, j.id, taken, slices.Compact(proofs), cost, f.clock.Now()), audit.Own(tx, f.clock.WallNow(), "sent frames to a farm", "/runs/"+j.run.String(), bought))
	})
	if errors.Is(err, errNotBegun) {
		return f.never(ctx, j, why)
	}
	return err
}

var errNotBegun = errors.New("the job is not begun")

// never ends a job that was not begun: its booking owes nothing any more.
func (f *Farms) never(ctx context.Context, j job, why string) error {
	return f.set(ctx, j, states.JobNotStarted, why, func(tx *gorm.DB) error {
		return bookings.OneOwesNothing(tx, j.booking)
	})
}

// send gives the farm the package and hands the job in.
func (f *Farms) send(ctx context.Context, farm providers.Farm, j job) error {
	frames, err := f.holds(ctx, j)
	if err != nil {
		return err
	}
	if len(frames) == 0 {
		return f.set(ctx, j, states.JobClosing, "", nil)
	}
	if err := f.packages.Send(ctx, farm, j.source, j.shot, j.files); err != nil {
		return err
	}
	most, err := f.most(ctx, j)
	if err != nil {
		return err
	}
	s := j.shotSpec
	err = farm.Submit(ctx, providers.Job{
		Name: j.id.String(), Owner: f.owner, Tier: j.farm, Shot: j.shot, Frames: frames, Proofs: j.proofs, Package: j.files, Launcher: s.Launcher, Plugins: s.Plugins,
		Licence: j.licence, Scene: paths.InPackage(s.Scene), Width: s.Width, Height: s.Height, Settings: s.Settings, Order: j.order.String(), Most: most,
	})
	if no := (*providers.Refused)(nil); errors.As(err, &no) {
		return f.giveUp(ctx, j, states.JobRejected, no.Error())
	}
	if err != nil {
		return err
	}
	return f.set(ctx, j, states.JobAnalysing, "", func(tx *gorm.DB) error {
		return handed(tx, j.id, f.clock.Now())
	})
}

// giveUp lets a job's frames wait for somebody else and closes it.
func (f *Farms) giveUp(ctx context.Context, j job, state states.Job, why string) error {
	if err := f.queue.GiveBack(ctx, j.holder(), j.farm+": "+why); err != nil {
		return err
	}
	return f.set(ctx, j, state, why, nil)
}
