package planning

import (
	"encoding/json"
	"fmt"
	"io"

	"rotanex.example/core/pricing"
)

// PlanFormat is the format name in a plan file.
const PlanFormat = "rotanex-plan-1"

// What a plan achieves.
const (
	Meets      = "meets"       // every deadline, inside the budget
	Late       = "late"        // no plan meets every deadline; this has the least lateness
	OverBudget = "over-budget" // the deadlines can be met but not inside the budget
	Impossible = "impossible"  // some frame can be rendered nowhere, ever
)

// Plan is the answer to a Problem.
type Plan struct {
	Format    string        `json:"format"`
	Status    string        `json:"status"`
	Cost      pricing.Money `json:"cost"`
	CostBound pricing.Money `json:"cost_bound"` // no valid plan that meets every deadline costs less
	Finish    Millis        `json:"finish_s"`
	// FinishBound is, where the goal is the fastest plan, before when no valid plan ends that meets every deadline inside the budget; 0: it is not known.
	FinishBound Millis           `json:"finish_bound_s,omitempty"`
	Servers     []Server         `json:"servers"`
	Uploads     []Upload         `json:"uploads"`
	ExtraSeats  []ExtraSeat      `json:"extra_seats"`
	Impossible  []ImpossibleShot `json:"impossible"`
	Bookings    []Booking        `json:"bookings"`
}

// Server is one server of an offer, let from From to To.
type Server struct {
	ID    string `json:"id"`
	Offer string `json:"offer"`
	From  Millis `json:"from_s"`
	To    Millis `json:"to_s"`
}

// Upload is sending a shot's package to a source.
type Upload struct {
	Shot   string `json:"shot"`
	Source string `json:"source"`
	Start  Millis `json:"start_s"`
	End    Millis `json:"end_s"`
}

// ExtraSeat is licence seats hired beyond the pool.
type ExtraSeat struct {
	Licence string `json:"licence"`
	Seats   int    `json:"seats"`
}

// ImpossibleShot is a shot that cannot be finished anywhere, ever.
type ImpossibleShot struct {
	Shot string `json:"shot"`
	Why  string `json:"why"`
}

// Booking is frames of one shot on one crew, or on nodes of a farm, for a
// stretch of time. Exactly one of Host, Server and Farm is set.
type Booking struct {
	Shot   string `json:"shot"`
	Host   string `json:"host,omitempty"`
	Server string `json:"server,omitempty"`
	Farm   string `json:"farm,omitempty"`
	Crew   string `json:"crew,omitempty"`
	Nodes  int    `json:"nodes,omitempty"`
	Frames int    `json:"frames"`
	Start  Millis `json:"start_s"`
	End    Millis `json:"end_s"`
}

// Where returns the host, server or farm of the booking.
func (b Booking) Where() string { return b.Host + b.Server + b.Farm }

// ParsePlan reads a plan file. It does not judge the plan; see Check.
func ParsePlan(r io.Reader) (Plan, error) {
	var p Plan
	if err := json.NewDecoder(r).Decode(&p); err != nil {
		return Plan{}, fmt.Errorf("plan file: %w", err)
	}
	return p, nil
}
