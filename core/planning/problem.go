// Package planning finds the cheapest schedule that meets the deadlines.
//
// A Problem holds everything already resolved to numbers: the shots, the
// machines, what a frame of each shot takes on each crew, and all prices. Solve
// answers it with a Plan and a proven lower bound on the cost of any plan.
// Check decides, by its own arithmetic, whether a plan is valid.
//
//	problem, err := planning.ParseProblem(file)
//	plan, err := planning.Solve(ctx, problem, planning.Options{})
//	fmt.Println(plan.Cost, "no plan costs less than", plan.CostBound)
//
// The files are described in docs/formats.md.
package planning

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/shopspring/decimal"

	"rotanex.example/core/pricing"
)

// ProblemFormat is the format name in a problem file.
const ProblemFormat = "rotanex-problem-1"

// Goals of a problem.
const (
	Cheapest = "cheapest" // least cost, then earliest finish
	Fastest  = "fastest"  // earliest finish inside the budget, then least cost
)

// Millis is a time or a length of time in whole milliseconds from the problem's
// start. In JSON it is a number of seconds with at most three decimals.
type Millis int64

// Duration returns m as a time.Duration.
func (m Millis) Duration() time.Duration { return time.Duration(m) * time.Millisecond }

// MillisOf rounds d up to whole milliseconds.
func MillisOf(d time.Duration) Millis {
	return Millis((d + time.Millisecond - 1) / time.Millisecond)
}

// MarshalJSON writes seconds.
func (m Millis) MarshalJSON() ([]byte, error) {
	return []byte(decimal.New(int64(m), -3).String()), nil
}

// UnmarshalJSON reads seconds.
func (m *Millis) UnmarshalJSON(text []byte) error {
	d, err := decimal.NewFromString(string(text))
	if err != nil || bytes.HasPrefix(text, []byte(`"`)) {
		return fmt.Errorf("time %s: not a number of seconds", text)
	}
	if !d.Equal(d.Truncate(3)) {
		return fmt.Errorf("time %s: more than three decimals", text)
	}
	if d.Abs().GreaterThan(decimal.New(1, 11)) {
		return fmt.Errorf("time %s: more than 100,000,000,000 seconds", text)
	}
	*m = Millis(d.Shift(3).IntPart())
	return nil
}

// Memory is an amount of memory in millionths of a gigabyte. In JSON it is a
// number of gigabytes.
type Memory int64

// GB returns m in gigabytes.
func (m Memory) GB() float64 { return float64(m) / 1e6 }

// MarshalJSON writes gigabytes.
func (m Memory) MarshalJSON() ([]byte, error) {
	return []byte(decimal.New(int64(m), -6).String()), nil
}

// UnmarshalJSON reads gigabytes.
func (m *Memory) UnmarshalJSON(text []byte) error {
	d, err := decimal.NewFromString(string(text))
	if err != nil || d.IsNegative() || d.GreaterThan(decimal.New(1, 9)) || !d.Equal(d.Truncate(6)) {
		return fmt.Errorf("memory %s: not a number of gigabytes with at most six decimals", text)
	}
	*m = Memory(d.Shift(6).IntPart())
	return nil
}

// Problem is the planning problem, everything resolved to numbers.
type Problem struct {
	Format    string         `json:"format"`
	Start     time.Time      `json:"start"`
	Currency  string         `json:"currency"`
	Goal      string         `json:"goal"`
	Budget    *pricing.Money `json:"budget,omitempty"`
	Shots     []Shot         `json:"shots"`
	Licences  []Licence      `json:"licences,omitempty"`
	Hosts     []Host         `json:"hosts,omitempty"`
	Offers    []Offer        `json:"offers,omitempty"`
	Farms     []Farm         `json:"farms,omitempty"`
	Timings   []Timing       `json:"timings"`
	Transfers []Transfer     `json:"transfers,omitempty"`
}

// Shot is frames of one scene with a deadline.
type Shot struct {
	ID       string `json:"id"`
	Frames   int    `json:"frames"`
	Ready    Millis `json:"ready_s"`
	Deadline Millis `json:"deadline_s"`
	RAM      Memory `json:"ram_gb,omitempty"` // host memory of one running renderer
	Licence  string `json:"licence,omitempty"`
	// Priority says whose deadline is kept where not all can be: a higher one first.
	Priority int `json:"priority,omitempty"`
	// After are shots of as many frames, whose frame k must be home before frame k of this one
	// starts: the passes that a composite is made of.
	After []string `json:"after,omitempty"`
	// Home is how many frames of a shot in After are home already, of a run that is under way:
	// that shot has as many fewer here.
	Home map[string]int `json:"home,omitempty"`
}

// Licence is a pool of floating seats.
type Licence struct {
	ID             string        `json:"id"`
	Seats          int           `json:"seats"`
	ExtraSeats     int           `json:"extra_seats,omitempty"`
	ExtraSeatPrice pricing.Money `json:"extra_seat_price"`
}

// Crew is devices of one machine that render one frame together.
type Crew struct {
	ID        string        `json:"id"`
	Devices   []string      `json:"devices"`
	BusyPrice pricing.Money `json:"busy_price_h"` // owned machines only
}

// Host is an owned machine.
type Host struct {
	ID      string      `json:"id"`
	RAM     *Memory     `json:"ram_gb,omitempty"` // nil: no limit
	Windows [][2]Millis `json:"windows"`
	Crews   []Crew      `json:"crews"`
	// Open is when it takes frames, where that is more than when it may be booked: a desk
	// is not booked for all of its hours. Windows lie inside it; nil is no more than them.
	Open [][2]Millis `json:"open,omitempty"`
}

// Hours are when the host takes frames.
func (h Host) Hours() [][2]Millis {
	if h.Open != nil {
		return h.Open
	}
	return h.Windows
}

// Offer is a kind of machine let by time, up to MaxServers of them.
type Offer struct {
	ID         string        `json:"id"`
	Source     string        `json:"source"`
	MaxServers int           `json:"max_servers"`
	RAM        *Memory       `json:"ram_gb,omitempty"`
	Lead       Millis        `json:"lead_s,omitempty"`
	Wrap       Millis        `json:"wrap_s,omitempty"`
	Price      pricing.Money `json:"price_h"`
	Fee        pricing.Money `json:"fee"`
	Increment  *Millis       `json:"increment_s,omitempty"` // nil: one second
	Minimum    Millis        `json:"minimum_s,omitempty"`
	Crews      []Crew        `json:"crews"`
}

// Meter returns how the offer's servers are billed.
func (o Offer) Meter() pricing.Meter {
	step := Millis(1000)
	if o.Increment != nil {
		step = *o.Increment
	}
	return pricing.Meter{Price: o.Price, Fee: o.Fee, Increment: step.Duration(), Minimum: o.Minimum.Duration()}
}

// Farm takes frames and bills for work done.
type Farm struct {
	ID            string        `json:"id"`
	Source        string        `json:"source"`
	Nodes         int           `json:"nodes"`
	Lead          Millis        `json:"lead_s,omitempty"`
	NodePrice     pricing.Money `json:"node_price_h"`
	FramePrice    pricing.Money `json:"frame_price"`
	MinimumCharge pricing.Money `json:"minimum_charge"`
}

// Timing is what one frame of a shot takes in one place, expected retries
// included. Exactly one of Host, Offer and Farm is set.
type Timing struct {
	Shot  string `json:"shot"`
	Host  string `json:"host,omitempty"`
	Offer string `json:"offer,omitempty"`
	Farm  string `json:"farm,omitempty"`
	Crew  string `json:"crew,omitempty"`
	Frame Millis `json:"frame_s"`
}

// Transfer is sending a shot's package to a source and getting its last frame back.
type Transfer struct {
	Shot     string `json:"shot"`
	Source   string `json:"source"`
	Upload   Millis `json:"upload_s,omitempty"`
	Delivery Millis `json:"delivery_s,omitempty"`
}

// ParseProblem reads and validates a problem file.
func ParseProblem(r io.Reader) (Problem, error) {
	var p Problem
	if err := json.NewDecoder(r).Decode(&p); err != nil {
		return Problem{}, fmt.Errorf("problem file: %w", err)
	}
	return p, p.Validate()
}

// Validate says what is wrong with the problem, all of it, or nil.
func (p Problem) Validate() error {
	v := validation{}
	v.want(p.Format == ProblemFormat, "format %q: want %q", p.Format, ProblemFormat)
	v.want(p.Goal == Cheapest || p.Goal == Fastest, "goal %q: want %q or %q", p.Goal, Cheapest, Fastest)
	v.want(p.Currency != "", "currency is missing: want for example \"EUR\"")
	v.want(len(p.Shots) > 0, "shots: there is none to plan")
	licences, places, crews := map[string]bool{}, map[string]bool{}, map[string]bool{}
	shots := map[string]bool{}
	for _, l := range p.Licences {
		v.unique(licences, "licence", l.ID)
		v.want(l.Seats >= 0 && l.ExtraSeats >= 0, "licence %q: seats below 0", l.ID)
		v.price(l.ExtraSeatPrice, "licence %q: extra_seat_price", l.ID)
	}
	for _, s := range p.Shots {
		v.unique(shots, "shot", s.ID)
		v.want(s.Frames > 0 && s.Frames <= 10_000_000, "shot %q: frames %d: want 1 to 10,000,000", s.ID, s.Frames)
		v.want(s.Licence == "" || licences[s.Licence], "shot %q: no licence %q in the file", s.ID, s.Licence)
	}
	_, circular := ranks(p.Shots)
	v = append(v, circular...)
	addCrews := func(kind, id string, list []Crew) {
		for _, c := range list {
			v.unique(crews, "crew", kind+" "+id+"/"+c.ID)
			v.want(len(c.Devices) > 0, "crew %q of %s %q has no devices", c.ID, kind, id)
			v.price(c.BusyPrice, "crew %q of %s: busy_price_h", c.ID, id)
		}
	}
	for _, h := range p.Hosts {
		v.unique(places, "host", "host "+h.ID)
		for _, w := range slices.Concat(h.Windows, h.Open) {
			v.want(w[0] <= w[1], "host %q: window ends before it starts", h.ID)
		}
		addCrews("host", h.ID, h.Crews)
	}
	for _, o := range p.Offers {
		v.unique(places, "offer", "offer "+o.ID)
		v.want(o.Lead >= 0 && o.Wrap >= 0 && o.Minimum >= 0, "offer %q: a time below 0", o.ID)
		v.want(o.Increment == nil || *o.Increment > 0, "offer %q: increment_s: want above 0", o.ID)
		v.price(o.Price, "offer %q: price_h", o.ID)
		v.price(o.Fee, "offer %q: fee", o.ID)
		addCrews("offer", o.ID, o.Crews)
	}
	for _, f := range p.Farms {
		v.unique(places, "farm", "farm "+f.ID)
		v.want(f.Lead >= 0 && f.Nodes >= 0, "farm %q: lead_s or nodes below 0", f.ID)
		v.price(f.NodePrice, "farm %q: node_price_h", f.ID)
		v.price(f.FramePrice, "farm %q: frame_price", f.ID)
		v.price(f.MinimumCharge, "farm %q: minimum_charge", f.ID)
	}
	rows := map[string]bool{}
	for _, t := range p.Timings {
		kind, id := t.Place()
		v.want(shots[t.Shot], "timings: no shot %q in the file", t.Shot)
		v.want(places[kind+" "+id], "timings of %q: no %s %q in the file", t.Shot, kind, id)
		v.want(kind == "farm" || crews[kind+" "+id+"/"+t.Crew], "timings of %q: no crew %q on %s %q", t.Shot, t.Crew, kind, id)
		v.want(t.Frame > 0, "timings of %q on %q: frame_s: want above 0", t.Shot, id)
		v.unique(rows, "timings row", t.Shot+" "+kind+" "+id+"/"+t.Crew)
	}
	for _, t := range p.Transfers {
		v.want(t.Upload >= 0 && t.Delivery >= 0, "transfer of %q to %q: a time below 0", t.Shot, t.Source)
	}
	return errors.Join(v...)
}

// Place returns which kind of place the row is for ("host", "offer" or "farm") and its id.
func (t Timing) Place() (kind, id string) {
	switch {
	case t.Host != "":
		return "host", t.Host
	case t.Offer != "":
		return "offer", t.Offer
	default:
		return "farm", t.Farm
	}
}

type validation []error

func (v *validation) want(ok bool, format string, args ...any) {
	if !ok {
		*v = append(*v, fmt.Errorf(format, args...))
	}
}

func (v *validation) unique(seen map[string]bool, kind, id string) {
	v.want(id != "", "a %s has no id", kind)
	v.want(!seen[id], "%s %q is listed twice", kind, id)
	seen[id] = true
}

func (v *validation) price(m pricing.Money, format string, args ...any) {
	v.want(m.Cmp(pricing.Money{}) >= 0, format+": below 0", args...)
}

// Delivery is how long it takes the last frame of a shot to come home from a source.
func (p Problem) Delivery(shot, source string) Millis {
	for _, t := range p.Transfers {
		if t.Shot == shot && t.Source == source {
			return t.Delivery
		}
	}
	return 0
}

// ByID returns the items of a list by their names.
func ByID[T any](list []T, id func(T) string) map[string]T {
	out := make(map[string]T, len(list))
	for _, item := range list {
		out[id(item)] = item
	}
	return out
}
