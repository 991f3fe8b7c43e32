package events

import "time"

// Kind is what an event tells of.
type Kind string

// Kinds of events.
const (
	Farm   Kind = "farm"
	Frame  Kind = "frame"
	Host   Kind = "host"
	Money  Kind = "money"
	Plan   Kind = "plan"
	Run    Kind = "run"
	Server Kind = "server"
	Shot   Kind = "shot"
	Trial  Kind = "trial"
)

// Event is something that happened, as it is kept and told.
type Event struct {
	Kind    Kind      `json:"kind"`
	At      time.Time `json:"at"` // zero: now
	Run     string    `json:"run,omitempty"`
	Shot    string    `json:"shot,omitempty"`
	Frame   int       `json:"frame,omitempty"`
	Host    string    `json:"host,omitempty"`
	Crew    string    `json:"crew,omitempty"`
	State   string    `json:"state,omitempty"` // that it has now
	Cause   string    `json:"cause,omitempty"` // why, where that is to be said
	Seconds float64   `json:"seconds,omitempty"`
}
