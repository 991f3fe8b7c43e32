package simulate

import (
	"math"

	"rotanex.example/core/dispatch"
)

const never int64 = math.MaxInt64

// Kinds of events, in the order in which they happen at one time.
const (
	frameEnds = iota
	frameHome // of a shot whose frames others need
	deskChanges
	hostLost
	jobBegins
	hostLooks
)

type event struct {
	at     int64 // nanoseconds
	kind   int
	host   int
	crew   int
	frame  int
	fails  bool           // of a desk: its owner takes it back
	kindOf *dispatch.Kind // of the frame, before this try; nil: never tried
}

// before orders events: by time, kind, host, crew.
func (e *event) before(o *event) bool {
	switch {
	case e.at != o.at:
		return e.at < o.at
	case e.kind != o.kind:
		return e.kind < o.kind
	case e.host != o.host:
		return e.host < o.host
	}
	return e.crew < o.crew
}

// events is a heap. It is written out because container/heap makes garbage of every
// event, of which there are tens of millions.
type events []event

func (e *events) push(x event) {
	list := append(*e, x)
	i := len(list) - 1
	for i > 0 && x.before(&list[(i-1)/2]) {
		list[i] = list[(i-1)/2]
		i = (i - 1) / 2
	}
	list[i] = x
	*e = list
}

func (e *events) pop() event {
	list := *e
	top, x := list[0], list[len(list)-1]
	list = list[:len(list)-1]
	i := 0
	for 2*i+1 < len(list) {
		child := 2*i + 1
		if child+1 < len(list) && list[child+1].before(&list[child]) {
			child++
		}
		if !list[child].before(&x) {
			break
		}
		list[i] = list[child]
		i = child
	}
	if len(list) > 0 {
		list[i] = x
	}
	*e = list
	return top
}
