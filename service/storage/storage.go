// Package storage says what the service keeps, for how long, and how much there is of it, and deletes what is older, in small
// steps. How each kind is deleted is its owner's; what money and frames rest on (runs, tries, charges, times) is kept.
package storage

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"time"

	"gocloud.dev/blob"
	"gorm.io/gorm"

	"rotanex.example/service/access"
	"rotanex.example/service/audit"
	"rotanex.example/service/clock"
	"rotanex.example/service/events"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/notify"
	"rotanex.example/service/packages"
	"rotanex.example/service/plans"
	"rotanex.example/service/samples"
	"rotanex.example/service/store"
	"rotanex.example/service/timings"
	"rotanex.example/service/tries"
)

// step is how many of a kind are deleted at once.
const step = 1000

// Kind is something that grows.
type Kind struct {
	Name  string
	What  string
	Table string // "" for files
	Usual int    // days that it is kept for where nobody said otherwise
	Least int    // days that it is kept for at least
	wall  bool   // its times are by the wall clock, not by the service's
	prune func(tx *gorm.DB, before time.Time, most int) (int64, error)
}

// Kinds are all there are, by name.
var Kinds = []Kind{
	{Name: "audit", What: "who did what", Table: "audit", Usual: 730, Least: 90, wall: true, prune: audit.Prune},
	{Name: "events", What: "live updates, from which pages go on that lost their connection", Table: "events", Usual: 30, Least: 1, prune: events.Prune},
	{Name: "imports", What: "which files of times were taken in; the times are kept", Table: "imports", Usual: 30, Least: 1, wall: true, prune: timings.PruneImports},
	{Name: "logs", What: "last words of renderers; the tries are kept", Table: "tries", Usual: 90, Least: 7, prune: tries.PruneLogs},
	{Name: "notices", What: "what was told to whom", Table: "notices", Usual: 90, Least: 1, prune: notify.Prune},
	{Name: "package-parts", What: "parts of packages that neither a shot nor a run has any more", Usual: 30, Least: 7, wall: true},
	{Name: "pictures", What: "pictures of tries that do not count; those of done frames are kept", Usual: 7, Least: 1, wall: true},
	{Name: "plans", What: "plans that no run went by", Table: "plans", Usual: 90, Least: 1, prune: plans.Prune},
	{Name: "previews", What: "small pictures of done frames; they are made again when somebody looks", Usual: 30, Least: 1, wall: true},
	{Name: "render-logs", What: "all that renderers said in each try; last words are kept longer", Usual: 30, Least: 1, wall: true},
	{Name: "samples", What: "use, memory, temperature and power of devices, one in five minutes once they are six hours old", Table: "samples", Usual: 14, Least: 1, wall: true, prune: samples.Prune},
	{Name: "tokens", What: "tokens and sessions that expired", Table: "tokens", Usual: 30, Least: 1, wall: true, prune: access.Prune},
	{Name: "transfers", What: "how long packages took to sources; the newest are what uploads are reckoned by", Table: "transfers", Usual: 365, Least: 30, prune: packages.Prune},
}

// Kept is how a kind stands.
type Kept struct {
	Kind
	Days   int
	Rows   int64 // about, or files as they were counted last; -1: not yet
	Bytes  int64 // on the disk; -1: not known yet
	Pruned int64 // by this rule so far
	At     *time.Time
}

// Storage looks after them.
type Storage struct {
	store *store.Store
	clock clock.Clock
	log   *slog.Logger
	files *files
}

// New makes it.
func New(s *store.Store, c clock.Clock, b *blob.Bucket, log *slog.Logger) *Storage {
	return &Storage{store: s, clock: c, log: log, files: &files{store: s, blobs: b}}
}

func setting(kind string) string { return "keep " + kind }

// days is for how many days a kind is kept.
func (s *Storage) days(ctx context.Context, k Kind) (int, error) {
	text, err := s.store.Setting(ctx, setting(k.Name), strconv.Itoa(k.Usual))
	if err != nil {
		return 0, err
	}
	days, err := strconv.Atoi(text)
	if err != nil || days < k.Least {
		return k.Usual, nil // of somebody else's making
	}
	return days, nil
}

// mostDays is for how long anything may be kept: ten years.
const mostDays = 3650

// Keep has a kind kept for so many days from now on.
func (s *Storage) Keep(ctx context.Context, kind string, days int) error {
	i := slices.IndexFunc(Kinds, func(k Kind) bool { return k.Name == kind })
	if i < 0 {
		var all []string
		for _, k := range Kinds {
			all = append(all, k.Name)
		}
		return httpapi.NotFound(fmt.Sprintf("nothing is kept that is called %s; there are %s", kind, strings.Join(all, ", ")))
	}
	if days < Kinds[i].Least || days > mostDays {
		return httpapi.BadField("/days", strconv.Itoa(days), fmt.Sprintf("is not from %d to %d, for which %s are kept", Kinds[i].Least, mostDays, kind))
	}
	return store.SetSetting(s.store.WithContext(ctx), setting(kind), strconv.Itoa(days))
}

// All is how all kinds stand.
func (s *Storage) All(ctx context.Context) (out []Kept, err error) {
	pruned, err := readPruned(s.store.WithContext(ctx))
	if err != nil {
		return nil, err
	}
	for _, k := range Kinds {
		x := Kept{Kind: k, Pruned: pruned[k.Name].Rows, At: pruned[k.Name].At}
		if x.Days, err = s.days(ctx, k); err != nil {
			return nil, err
		}
		if k.Table == "" {
			x.Rows, x.Bytes = s.files.counted(k.Name)
		} else if x.Rows, x.Bytes, err = sizeOf(s.store.WithContext(ctx), k.Table); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// Sweep deletes what is older than it is kept for, kind by kind, a step at a time.
func (s *Storage) Sweep(ctx context.Context) error {
	var faults []error
	for _, k := range Kinds {
		n, err := s.sweep(ctx, k)
		if n > 0 {
			s.log.Info("what is old was deleted", "kind", k.Name, "number", n)
			err = errors.Join(err, notePruned(s.store.WithContext(ctx), k.Name, n, s.clock.WallNow()))
		}
		if err != nil {
			faults = append(faults, fmt.Errorf("%s: %w", k.Name, err))
		}
	}
	return errors.Join(faults...)
}

func (s *Storage) sweep(ctx context.Context, k Kind) (sum int64, err error) {
	days, err := s.days(ctx, k)
	if err != nil {
		return 0, err
	}
	now := s.clock.Now()
	if k.wall {
		now = s.clock.WallNow()
	}
	before := now.AddDate(0, 0, -days)
	if k.Table == "" {
		return s.files.prune(ctx, k.Name, before)
	}
	for ctx.Err() == nil {
		n, err := k.prune(s.store.WithContext(ctx), before, step)
		sum += n
		if err != nil || n < step {
			return sum, err
		}
	}
	return sum, ctx.Err()
}
