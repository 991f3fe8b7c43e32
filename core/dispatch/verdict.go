package dispatch

import "time"

// When says whether a crew takes a frame.
type When int

// Answers of the rule.
const (
	Never When = iota // not as things stand: something has to change first
	Later
	Now
)

// String is a word for it.
func (w When) String() string { return [...]string{"never", "later", "now"}[w] }

// Reason is why a verdict is as it is.
type Reason int

// Reasons, of Now, Later and Never.
const (
	Booked Reason = iota
	Helps
	Again

	NotStarted
	HostComing
	HostSilent
	HostInUse
	DevicesBusy
	DevicesKept
	MemoryFull
	NoSeat
	OthersWill
	FasterWill
	FailedHere
	NothingWaits

	Excluded
	Closed
	HostGone
	Tied
)

// Verdict is an answer of the rule.
type Verdict struct {
	When   When
	Reason Reason
	At     time.Time // of Later: when that may be, if it is known; of Closed: since when
	Detail string
}

// Why says the verdict's reason in words that go on from the name of the crew or host.
func (v Verdict) Why() string {
	at := v.At.UTC().Format("Mon 15:04 MST")
	switch v.Reason {
	case Booked:
		return "was booked for it"
	case Helps:
		return "helps: the others will not get to it by their planned ends"
	case Again:
		return "tries it again: nobody else is left for it"
	case NotStarted:
		return "begins at " + at
	case HostComing:
		return "is not up yet; its booking begins at " + at
	case HostSilent:
		return "is not heard of; its source is being asked about it"
	case HostInUse:
		return "is a desk that is not lent now: " + v.Detail
	case DevicesBusy:
		return "is busy: " + v.Detail + " renders"
	case DevicesKept:
		return "keeps its devices for " + v.Detail + ", which comes first"
	case MemoryFull:
		return "has not the memory for another renderer: " + v.Detail
	case NoSeat:
		return "waits for a seat: " + v.Detail
	case OthersWill:
		return "has done what it was booked for, and the others will do the rest by their planned ends"
	case FasterWill:
		return "leaves what is left to those who have done it before it would have: " + v.Detail + " is one"
	case FailedHere:
		if v.Detail == "" {
			return "has failed at it"
		}
		return "has failed at it, and leaves it to " + v.Detail
	case NothingWaits:
		return "has nothing to do: no frame of " + v.Detail + " waits"
	case Excluded:
		return "gets no more of them: " + v.Detail
	case Closed:
		return "is closed: a frame would run past " + at
	case HostGone:
		return v.Detail
	case Tied:
		return "may not have it: it ran out of memory, and is for " + v.Detail + " alone"
	}
	return ""
}

// nearer reports whether a verdict promises more than another: now before later before
// never, and what is known before what is not.
func (v Verdict) nearer(o Verdict) bool {
	if v.When != o.When {
		return v.When > o.When
	}
	return v.When == Later && !v.At.IsZero() && (o.At.IsZero() || v.At.Before(o.At))
}
