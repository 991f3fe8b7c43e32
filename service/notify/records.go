package notify

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/stock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/states"
	"rotanex.example/service/store"
)

// Receiver is somebody who is told.
type Receiver struct {
	Name      string        `gorm:"primaryKey"`
	Address   string        // a URL: https and http for a web hook, mailto for a mailbox
	Subjects  []Subject     `gorm:"serializer:json"`
	Quiet     []stock.Hours `gorm:"serializer:json"`
	Secret    []byte        // sealed
	CreatedAt time.Time
	Tries     int // that failed since one did not
	Fault     string
	NextAt    time.Time // not told anything before
}

// State of a notice.
type State string

// States of a notice.
const (
	Waiting State = "waiting"
	Sent    State = "sent"
	Failed  State = "failed" // not taken after so many tries
	Over    State = "over"   // so no more before it was told
)

// Notice is something that one receiver is told.
type Notice struct {
	ID       uuid.UUID `gorm:"primaryKey"`
	Receiver string
	Key      string
	Subject  Subject
	RunID    *uuid.UUID
	Text     string
	At       time.Time
	OverAt   *time.Time
	State    State
	SentAt   *time.Time
}

func (n *Notify) receivers(ctx context.Context) (out []Receiver, err error) {
	return out, n.Store.WithContext(ctx).Order("name").Find(&out).Error
}

func (n *Notify) find(ctx context.Context, name string) (out Receiver, err error) {
	if err = n.Store.WithContext(ctx).Where("name = ?", name).Limit(1).Find(&out).Error; err == nil && out.Name == "" {
		err = httpapi.NotFound(fmt.Sprintf("there is no receiver %s; rotanex notify list shows them", name))
	}
	return out, err
}

// keep stores a receiver. One that was there keeps its secret, unless it has a new one, and
// what waits for it.
func keep(tx *gorm.DB, r Receiver) error {
	columns := []string{"address", "subjects", "quiet", "tries", "fault", "next_at"}
	if len(r.Secret) > 0 {
		columns = append(columns, "secret")
	}
	return tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns(columns)}).Create(&r).Error
}

func (n *Notify) remove(ctx context.Context, name string) error {
	if _, err := n.find(ctx, name); err != nil {
		return err
	}
	return n.Store.WithContext(ctx).Where("name = ?", name).Delete(&Receiver{}).Error
}

// note makes a notice, unless there is one about the same thing that is not over, or was made
// a little while ago.
func note(tx *gorm.DB, x Notice) error {
	return tx.Exec(`INSERT INTO notices (id, receiver, key, subject, run_id, text, at, state)
		SELECT $1, $2, $3, $4, $5, $6, $7, $8 WHERE NOT EXISTS (SELECT FROM notices WHERE receiver = $2 AND key = $3 AND (over_at IS NULL OR at > $9))
		ON CONFLICT DO NOTHING`, x.ID, x.Receiver, x.Key, x.Subject, x.RunID, x.Text, x.At, x.State, x.At.Add(-again)).Error
}

// end ends a receiver's notices but for those about what is still so. What ended stays so.
func end(tx *gorm.DB, receiver string, keys []string, now time.Time) error {
	return tx.Exec(`UPDATE notices SET over_at = $3, state = CASE state WHEN 'waiting' THEN 'over' ELSE state END
		WHERE receiver = $1 AND over_at IS NULL AND subject NOT IN ('done', 'backlog-done') AND NOT key = ANY($2)`, receiver, keys, now).Error
}

func waits(tx *gorm.DB, receiver string) (yes bool, err error) {
	return yes, tx.Raw("SELECT EXISTS (SELECT FROM notices WHERE receiver = $1 AND state = 'waiting')", receiver).Row().Scan(&yes)
}

// waiting lists what waits to be told to a receiver, the oldest first.
func waiting(tx *gorm.DB, receiver string) (out []Notice, err error) {
	return out, tx.Where("receiver = ? AND state = ?", receiver, Waiting).Order("at, id").Limit(newest).Find(&out).Error
}

// sent notes that notices were told.
func sent(tx *gorm.DB, told []Notice, at time.Time) error {
	ids := make([]uuid.UUID, len(told))
	for i, x := range told {
		ids[i] = x.ID
	}
	return tx.Model(&Notice{}).Where("id IN ?", ids).Updates(map[string]any{"state": Sent, "sent_at": at}).Error
}

// well notes that a receiver was told all.
func well(tx *gorm.DB, receiver string) error {
	return tx.Model(&Receiver{}).Where("name = ?", receiver).Updates(map[string]any{"tries": 0, "fault": ""}).Error
}

// unwell notes why a receiver could not be told; with the last try, what waits has failed.
func unwell(tx *gorm.DB, receiver, fault string, next time.Time, last bool) error {
	return tx.Transaction(func(tx *gorm.DB) error {
		changes := map[string]any{"tries": gorm.Expr("tries + 1"), "fault": fault, "next_at": next}
		if last {
			changes["tries"] = 0
			if err := tx.Model(&Notice{}).Where("receiver = ? AND state = ?", receiver, Waiting).Update("state", Failed).Error; err != nil {
				return err
			}
		}
		return tx.Model(&Receiver{}).Where("name = ?", receiver).Updates(changes).Error
	})
}

// prune forgets notices that were made before a time, but for those that wait or are about
// what is still so.
func prune(tx *gorm.DB, before time.Time) error {
	return tx.Where("at < ? AND state <> ? AND (over_at IS NOT NULL OR subject IN ?)", before, Waiting, []Subject{Done, BacklogDone}).Delete(&Notice{}).Error
}

// page lists notices, newest first.
func (n *Notify) page(ctx context.Context, cursor *string, limit *int) ([]Notice, string, error) {
	return httpapi.Newest(n.Store.WithContext(ctx), "at", "id", func(x Notice) (time.Time, uuid.UUID) { return x.At, x.ID }, cursor, limit)
}

// lowest is the priority below which there is only the backlog.
const lowest = -1

// endedRun is a run that ended of late.
type endedRun struct {
	ID       uuid.UUID
	State    states.Run
	EndedAt  time.Time
	Priority int
	Key      string // of its cause
	Shots    string
	Frames   int
	Done     int
}

// endedRuns reads the runs that ended since a time and of which a receiver that was there is
// still to be told: no others, as to count their frames takes long.
func endedRuns(tx *gorm.DB, since time.Time) (out []endedRun, err error) {
	return out, tx.Raw(`SELECT r.id, r.state, r.ended_at, r.priority, `+shotsOfRun+` AS shots, `+endedKey+` AS key,
			(SELECT count(*) FROM frames f WHERE f.run_id = r.id) AS frames, (SELECT count(*) FROM frames f WHERE f.run_id = r.id AND f.state = 'done') AS done
		FROM runs r WHERE r.kind = 'run' AND r.ended_at > $1 AND EXISTS (
			SELECT FROM receivers x WHERE x.created_at <= r.ended_at AND (CASE WHEN r.priority < $2 THEN 'backlog-done' ELSE 'done' END) IN (SELECT jsonb_array_elements_text(x.subjects))
				AND NOT EXISTS (SELECT FROM notices n WHERE n.receiver = x.name AND n.key = `+endedKey+`))
		ORDER BY r.ended_at`, since, lowest).Scan(&out).Error
}

// endedKey tells the end of run r from others of it: one that is resumed ends again.
const endedKey = "concat('ended ', r.id, ' ', extract(epoch FROM r.ended_at))"

// shotsOfRun names the shots of run r.
const shotsOfRun = "(SELECT string_agg(shot, ', ' ORDER BY shot) FROM run_shots x WHERE x.run_id = r.id)"

// outlook is how sure a run was to be in time when it was looked at last.
type outlook struct {
	RunID          uuid.UUID
	LookedAt       time.Time
	Chance, Wanted float64
	Finish         *time.Time
	Shots          string
}

func outlooks(tx *gorm.DB) (out []outlook, err error) {
	return out, tx.Raw(`SELECT s.run_id, s.looked_at, s.chance, s.wanted, s.finish, ` + shotsOfRun + ` AS shots
		FROM schedules s JOIN runs r ON r.id = s.run_id WHERE r.state = 'running' AND s.chance IS NOT NULL AND s.wanted IS NOT NULL ORDER BY s.run_id`).Scan(&out).Error
}

// proposal is a schedule that waits for a person.
type proposal struct {
	ID, RunID   uuid.UUID
	At          time.Time
	Gain, Cause string
	Shots       string
}

func proposals(tx *gorm.DB) (out []proposal, err error) {
	return out, tx.Raw(`SELECT c.id, c.run_id, c.at, c.gain, c.cause, ` + shotsOfRun + ` AS shots
		FROM schedule_changes c JOIN runs r ON r.id = c.run_id WHERE c.state = 'proposed' AND r.state IN ('running', 'paused') ORDER BY c.at`).Scan(&out).Error
}

// silentHost is a host of the house that is not heard of and has frames to render.
type silentHost struct {
	Host string
	Owes int
}

func silentHosts(tx *gorm.DB, since time.Time) (out []silentHost, err error) {
	return out, tx.Raw(`SELECT b.host, sum(b.frames - b.taken) AS owes FROM bookings b JOIN runs r ON r.id = b.run_id JOIN hosts h ON h.name = b.host
		WHERE b.open AND b.taken < b.frames AND r.kind = 'run' AND r.state = 'running' AND NOT h.server AND NOT h.draining AND h.agent_seen < $1
		GROUP BY b.host ORDER BY b.host`, since).Scan(&out).Error
}

// Prune deletes up to so many notices that were over before a time, and says how many there were.
func Prune(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "notices", "over_at < ? AND state <> 'waiting'", before, most)
}
