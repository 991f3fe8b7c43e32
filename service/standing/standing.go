// Package standing tells how frames and hosts stand: lists and details, pictures, why a
// frame is not being rendered and a host does nothing, and which frames nobody is left
// for. It reads what package queue writes and asks the rule that leases are granted by,
// so that what it says is what happens. What has to be changed by that, it has queue change.
package standing

import (
	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/framefiles"
	"rotanex.example/service/queue"
	"rotanex.example/service/renderlogs"
	"rotanex.example/service/store"
)

// Standing answers.
type Standing struct {
	store *store.Store
	clock clock.Clock
	queue *queue.Queue
	files framefiles.Files
	logs  *renderlogs.Logs
	feed  *events.Feed
	maps  *lru.Cache[uuid.UUID, *mapped] // of runs that are looked at
}

// New makes it.
func New(s *store.Store, c clock.Clock, f *events.Feed, q *queue.Queue, l *renderlogs.Logs) *Standing {
	maps, _ := lru.New[uuid.UUID, *mapped](50) // fails for sizes below one
	return &Standing{store: s, clock: c, queue: q, files: framefiles.Files{Store: s}, logs: l, feed: f, maps: maps}
}
