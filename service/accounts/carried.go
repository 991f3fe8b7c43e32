package accounts

import (
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/core/timing"
)

// Carried is the plan that a run carries out, with those that it changed over to.
type Carried struct {
	Problem   planning.Problem
	Plan      planning.Plan
	Currency  string
	FarmCrews map[string]string          // of each shot and farm, what renders on a node
	SeatDays  map[string]int             // for how many days extra seats of each pool are hired
	Deadlines map[string]planning.Millis // the real ones, where the problem's keep time spare
	Kept      []KeptFrames               // frames that are done already
	InHand    map[string]planning.Millis // until when hosts are busy with the run's own frames
	Basis     map[string]timing.Estimate // what frames were expected to take, by BasisKey
}

// BasisKey names what a shot's frames were expected to take on a crew of a place.
func BasisKey(shot, place, crew string) string { return shot + " " + place + "/" + crew }

// KeptFrames is frames of a shot that another run has done.
type KeptFrames struct {
	Shot   string    `json:"shot"`
	Run    uuid.UUID `json:"run"`
	Frames string    `json:"frames"`
}

// At turns a time of the plan into one of the clock.
func (p Carried) At(m planning.Millis) time.Time { return p.Problem.Start.Add(m.Duration()) }

// BusyPrice is what an hour of an owned crew costs while it renders.
func (s Carried) BusyPrice(host, crew string) pricing.Money {
	for _, h := range s.Problem.Hosts {
		for _, c := range h.Crews {
			if h.ID == host && c.ID == crew {
				return c.BusyPrice
			}
		}
	}
	return pricing.Money{}
}

// Offer is an offer of the plan by its name; empty where it has none of that name.
func (s Carried) Offer(id string) planning.Offer {
	i := slices.IndexFunc(s.Problem.Offers, func(o planning.Offer) bool { return o.ID == id })
	if i < 0 {
		return planning.Offer{}
	}
	return s.Problem.Offers[i]
}

// Meter is how an offer of the plan is billed.
func (s Carried) Meter(offer string) pricing.Meter { return s.Offer(offer).Meter() }

// SourceOf is the source of an offer of the plan.
func (s Carried) SourceOf(offer string) string { return s.Offer(offer).Source }

func (s Carried) farm(id string) planning.Farm {
	i := slices.IndexFunc(s.Problem.Farms, func(f planning.Farm) bool { return f.ID == id })
	if i < 0 {
		return planning.Farm{}
	}
	return s.Problem.Farms[i]
}

// LaterServer names a server of the n-th plan that a run changed over to: the same
// name may have been used by the plans before.
func LaterServer(id string, n int) string { return fmt.Sprintf("%s~%d", id, n+1) }
