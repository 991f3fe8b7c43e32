package problems

import (
	"fmt"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/core/planning/questions"
	"rotanex.example/core/pricing"
	"rotanex.example/service/accounts"
	"rotanex.example/service/httpapi"
)

// Ask is what a person asks of a plan. It is kept with the plan, so that the same can be
// asked again.
type Ask struct {
	Shots       []string      `json:"shots"`
	By          time.Time     `json:"by,omitzero"` // zero: each shot's own deadline
	Goal        string        `json:"goal,omitempty"`
	Budget      string        `json:"budget,omitempty"`
	OwnedOnly   bool          `json:"owned_only,omitempty"`
	Devices     string        `json:"devices,omitempty"` // see the Devices… constants
	TimeLimit   time.Duration `json:"time_limit,omitempty"`
	Slack       float64       `json:"slack,omitempty"`
	Confidence  float64       `json:"confidence,omitempty"`
	Contingency string        `json:"contingency,omitempty"` // beyond the plan, for servers that are let on the way
	NotBefore   time.Time     `json:"not_before,omitzero"`
	Without     []string      `json:"without,omitempty"`
	Pin         []Pin         `json:"pin,omitempty"`
	Assume      []Assumption  `json:"assume,omitempty"`
	Run         *uuid.UUID    `json:"run,omitempty"`         // whose rest is planned
	Priority    string        `json:"priority,omitempty"`    // of the run: see dispatch.Priority
	With        []uuid.UUID   `json:"with,omitempty"`        // open runs that are planned together with it: what they have booked is free
	KeepOthers  bool          `json:"keep_others,omitempty"` // less urgent runs keep their hosts, too
	Again       bool          `json:"again,omitempty"`       // frames that are done already are rendered again
}

// What of the devices a plan may use.
const (
	DevicesAny        = "any"          // the same as ""
	DevicesGPU        = "gpu"          // no crew of a CPU alone
	DevicesGPUElseCPU = "gpu-else-cpu" // a CPU alone only for shots that no crew with a GPU can render
)

// backlogBy is within what the backlog is planned, which has no deadline.
const backlogBy = 14 * 24 * time.Hour

// Backlog reports whether what is planned has no deadline.
func (a Ask) Backlog() bool { return a.Priority == dispatch.Backlog.String() && a.By.IsZero() }

// MayLet is what may be spent on servers that are let on the way: see forecast.Options.
func (a *Ask) MayLet() pricing.Money {
	if a == nil || a.Contingency == "" || a.OwnedOnly {
		return pricing.Money{}
	}
	return pricing.MustMoney(a.Contingency) // it was checked as it was asked
}

// Pin keeps a shot to places; a source stands for all of its places.
type Pin struct {
	Shot   string   `json:"shot"`
	Places []string `json:"places"`
}

// Assumption is a questions.Assumption as it is kept.
type Assumption struct {
	What   string    `json:"what"`
	Name   string    `json:"name"`
	Like   string    `json:"like,omitempty"`
	Price  string    `json:"price,omitempty"`
	Count  int       `json:"count,omitempty"`
	Factor float64   `json:"factor,omitempty"`
	At     time.Time `json:"at,omitzero"`
}

// Check says what is wrong with what is asked, as far as that can be told from itself.
func (a Ask) Check() error {
	if a.Slack < 0 || a.Slack >= 1 {
		return httpapi.BadField("/slack", fmt.Sprint(a.Slack), "want a share of the time from 0 to 0.9, such as 0.1")
	}
	if a.Confidence > 0 && a.Slack > 0 {
		return httpapi.BadField("/confidence", fmt.Sprint(a.Confidence), "and a slack do not go together: the slack is what the confidence is to find")
	}
	if _, err := pricing.ParseMoney(a.Contingency); a.Contingency != "" && err != nil {
		return httpapi.BadField("/contingency", a.Contingency, err.Error())
	}
	if a.Goal == planning.Fastest && a.Budget == "" {
		return httpapi.BadField("/budget", "", "the fastest plan needs a budget to stay inside, such as 250.00")
	}
	return nil
}

// assume changes the problem by what is supposed for this plan only.
func (b *builder) assume(all []Assumption) error {
	for i, a := range all {
		q := questions.Assumption{What: a.What, Name: a.Name, Like: a.Like, Count: a.Count, Factor: a.Factor, At: a.At.In(b.Zone)}
		bad := func(why string) error { return httpapi.BadField(fmt.Sprintf("/assume/%d", i), a.Name, a.Name+" "+why) }
		if a.Price != "" {
			price, err := pricing.ParseMoney(a.Price)
			if err != nil {
				return bad("costs " + a.Price + ": " + err.Error())
			}
			q.Price = &price
		}
		problem, text, err := questions.Assume(b.problem, q)
		if err != nil {
			return bad(err.Error())
		}
		b.problem = problem
		b.notes.Assumes = append(b.notes.Assumes, text)
		for _, t := range problem.Timings {
			if _, place := t.Place(); a.Like != "" && place == a.Name {
				b.notes.Basis[accounts.BasisKey(t.Shot, place, t.Crew)] = b.notes.Basis[accounts.BasisKey(t.Shot, a.Like, t.Crew)]
			}
		}
	}
	return nil
}
