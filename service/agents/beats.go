package agents

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/licences"
	"rotanex.example/service/queue"
)

// heard is what an agent is told that spoke.
type heard struct {
	host    hosts.Heard  // as it is stored
	revoked []queue.Held // leases that are not its own any more
}

// together is for how long heartbeats are gathered, and beatsAtOnce is of how many at most.
const (
	together    = 20 * time.Millisecond
	beatsAtOnce = 500
	hearing     = 5 * time.Second
)

// heard takes in that an agent lives and holds leases: those are renewed, and the seats of its host with them. Those who speak at
// about the same time are heard together.
func (a *Agents) heard(ctx context.Context, of queue.Holding) (heard, error) {
	h, err := a.beats.Do(ctx, of)
	if err == nil && !h.host.Known {
		err = httpapi.Conflict("another agent reported for this host since; report its stock again")
	}
	return h, err
}

// hear takes in several at once.
func (a *Agents) hear(ctx context.Context, all []queue.Holding) ([]heard, error) {
	tx, now := a.Store.WithContext(ctx), a.Clock.WallNow()
	names, boots := make([]string, len(all)), make([]uuid.UUID, len(all))
	for i, b := range all {
		names[i], boots[i] = b.Host, b.Boot
	}
	known, err := hosts.HeardAll(tx, names, boots, now)
	if err != nil {
		return nil, err
	}
	seats := licences.Keep(tx, names, now.Add(licences.SeatLife)) // leases are renewed whatever comes of it
	out := make([]heard, len(all))
	living := make([]queue.Holding, 0, len(all))
	for i, b := range all {
		if out[i].host = known[i]; known[i].Known {
			living = append(living, b)
		}
	}
	kept, err := queue.RenewHeld(tx, living, now.Add(queue.LeaseLife))
	for i, b := range all {
		out[i].revoked = slices.DeleteFunc(slices.Clone(b.Held), func(h queue.Held) bool { return kept[queue.Held{Lease: h.Lease, Fence: h.Fence}] })
	}
	return out, errors.Join(err, seats)
}
