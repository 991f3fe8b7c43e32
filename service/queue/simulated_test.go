package queue

import (
	"cmp"
	"context"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"pgregory.net/rapid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/picture"
	"rotanex.example/core/preflight"
	"rotanex.example/core/simulate"
	"rotanex.example/core/stock"
	"rotanex.example/service/bookings"
	"rotanex.example/service/hosts"
	"rotanex.example/service/licences"
	"rotanex.example/service/pictures"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
	"rotanex.example/service/turn"
)

var six = teststage.Six

// taken is that a crew began a frame.
type taken struct {
	after time.Duration
	place string
	shot  string
	frame int
}

// The simulation by which forecasts are made and leasing over the database give every
// frame to the same crew at the same time: with seats, host memory, open hours, failed
// tries, frames that are tied to crews, and farms.
func TestASimulationGoesAsLeasingDoes(t *testing.T) {
	db := testdb.Open(t)
	rapid.Check(t, func(t *rapid.T) {
		s := drawScenario(t)
		simulated, left := s.simulate()
		leased, waiting := s.lease(t, db)
		require.Equal(t, lines(leased), lines(simulated), "leased, simulated")
		require.Equal(t, waiting, left, "frames that are left over")
	})
}

func lines(all []taken) string {
	slices.SortFunc(all, func(a, b taken) int {
		return cmp.Or(cmp.Compare(a.after, b.after), cmp.Compare(a.place, b.place), cmp.Compare(a.shot, b.shot), cmp.Compare(a.frame, b.frame))
	})
	var out strings.Builder
	for _, x := range all {
		fmt.Fprintf(&out, "%s %s %s %d\n", x.after, x.place, x.shot, x.frame)
	}
	return out.String()
}

// scenario is a run, as a simulation sets it up.
type scenario struct {
	simulate.Setup
	takes []time.Duration // of each crew, really
	salt  string          // by which tries fail
	odds  uint32          // of a hundred
}

// fails says whether the n-th try of a frame at a place gives none.
func (s *scenario) fails(place, shot string, frame, n int) bool {
	h := fnv.New32a()
	_, _ = fmt.Fprint(h, s.salt, place, shot, frame, n)
	return h.Sum32()%100 < s.odds
}

// due is when a shot is due: one of two within two minutes, the others never.
func (s *scenario) due(shot string) time.Time {
	h := fnv.New32a()
	_, _ = fmt.Fprint(h, s.salt, shot)
	if h.Sum32()%2 == 0 {
		return time.Time{}
	}
	return six.Add(time.Duration(h.Sum32()/2%121) * time.Second)
}

// drawScenario draws small runs in which much gets in each other's way.
func drawScenario(t *rapid.T) *scenario {
	number := func(low, high int, what string) int { return rapid.IntRange(low, high).Draw(t, what) }
	s := &scenario{salt: fmt.Sprint(number(0, 1<<20, "salt")), odds: uint32(number(0, 2, "fails")) * 15}
	s.Tries = number(1, 3, "tries")
	s.Pools = []simulate.Pool{{Name: "fathom", Seats: number(1, 2, "seats")}}
	seconds := func(low, high int, what string) time.Duration {
		return time.Duration(number(low, high, what)) * time.Second
	}
	for i := range number(1, 3, "hosts") {
		s.Hosts = append(s.Hosts, simulate.Host{Name: fmt.Sprintf("host-%d", i), MemoryGB: float64(number(16, 48, "memory")), Up: six})
	}
	machines := len(s.Hosts)
	for i := range number(1, 2, "shots") {
		shot := fmt.Sprintf("shot-%d", i)
		memory, licence := float64(number(0, 20, "shot memory")), ""
		if rapid.Bool().Draw(t, "licensed") {
			licence = "fathom"
		}
		due := s.due(shot)
		add := func(host int, name string, devices []string, frames int, change func(*dispatch.Crew)) {
			begin, each := seconds(0, 40, "start"), seconds(4, 15, "frame")
			c := dispatch.Crew{
				ID: int64(len(s.Crews) + 1), Host: s.Hosts[host].Name, Name: name, Place: dispatch.Place(s.Hosts[host].Name, name), Shot: shot, Devices: devices,
				Frames: frames, Start: six.Add(begin), End: six.Add(begin + time.Duration(max(1, frames))*each), Frame: each, Due: due, MemoryGB: memory, Licence: licence,
			}
			change(&c)
			s.Crews = append(s.Crews, simulate.Crew{Crew: c, Host: host, Shot: i})
			s.takes = append(s.takes, seconds(2, 30, "really"))
		}
		for host := range machines {
			for _, devices := range [][]string{{"g0"}, {"g1"}, {"g0", "g1"}} {
				if !rapid.Bool().Draw(t, "booked") {
					continue
				}
				add(host, strings.Join(devices, "+"), devices, number(0, 5, "frames"), func(c *dispatch.Crew) {
					if rapid.Bool().Draw(t, "closes") {
						c.Close = c.End.Add(seconds(0, 60, "close"))
					}
				})
			}
		}
		if rapid.Bool().Draw(t, "farm") {
			nodes := number(1, 2, "nodes")
			begins := seconds(0, 30, "job begins")
			s.Hosts = append(s.Hosts, simulate.Host{Name: "farm-" + shot, Nodes: nodes, Begins: six.Add(begins), Up: six.Add(begins + seconds(0, 30, "queue"))})
			add(len(s.Hosts)-1, "node", []string{}, number(1, 6, "frames"), func(c *dispatch.Crew) { c.Farm, c.Licence = true, "" })
		}
		s.Shots = append(s.Shots, s.drawFrames(t, shot))
	}
	return s
}

// drawFrames draws frames never tried, and some that failed before or are tied.
func (s *scenario) drawFrames(t *rapid.T, shot string) simulate.Shot {
	out := simulate.Shot{ID: shot}
	var places []string
	for _, c := range s.Crews {
		if c.Crew.Shot == shot && !c.Farm {
			places = append(places, c.Place)
		}
	}
	for n := range rapid.IntRange(1, 12).Draw(t, "all frames") {
		if len(places) == 0 || s.Tries == 1 || rapid.IntRange(0, 4).Draw(t, "kind") > 0 {
			out.Fresh = append(out.Fresh, n)
			continue
		}
		k := dispatch.Kind{Tried: true}
		if place := rapid.SampledFrom(places).Draw(t, "place"); rapid.Bool().Draw(t, "tied") {
			k.OnlyOn = []string{place}
		} else {
			k.FailedOn = []string{place}
		}
		at := slices.IndexFunc(out.Tried, func(f simulate.Frames) bool {
			return slices.Equal(f.FailedOn, k.FailedOn) && slices.Equal(f.OnlyOn, k.OnlyOn)
		})
		if at < 0 {
			at = len(out.Tried)
			out.Tried = append(out.Tried, simulate.Frames{Kind: k, Failures: 1})
		}
		out.Tried[at].Numbers = append(out.Tried[at].Numbers, n)
	}
	out.Frames = len(out.Fresh)
	if out.Fresh == nil {
		out.Fresh = []int{}
	}
	return out
}

// chance is how the scenario's tries go, with what was begun kept.
type chance struct {
	*scenario
	begun []taken
	tries map[string]int
}

func (c *chance) Try(crew, frame int, at time.Time) (time.Duration, bool) {
	x := c.Crews[crew]
	key := fmt.Sprint(x.Place, x.Crew.Shot, frame)
	c.tries[key]++
	c.begun = append(c.begun, taken{at.Sub(six), x.Place, x.Crew.Shot, frame})
	return c.takes[crew], c.fails(x.Place, x.Crew.Shot, frame, c.tries[key])
}

func (s *scenario) simulate() (begun []taken, left int) {
	sim := simulate.New(s.Setup)
	sim.Reset()
	c := &chance{scenario: s, tries: map[string]int{}}
	sim.Run(c)
	for _, x := range sim.Shots {
		left += x.Left
	}
	return c.begun, left
}

// house leases the scenario out over the database, with a clock that leaps.
type house struct {
	*scenario
	t       require.TestingT
	q       *Queue
	db      *store.Store
	wall    *clockwork.FakeClock
	run     uuid.UUID
	boot    uuid.UUID
	chance  *chance
	renders []rendering
	next    []time.Time // of each host, when it looks
	held    [][]int     // of each farm's host, frames not begun
}

// rendering is a frame in hand.
type rendering struct {
	ends   time.Time
	crew   int
	lease  turn.Lease
	holder *Holder
	fails  bool
}

func (s *scenario) lease(t require.TestingT, db *store.Store) (begun []taken, left int) {
	on := teststage.On(db)
	h := &house{
		scenario: s, t: t, db: db, wall: on.Wall, run: uuid.New(), boot: uuid.New(), chance: &chance{scenario: s, tries: map[string]int{}},
		q:    New(db, on.Clock, on.Feed, pictures.New(on.Blobs), on.Log),
		next: make([]time.Time, len(s.Hosts)), held: make([][]int, len(s.Hosts)),
	}
	for _, table := range []string{"runs", "hosts", "licences", "seats", "events"} {
		require.NoError(t, db.Exec("DELETE FROM "+table).Error)
	}
	h.stored()
	most := 2000
	for i, x := range s.Hosts {
		h.next[i] = six
		if x.Nodes > 0 {
			h.next[i] = x.Begins
		}
	}
	for at := h.soonest(); !at.IsZero(); at = h.soonest() {
		require.Greater(t, most, 0, "it goes on and on")
		most--
		h.wall.Advance(at.Sub(h.wall.Now()))
		h.framesEnd(at)
		for i := range slices.Backward(s.Hosts) { // farms are the last: their jobs begin first
			if s.Hosts[i].Nodes > 0 {
				h.farmLooks(i, at)
			}
		}
		for before := -1; before < len(h.chance.begun); {
			before = len(h.chance.begun)
			for i, x := range s.Hosts {
				if x.Nodes == 0 {
					h.look(i, at)
				}
			}
		}
	}
	require.NoError(t, db.Raw("SELECT count(*) FROM frames WHERE run_id = $1 AND state <> 'done'", h.run).Row().Scan(&left))
	return h.chance.begun, left
}

// stored writes the scenario into the database.
func (h *house) stored() {
	ok := func(err error) { require.NoError(h.t, err) }
	ok(h.db.Exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', $2, $3)", h.run, h.Tries, six).Error)
	ok(h.db.Exec("INSERT INTO licences (pool, kind, seats) VALUES ($1, 'floating', $2)", h.Pools[0].Name, h.Pools[0].Seats).Error)
	for _, x := range h.Hosts {
		if x.Nodes == 0 {
			seen := six
			ok(h.db.Create(&hosts.Host{
				Name: x.Name, Source: "loft", Spec: stock.Host{Name: x.Name, MemoryGB: x.MemoryGB}, Launchers: []string{}, Findings: []string{}, Missing: []string{}, Renderers: []preflight.Renderer{}, Boot: &h.boot, AgentSeen: &seen,
			}).Error)
		}
	}
	var booked []bookings.Booking
	for _, c := range h.Crews {
		b := bookings.Booking{RunID: h.run, Shot: c.Crew.Shot, Host: c.Crew.Host, Crew: c.Name, Devices: c.Devices, Frames: c.Frames, StartAt: c.Start, EndAt: c.End, FrameS: c.Frame.Seconds(), Open: true}
		if !c.Close.IsZero() {
			b.CloseAt = &c.Close
		}
		if !c.Due.IsZero() {
			b.DueAt = &c.Due
		}
		booked = append(booked, b)
	}
	var frames []Frame
	for i, x := range h.Shots {
		first := slices.IndexFunc(h.Crews, func(c simulate.Crew) bool { return c.Shot == i && !c.Farm })
		spec := map[string]any{"name": x.ID, "host_memory_gb": 0, "width": 1, "height": 1}
		if first >= 0 {
			spec["host_memory_gb"], spec["licence"] = h.Crews[first].MemoryGB, h.Crews[first].Licence
		}
		text, err := store.AsJSON(spec)
		ok(err)
		ok(h.db.Exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, $2, $3)", h.run, x.ID, text).Error)
		for _, n := range x.Fresh {
			frames = append(frames, Frame{RunID: h.run, Shot: x.ID, Frame: n})
		}
		for _, k := range x.Tried {
			for _, n := range k.Numbers {
				frames = append(frames, Frame{RunID: h.run, Shot: x.ID, Frame: n, Failures: k.Failures, FailedOn: k.FailedOn, OnlyOn: k.OnlyOn})
			}
		}
	}
	ok(h.db.CreateInBatches(frames, 2000).Error)
	ok(bookings.Add(h.db.DB, booked))
	for i, c := range h.Crews {
		if c.Farm {
			ok(h.db.Exec("INSERT INTO farm_jobs (id, run_id, order_id, booking_id, shot, farm, source, crew, frames, state, from_at) VALUES ($1, $2, $2, $3, $4, $5, 'ebb', $6, $7, 'planned', $8)",
				uuid.New(), h.run, booked[i].ID, c.Crew.Shot, c.Crew.Host, c.Name, c.Frames, h.Hosts[c.Host].Begins).Error)
		}
	}
}

// soonest is when something happens next; zero: never.
func (h *house) soonest() (at time.Time) {
	for _, x := range h.next {
		if !x.IsZero() && (at.IsZero() || x.Before(at)) {
			at = x
		}
	}
	for _, r := range h.renders {
		if at.IsZero() || r.ends.Before(at) {
			at = r.ends
		}
	}
	return at
}

// framesEnd hands in what is done or failed by now.
func (h *house) framesEnd(at time.Time) {
	ctx := context.Background()
	slices.SortStableFunc(h.renders, func(a, b rendering) int {
		return cmp.Or(a.ends.Compare(b.ends), cmp.Compare(h.Crews[a.crew].Host, h.Crews[b.crew].Host), cmp.Compare(a.crew, b.crew))
	})
	for len(h.renders) > 0 && !h.renders[0].ends.After(at) {
		r := h.renders[0]
		h.renders = h.renders[1:]
		host := h.Crews[r.crew].Host
		h.next[host] = at
		if r.holder != nil && r.fails {
			require.NoError(h.t, h.q.Fail(ctx, *r.holder, r.lease.Frame, "crashed", "it crashed", 1))
			continue
		}
		end := Result{Boot: h.boot, Failed: true, Cause: "crashed"}
		place := h.Hosts[host].Name
		if r.holder != nil {
			end.Boot = r.holder.ID
			require.NoError(h.t, h.db.Raw("SELECT id, fence FROM frames WHERE boot = $1 AND frame = $2 AND shot = $3", r.holder.ID, r.lease.Frame, r.holder.Shot).Row().Scan(&r.lease.Lease, &r.lease.Fence))
		}
		if !r.fails {
			end.Failed, end.Cause, end.SHA256 = false, "", strings.Repeat("a", 64)
			_, err := h.q.notePicture(ctx, place, r.lease.Lease, r.lease.Fence, end.SHA256, 1, picture.Info{Format: "png"}, "a key")
			require.NoError(h.t, err)
		}
		require.NoError(h.t, h.q.End(ctx, place, r.lease.Lease, r.lease.Fence, end))
	}
}

// look lets a host ask for frames.
func (h *house) look(i int, at time.Time) {
	ctx := context.Background()
	require.NoError(h.t, h.db.Exec("UPDATE hosts SET agent_seen = $1", at).Error)
	for _, x := range h.Hosts {
		require.NoError(h.t, licences.Keep(h.db.DB, []string{x.Name}, at.Add(licences.SeatLife))) // their agents are all heard of
	}
	_, err := licences.ReturnUnused(h.db.DB, h.wall.Now(), turn.Of(h.db.DB, h.q.clock, h.q.crowds, "").Known)
	require.NoError(h.t, err)
	var held []Held
	for _, r := range h.renders {
		if h.Crews[r.crew].Host == i {
			held = append(held, Held{Lease: r.lease.Lease, Fence: r.lease.Fence})
		}
	}
	found, err := h.q.Grant(ctx, Holding{h.Hosts[i].Name, h.boot, held, false})
	granted, next := found.Leases, found.Next
	require.NoError(h.t, err)
	h.next[i] = next
	for _, l := range granted {
		crew := slices.IndexFunc(h.Crews, func(c simulate.Crew) bool { return c.Host == i && c.Name == l.Crew && c.Crew.Shot == l.Shot })
		takes, fails := h.chance.Try(crew, l.Frame, at)
		h.renders = append(h.renders, rendering{ends: at.Add(takes), crew: crew, lease: l, fails: fails})
	}
}

// farmLooks hands a farm its frames when its job begins, and lets free nodes go on.
func (h *house) farmLooks(i int, at time.Time) {
	if at.Before(h.Hosts[i].Begins) {
		return
	}
	crew := slices.IndexFunc(h.Crews, func(c simulate.Crew) bool { return c.Host == i })
	c := h.Crews[crew]
	var holder Holder
	require.NoError(h.t, h.db.Raw("SELECT id, booking_id FROM farm_jobs WHERE run_id = $1 AND shot = $2", h.run, c.Crew.Shot).Row().Scan(&holder.ID, &holder.Booking))
	holder.Run, holder.Shot, holder.Place, holder.Crew = h.run, c.Crew.Shot, h.Hosts[i].Name, c.Name
	if at.Equal(h.Hosts[i].Begins) {
		require.NoError(h.t, h.db.Transaction(func(tx *gorm.DB) error {
			frames, err := h.q.LeaseFor(tx, holder, c.Frames)
			h.held[i] = frames
			if err == nil {
				err = tx.Exec("UPDATE farm_jobs SET state = 'rendering' WHERE id = $1", holder.ID).Error
			}
			return err
		}))
	}
	h.next[i] = time.Time{}
	if at.Before(h.Hosts[i].Up) {
		h.next[i] = h.Hosts[i].Up
		return
	}
	busy := 0
	for _, r := range h.renders {
		if r.crew == crew {
			busy++
		}
	}
	for ; busy < h.Hosts[i].Nodes && len(h.held[i]) > 0; busy++ {
		frame := h.held[i][0]
		h.held[i] = h.held[i][1:]
		var all time.Duration
		fails := true
		for range dispatch.FarmTries {
			var takes time.Duration
			takes, fails = h.chance.Try(crew, frame, at.Add(all))
			if all += takes; !fails {
				break
			}
		}
		h.renders = append(h.renders, rendering{ends: at.Add(all), crew: crew, lease: turn.Lease{Frame: frame}, holder: &holder, fails: fails})
	}
}
