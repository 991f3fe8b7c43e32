package bookings

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/hosts"
	"rotanex.example/service/states"
)

// Crew is a booking with what is known of its machine.
type Crew struct {
	dispatch.Crew
	Run     uuid.UUID
	Mode    string        // of memory, that its frames are rendered in
	Pace    float64       // seconds a frame, of one node
	Opening time.Duration // of the scene, once a start; 0: not known, or a start renders one frame
	Nodes   int           // of a farm, that work side by side; else 1
	seen    *time.Time
	server  *states.Server // the state of the rented server that it is on
	job     *states.Job    // the state of the farm's job that it is
	Known   bool           // its host is in the stock
	drains  bool
	trouble string      // for which its agent takes nothing, as it says
	desk    *hosts.Desk // nil: nobody works at it
}

// Rule lists crews as the rule takes them.
func Rule(all []*Crew) []*dispatch.Crew {
	out := make([]*dispatch.Crew, len(all))
	for i, c := range all {
		out[i] = &c.Crew
	}
	return out
}

// OfShot lists the crews that are booked for a shot, as the rule takes them.
func OfShot(all []*Crew, shot string) (out []*dispatch.Crew) {
	for _, c := range all {
		if c.Shot == shot {
			out = append(out, &c.Crew)
		}
	}
	return out
}

// OfRun lists the bookings of a run, of one shot of it or with "" of all.
func OfRun(tx *gorm.DB, wall time.Time, run uuid.UUID, shot string) ([]*Crew, error) {
	return read(tx, wall, "b.run_id = $1 AND ($2 = '' OR b.shot = $2)", run, shot)
}

// OnHost lists the bookings on a host from which frames are leased now.
func OnHost(tx *gorm.DB, wall time.Time, host string) ([]*Crew, error) {
	return read(tx, wall, "b.host = $1 AND b.open AND r.state = 'running'", host)
}

// OfOpenRuns lists the bookings of all open runs that owe frames.
func OfOpenRuns(tx *gorm.DB, wall time.Time) ([]*Crew, error) {
	return read(tx, wall, "b.open AND r.kind = 'run' AND r.state IN ('running', 'paused') AND b.taken < b.frames AND b.excluded = ''")
}

// Owing lists the bookings on hosts in the stock that owe frames which need a licence.
func Owing(tx *gorm.DB, wall time.Time, licence string) ([]*Crew, error) {
	return read(tx, wall, "b.open AND r.state = 'running' AND b.taken < b.frames AND h.name IS NOT NULL AND s.spec->>'licence' = $1", licence)
}

// Over reports whether its machine was rented, or a farm's job, and is no more.
func (c *Crew) Over() bool {
	return c.State == dispatch.Gone && (c.server != nil || c.job != nil)
}

// stands says how the machine of a booking stands, as the rule looks at it.
func (c *Crew) stands(wall time.Time) (dispatch.State, string) {
	if c.job != nil {
		switch *c.job {
		case states.JobPlanned:
			return dispatch.Coming, ""
		case states.JobNotStarted:
			return dispatch.Gone, "was not given the job"
		}
		return dispatch.Gone, "has its job: it takes no more frames"
	}
	up := c.seen != nil && wall.Sub(*c.seen) < hosts.Lost
	if c.server != nil {
		switch *c.server {
		case states.ServerPlanned, states.ServerRequested, states.ServerStarting:
			return dispatch.Coming, ""
		case states.ServerNotStarted:
			return dispatch.Gone, "was never made"
		case states.ServerUp:
			if !up {
				return dispatch.Silent, ""
			}
		default:
			return dispatch.Gone, "is ended"
		}
	}
	switch {
	case !c.Known:
		return dispatch.Gone, "is not in the stock any more"
	case c.drains:
		return dispatch.Gone, "is draining"
	case !up:
		return dispatch.Gone, "is not heard of"
	case c.trouble != "":
		return dispatch.Gone, "has set itself aside: " + c.trouble
	}
	if why := c.desk.Keeps(c.Devices); why != "" {
		return dispatch.InUse, why
	}
	return dispatch.Ready, ""
}
