// Package problems turns what the service knows into a planning problem: stock, trials,
// prices, what open runs hold, and what a person fixed or supposes. It decides nothing of
// the plan; what the problem file does not say of where its numbers come from, and what was
// left out and why, stands in the notes.
package problems

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/desks"
	"rotanex.example/core/disruptions"
	"rotanex.example/core/forecast"
	"rotanex.example/core/planning"
	"rotanex.example/core/timing"
	"rotanex.example/service/candidates"
	"rotanex.example/service/clock"
	"rotanex.example/service/hosts"
	"rotanex.example/service/kept"
	"rotanex.example/service/licences"
	"rotanex.example/service/packages"
	"rotanex.example/service/shots"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
)

// Config is what problems are made from. All of it is wanted.
type Config struct {
	Store *store.Store
	Clock clock.Clock

	Hosts      *hosts.Hosts
	Shots      *shots.Shots
	Candidates *candidates.Candidates
	Sources    *sources.Sources
	Packages   *packages.Packages
	Licences   *licences.Licences
	Timings    *timings.Timings
	// Disruptions says how often, and for how long, hosts were slowed.
	Disruptions func(context.Context) (disruptions.Rates, error)

	Currency string
	Zone     *time.Location // in which opening hours are read
}

// Problems makes them.
type Problems struct{ Config }

// New makes it.
func New(c Config) *Problems { return &Problems{c} }

// Notes is what a problem file does not say: what was asked, where each timing comes from,
// and what was left out and why. They are kept with the plan.
type Notes struct {
	Ask     *Ask                       `json:"ask,omitempty"`
	Basis   map[string]timing.Estimate `json:"basis"` // by accounts.BasisKey
	LeftOut []LeftOut                  `json:"left_out"`
	// Deadlines are the real ones, where the problem's keep time spare.
	Deadlines map[string]planning.Millis `json:"deadlines,omitempty"`
	Slack     float64                    `json:"slack,omitempty"`
	Assumes   []string                   `json:"assumes,omitempty"`
	FarmCrews map[string]string          `json:"farm_crews,omitempty"` // of each shot and farm, what renders on a node
	Sources   map[string]string          `json:"sources,omitempty"`    // of each owned host
	SeatDays  map[string]int             `json:"seat_days,omitempty"`  // for how many days extra seats of each pool are hired
	Kept      []kept.Frames              `json:"kept,omitempty"`       // frames that are done already
	InHand    map[string]planning.Millis `json:"in_hand,omitempty"`    // until when hosts are busy with frames of the run itself, whose rest this is
	Lately    map[string]float64         `json:"lately,omitempty"`     // by what factor shots, hosts and crews, host/crew, are off of late: see replan.AsOfLate
	Desks     map[string]desks.Habits    `json:"desks,omitempty"`      // how those among the hosts are taken back
	// Disruptions are those that a run's rest was made with: they are not looked up again for its forecast. Not kept with a plan.
	Disruptions disruptions.Rates `json:"-"`
	// Held is what farms have in hand of the run whose rest this is.
	Held []forecast.Held `json:"held,omitempty"`
	// Together are open runs that are planned together with it, and Gain what that is better in.
	Together []Together `json:"together,omitempty"`
	Gain     string     `json:"gain,omitempty"`
}

// Together is an open run that goes by a plan of its own once a run begins with which it was
// planned together.
type Together struct {
	Run  uuid.UUID `json:"run"`
	Plan uuid.UUID `json:"plan"`
	// As it is expected to stand then.
	Chance float64   `json:"chance"`
	Finish time.Time `json:"finish,omitzero"` // zero: never
	Cost   string    `json:"cost"`
	Moved  int       `json:"moved"` // frames that go to other crews
}

// LeftOut is a crew that may not render a shot, or may not yet, and why.
type LeftOut struct {
	Shot  string `json:"shot"`
	Place string `json:"place"`
	Crew  string `json:"crew,omitempty"`
	Why   string `json:"why"`
	Fix   string `json:"fix,omitempty"`
}

// Deadline is when a shot is really due, of which the problem's may keep time spare.
func (n Notes) Deadline(s planning.Shot) planning.Millis {
	if real, ok := n.Deadlines[s.ID]; ok {
		return real
	}
	return s.Deadline
}

// Owned is the source of hosts that come from none that has a name.
const Owned = "owned"

// SourcesOf tells the source of every place of a problem.
func SourcesOf(problem planning.Problem, n Notes) map[string]string {
	out := map[string]string{}
	for _, h := range problem.Hosts {
		out[h.ID] = cmp.Or(n.Sources[h.ID], Owned)
	}
	for _, o := range problem.Offers {
		out[o.ID] = o.Source
	}
	for _, f := range problem.Farms {
		out[f.ID] = f.Source
	}
	return out
}

// Listed names the first few of many.
func Listed(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	return strings.Join(names, ", ")
}
