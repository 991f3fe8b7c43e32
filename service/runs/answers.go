package runs

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/core/ledger"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/farms"
	"rotanex.example/service/settled"
	"rotanex.example/service/standing"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
	"rotanex.example/service/tally"
)

// shown is what runs that are over were shown as.
type shown = settled.Kept[api.Run]

// shownWay is another number for each way in which runs are shown.
const shownWay = 1

func newShown(s *store.Store, c clock.Clock) *shown {
	return settled.New[api.Run](s, c, "run", shownWay)
}

// shownAs is a run as it stands.
func (q *Runs) shownAs(ctx context.Context, id uuid.UUID) (api.Run, error) {
	run, err := q.Find(ctx, id)
	if err != nil {
		return api.Run{}, err
	}
	return settled.One(ctx, q.shown, run, q.asItStands)
}

// asItStands is a run as it stands, and whether it stands so for good.
func (q *Runs) asItStands(ctx context.Context, run Run) (api.Run, bool, error) {
	s, err := q.read(ctx, run)
	if err != nil {
		return api.Run{}, false, err
	}
	return s.record(q.clock.WallNow()), s.Settled(), nil
}

func add(c *api.FrameCounts, n tally.Counts) {
	c.Waiting, c.Rendering, c.Done, c.Failed = c.Waiting+n.Waiting, c.Rendering+n.Rendering, c.Done+n.Done, c.Failed+n.Failed
}

func (s state) record(wall time.Time) api.Run {
	out := api.Run{
		Id: s.ID, Plan: *s.PlanID, State: api.RunState(s.State), Priority: api.Priority(s.Priority.String()), Policy: api.Policy(s.Policy), Created: s.CreatedAt.UTC(), Currency: s.Currency,
		PlannedFinish: s.At(s.Plan.Finish), FramesHour: s.pace(), PlannedFramesHour: s.PlannedPace(s.until()),
		Shots: []api.RunShot{}, Crews: []api.RunCrew{}, Servers: []api.RunServer{},
	}
	if s.EndedAt != nil {
		out.Ended = s.EndedAt.UTC()
	}
	if s.outlook.LookedAt != nil && s.State.Open() {
		out.Outlook = outlookRecord(s.outlook)
	}
	for _, shot := range s.shots {
		row := api.RunShot{Shot: shot.Shot, Title: shot.Spec.Title, Frames: shot.Spec.Frames, Width: shot.Spec.Width, Height: shot.Spec.Height, Fps: shot.Spec.FPS, PassOf: shot.Spec.PassOf, Pass: shot.Spec.Pass, After: shot.Spec.After}
		for _, c := range s.Tally.Counts {
			if c.Shot == shot.Shot {
				add(&row.Counts, c)
				add(&out.Counts, c)
			}
		}
		out.Shots = append(out.Shots, row)
	}
	out.Deadline = s.due()
	if left := out.Counts.Waiting + out.Counts.Rendering; left > 0 && out.FramesHour > 0 && len(s.recent) >= fewestRecent && s.State == states.RunRunning {
		out.LeftS = float64(left) / out.FramesHour * 3600
		out.ExpectedFinish = s.Now.Add(time.Duration(out.LeftS * float64(time.Second)))
	}
	planned, cost := ledger.Total(s.Entries())
	out.PlannedCost, out.CostSoFar = planned.String(), cost.String()
	s.money(&out)
	for _, v := range s.Servers {
		row := api.RunServer{Id: v.ID, Offer: v.Offer, Host: v.Host, State: api.RunServerState(v.State), From: v.FromAt.UTC(), To: v.ToAt.UTC(), Trouble: v.Trouble, Image: v.Image}
		if v.StartedAt != nil {
			row.Started = v.StartedAt.UTC()
		}
		if v.StoppedAt != nil {
			row.Stopped = v.StoppedAt.UTC()
		}
		out.Servers = append(out.Servers, row)
	}
	for _, j := range s.Jobs {
		out.FarmJobs = append(out.FarmJobs, s.JobRecord(j))
	}
	out.Crews = s.crewRecords(wall)
	for _, x := range s.waiting.Stranded {
		out.Stranded = append(out.Stranded, api.Stranded{Shot: x.Shot, Frames: x.Frames, Why: x.Why})
	}
	out.Waiting = s.waiting.Record()
	return out
}

// due is when the last of the run's shots is; zero: it is of the backlog, and has no deadline.
func (s state) due() (last time.Time) {
	switch {
	case s.Run.Priority == dispatch.Backlog:
		return last
	case s.Run.Deadline != nil:
		return s.Run.Deadline.UTC()
	}
	for _, p := range s.Problem.Shots {
		due, narrowed := s.Deadlines[p.ID]
		if !narrowed {
			due = p.Deadline
		}
		if d := s.At(due); d.After(last) {
			last = d
		}
	}
	return last
}

func outlookRecord(o standing.Outlook) api.Outlook {
	out := api.Outlook{At: o.LookedAt.UTC(), Chance: o.Chance, Proposals: o.Asks}
	if o.Finish != nil {
		out.Finish = o.Finish.UTC()
	}
	if k := o.Kept; k != nil {
		out.KeptFinish = api.TimeSpread{P10: k.P10, P50: k.P50, P90: k.P90}
	}
	if o.MayLet != nil {
		out.MayLet = *o.MayLet
	}
	return out
}

// crewRecords says what each crew of the run is doing. Reserves are shown once they are used.
func (s state) crewRecords(wall time.Time) []api.RunCrew {
	c := crewRows{state: s, wall: wall, rows: []api.RunCrew{}, at: map[[2]string]int{}, first: map[[2]string]bookings.Booking{}}
	c.booked()
	c.did()
	c.stand()
	c.render()
	c.outside()
	return slices.DeleteFunc(c.rows, func(c api.RunCrew) bool {
		return c.Booked == 0 && c.Done == 0 && c.Excluded == "" && c.State != api.RunCrewStateRendering
	})
}

// crewRows are a run's crews, as they are put together.
type crewRows struct {
	state
	wall  time.Time
	rows  []api.RunCrew
	at    map[[2]string]int              // the row of each host and crew
	first map[[2]string]bookings.Booking // of each
}

// booked adds a row for each crew that is booked.
func (c *crewRows) booked() {
	for _, b := range c.Bookings {
		key := [2]string{b.Host, b.Crew}
		i, seen := c.at[key]
		if !seen {
			i = len(c.rows)
			c.at[key], c.first[key] = i, b
			c.rows = append(c.rows, api.RunCrew{Host: b.Host, Crew: b.Crew, Source: c.PlaceSource(b.Host), PlannedS: b.FrameS})
		}
		c.rows[i].Booked += b.Frames
	}
}

// did adds what crews have done, and what that was expected to take.
func (c *crewRows) did() {
	byCrew := tally.Group(c.Tally.Sums, func(x *tally.Sum) { x.Shot, x.Day, x.Booking = "", time.Time{}, 0 })
	for _, w := range byCrew {
		if i, ok := c.at[[2]string{w.Host, w.Crew}]; ok {
			c.rows[i].Done = w.Done
			held := w.HeldS
			if slices.ContainsFunc(c.Jobs, func(j farms.Job) bool { return j.Farm == w.Host }) {
				held = w.DoneS // a farm's nodes are its own
			}
			if w.Done > 0 {
				c.rows[i].MeanS = held / float64(w.Done)
			}
		}
	}
	for crew, seconds := range c.Expected() { // while one has done none it is what its first booking says
		if i, ok := c.at[crew]; ok {
			c.rows[i].PlannedS = seconds
		}
	}
}

// stand says how the crews' hosts stand, and who gets no more frames.
func (c *crewRows) stand() {
	for key, i := range c.at {
		host := c.Hosts[key[0]]
		switch {
		case !c.State.Open():
			c.rows[i].State = api.RunCrewStateFinished
		case c.first[key].StartAt.After(c.Now):
			c.rows[i].State = api.RunCrewStateScheduled
		case !host.Up(c.wall) || host.Trouble != "":
			c.rows[i].State = api.RunCrewStateLost
		case host.Draining:
			c.rows[i].State = api.RunCrewStateDraining
		case host.Desk.Keeps(c.first[key].Devices) != "":
			c.rows[i].State = api.RunCrewStateInUse
		default:
			c.rows[i].State = api.RunCrewStateReady
		}
	}
	for _, b := range c.Bookings {
		if i := c.at[[2]string{b.Host, b.Crew}]; b.Excluded != "" {
			c.rows[i].Excluded = b.Excluded
			if c.rows[i].State == api.RunCrewStateReady {
				c.rows[i].State = api.RunCrewStateExcluded
			}
		}
	}
}

// render says what is being rendered.
func (c *crewRows) render() {
	for _, f := range c.leased {
		if i, ok := c.at[[2]string{*f.Host, *f.Crew}]; ok && !f.Begun {
			c.rows[i].MoreInStart++
		} else if ok {
			c.rows[i].State, c.rows[i].Shot, c.rows[i].Frame, c.rows[i].Progress = api.RunCrewStateRendering, f.Shot, f.Frame, f.Progress
		}
	}
}

// outside says how servers and farms stand.
func (c *crewRows) outside() {
	for _, v := range c.Servers {
		for i := range c.rows {
			if c.rows[i].Host == v.Host && c.rows[i].State == api.RunCrewStateLost && v.State.Ahead() {
				c.rows[i].State = api.RunCrewStateScheduled
			} else if c.rows[i].Host == v.Host && v.State.Final() {
				c.rows[i].State = api.RunCrewStateFinished
			}
		}
	}
	for _, j := range c.Jobs {
		for i := range c.rows {
			if c.rows[i].Host == j.Farm {
				c.rows[i].Source, c.rows[i].State = j.Source, jobCrewState(j.State)
			}
		}
	}
}

// money fills in what servers and farms cost so far and what of the cap is left.
func (s state) money(out *api.Run) {
	if s.Cap == nil {
		return
	}
	out.Cap, out.Alert = *s.Cap, s.Alerted
	out.OutsideCost = s.Outside().String()
}

func jobCrewState(state states.Job) api.RunCrewState {
	switch state {
	case states.JobPlanned:
		return api.RunCrewStateScheduled
	case states.JobEnded, states.JobNotStarted:
		return api.RunCrewStateFinished
	case states.JobRejected, states.JobRefused, states.JobClosing:
		return api.RunCrewStateDraining
	}
	return api.RunCrewStateRendering
}
