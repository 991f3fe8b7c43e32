// Package turn reads a host as the rule of core/dispatch looks at it: what it renders, what is booked there, what waits for its
// crews, and the seats of their licences. Whoever has the turn may take frames by that (package queue), or only look what the
// rule would say.
package turn

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/stock"
	"rotanex.example/service/bookings"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/licences"
)

// Lease is an agent's claim on a frame, with what it takes to render it.
type Lease struct {
	Lease, Fence  int64
	Run           uuid.UUID
	Shot          string
	Frame         int
	Crew          string
	Devices       []string
	Backend       string
	MemoryMode    string // "", or the step of core/memory that it is rendered with
	Package       bool   // its files come as a package
	Scene         string
	Width, Height int
	Launcher      string
	Settings      map[string]string
	Start         int64 // what leases of one start have in common; 0: it has one for itself
	Inputs        []Input
	Files         []string // names of those that it must have beside its picture
}

// Input is a finished frame of another shot that a frame needs, of its run, or where that does not have the shot (a trial), the
// last one that any run did.
type Input struct {
	Shot   string `json:"shot"`
	Pass   string `json:"pass"` // its name in its shot
	File   string `json:"file"` // the name of a file beside its picture; "": the picture
	SHA256 string `json:"sha256"`
	Format string `json:"format"` // the ending of the file
}

// Rendering is a lease with what the rule needs to know of it.
type Rendering struct {
	Lease
	MemoryGB float64 // of the host, that its renderer needs
	Boot     uuid.UUID
	Begun    bool // false: it waits in its start
}

// Turn is one host's, in one transaction. It answers what the rule asks of a queue, but for taking frames.
type Turn struct {
	Host      dispatch.Host
	Spec      stock.Host
	Server    bool // a rented one, which renders from packages
	Desk      *hosts.Desk
	Now, Wall time.Time
	Rows      map[*dispatch.Crew]*bookings.Crew

	tx     *gorm.DB
	crowds *bookings.Crowds
	kinds  map[bookings.ShotOf][]dispatch.Kind
	looks  bool // nothing is leased, it is only asked what would be
}

// Of begins the turn of a host.
func Of(tx *gorm.DB, c clock.Clock, crowds *bookings.Crowds, host string) *Turn {
	return &Turn{Host: dispatch.Host{Name: host}, Now: c.Now(), Wall: c.WallNow(), tx: tx, crowds: crowds, kinds: map[bookings.ShotOf][]dispatch.Kind{}}
}

// InUse notes what of the host renderers use.
func (t *Turn) InUse(all []Rendering) {
	for _, l := range all {
		t.Host.Busy = append(t.Host.Busy, l.Devices...)
		if l.Begun { // a start has one renderer
			t.Host.UsedGB += l.MemoryGB
		}
	}
}

// Read reads what the host is booked for.
func (t *Turn) Read() error {
	rows, err := bookings.OnHost(t.tx, t.Wall, t.Host.Name)
	t.Rows = map[*dispatch.Crew]*bookings.Crew{}
	for _, c := range rows {
		t.Rows[&c.Crew] = c
		if !t.looks && c.State != dispatch.InUse {
			c.State, c.Said = dispatch.Ready, "" // who asks is there, whenever it was last heard of
		}
	}
	t.Host.Crews = bookings.Rule(rows)
	dispatch.Sort(t.Host.Crews)
	return err
}

// Kinds implements dispatch.Queue.
func (t *Turn) Kinds(c *dispatch.Crew) ([]dispatch.Kind, error) {
	return t.Known(t.Rows[c].Run, c.Shot)
}

// Known reads what waits of a shot, once in a turn.
func (t *Turn) Known(run uuid.UUID, shot string) ([]dispatch.Kind, error) {
	key := bookings.ShotOf{Run: run, Shot: shot}
	if known, ok := t.kinds[key]; ok {
		return known, nil
	}
	found, err := bookings.Kinds(t.tx, run, shot)
	t.kinds[key] = found
	return found, err
}

// Forget has what waits of a shot read again.
func (t *Turn) Forget(run uuid.UUID, shot string) {
	delete(t.kinds, bookings.ShotOf{Run: run, Shot: shot})
}

// ForgetAll has what waits read again.
func (t *Turn) ForgetAll() { clear(t.kinds) }

// Pool implements dispatch.Queue.
func (t *Turn) Pool(c *dispatch.Crew) (dispatch.Pool, bool, error) {
	return licences.PoolFor(t.tx, t.Host.Name, c.Licence, t.Now, t.Wall, !t.looks, t.Known)
}

// Others implements dispatch.Queue.
func (t *Turn) Others(c *dispatch.Crew) ([]*dispatch.Crew, int, error) {
	rows, n, err := t.crowds.Of(t.tx, t.Wall, t.Rows[c].Run, c.Shot)
	return bookings.Rule(rows), n, err
}
