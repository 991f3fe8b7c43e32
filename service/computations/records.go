package computations

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/service/httpapi"
)

// Computation is the record of one.
type Computation struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Kind      string
	About     string
	AskedBy   string
	TokenID   int64
	Question  string
	State     State
	Starts    int
	Done      int // of Parts
	Parts     int // 0: nobody knows
	Doing     string
	Answer    *string
	Problem   *problem `gorm:"serializer:json"`
	CreatedAt time.Time
	EndedAt   *time.Time
}

// problem is why a computation failed, as it is told to who asked.
type problem struct {
	Status int     `json:"status"`
	Title  string  `json:"title"`
	Detail string  `json:"detail"`
	Fields []field `json:"fields,omitempty"`
}

type field struct {
	Name   string `json:"name"`
	Value  string `json:"value,omitempty"`
	Detail string `json:"detail"`
}

// claim names one asking of a question: one that was cancelled and is asked again is
// another, so that a job that has not yet seen its end does not meet the new one.
type claim struct {
	id uuid.UUID
	at time.Time
}

func (c Computation) claim() claim { return claim{c.ID, c.CreatedAt} }

// String is what the claim's job is known by.
func (c claim) String() string { return fmt.Sprintf("%s %d", c.id, c.at.UnixMilli()) }

func parseClaim(text string) (c claim, err error) {
	var id string
	var at int64
	if _, err = fmt.Sscan(text, &id, &at); err == nil {
		c.at = time.UnixMilli(at).UTC()
		c.id, err = uuid.Parse(id)
	}
	return c, err
}

// open is the claim's computation while it has not ended.
func (c *Computations) open(ctx context.Context, this claim) *gorm.DB {
	return c.store.WithContext(ctx).Model(&Computation{}).Where("id = ? AND created_at = ? AND ended_at IS NULL", this.id, this.at)
}

// Read reads the answer into what v points at.
func (c Computation) Read(v any) error {
	if c.Answer == nil {
		return errors.New("a computation without an answer was read")
	}
	return json.Unmarshal([]byte(*c.Answer), v)
}

// failure is the error that a computation ended with.
func (c Computation) failure() error {
	switch {
	case c.State == Cancelled:
		return httpapi.Conflict("the computation was cancelled; ask again to have it computed")
	case c.State != Failed || c.Problem == nil:
		return nil
	}
	p := &httpapi.Problem{Status: c.Problem.Status, Title: c.Problem.Title, Detail: c.Problem.Detail}
	for _, f := range c.Problem.Fields {
		p.Fields = append(p.Fields, httpapi.Field(f))
	}
	return p
}

// problemOf is the problem to be told; what is no *httpapi.Problem is logged and not told.
func (c *Computations) problemOf(one Computation, err error) *problem {
	var p *httpapi.Problem
	if !errors.As(err, &p) {
		c.log.Error("a computation failed", "kind", one.Kind, "about", one.About, "error", err)
		return &problem{Status: http.StatusInternalServerError, Title: "Internal error", Detail: "the service could not compute this; its log says why"}
	}
	out := &problem{Status: p.Status, Title: p.Title, Detail: p.Detail}
	for _, f := range p.Fields {
		out.Fields = append(out.Fields, field(f))
	}
	return out
}

func (c *Computations) find(ctx context.Context, id uuid.UUID) (one Computation, found bool, err error) {
	var all []Computation
	err = c.store.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&all).Error
	if err != nil || len(all) == 0 {
		return one, false, err
	}
	return all[0], true, nil
}

// openOf counts a token's computations that have not ended, and keeps other requests of
// the same token from counting until tx ends.
func openOf(tx *gorm.DB, token int64) (n int64, err error) {
	if err = tx.Exec("SELECT pg_advisory_xact_lock(7682264, $1)", int32(token)).Error; err == nil {
		err = tx.Model(&Computation{}).Where("token_id = ? AND state IN ?", token, []State{Waiting, Computing}).Count(&n).Error
	}
	return n, err
}

// insert writes a question down, in the place of one that has ended; false where the same
// one is open.
func (c Computation) insert(tx *gorm.DB) (bool, error) {
	made := tx.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "id"}},
		DoUpdates: clause.AssignmentColumns([]string{"asked_by", "token_id", "question", "state", "starts", "done", "parts", "doing", "answer", "problem", "created_at", "ended_at"}),
		Where:     clause.Where{Exprs: []clause.Expression{clause.Expr{SQL: "computations.ended_at IS NOT NULL"}}},
	}).Create(&c)
	return made.RowsAffected > 0, made.Error
}

// begin marks a computation as computed here; false where it has ended.
func (c *Computations) begin(ctx context.Context, this claim) (one Computation, open bool, err error) {
	made := c.open(ctx, this).Updates(map[string]any{"state": Computing, "starts": gorm.Expr("starts + 1")})
	if made.Error != nil || made.RowsAffected == 0 {
		return one, false, made.Error
	}
	c.feed.Wake(topic)
	return c.find(ctx, this.id)
}

func (c *Computations) writeProgress(ctx context.Context, this claim, done, parts int, doing string) (open bool, err error) {
	made := c.open(ctx, this).Updates(map[string]any{"done": done, "parts": parts, "doing": doing})
	return made.RowsAffected > 0, made.Error
}

// end ends a computation, once.
func (c *Computations) end(ctx context.Context, this claim, state State, answer any, p *problem) error {
	data, err := json.Marshal(answer)
	if err != nil {
		return err
	}
	text, now := string(data), c.clock.Now()
	change := Computation{State: state, EndedAt: &now, Problem: p}
	if state == Done {
		change.Answer = &text
	}
	err = c.open(ctx, this).Select("State", "EndedAt", "Answer", "Problem").Updates(&change).Error
	c.feed.Wake(topic)
	return err
}

func (c *Computations) forget(ctx context.Context, before time.Time) error {
	return c.store.WithContext(ctx).Where("ended_at < ?", before).Delete(&Computation{}).Error
}

// Find returns a computation, or a problem that names it.
func (c *Computations) Find(ctx context.Context, id uuid.UUID) (Computation, error) {
	one, found, err := c.find(ctx, id)
	if err == nil && !found {
		err = unknown(id)
	}
	return one, err
}

// page returns a page of computations without their questions and answers, of those not
// ended only if so wanted, newest first.
func (c *Computations) page(ctx context.Context, open bool, cursor *string, limit *int) ([]Computation, string, error) {
	query := c.store.WithContext(ctx).Omit("question", "answer")
	if open {
		query = query.Where("ended_at IS NULL")
	}
	return httpapi.Newest(query, "created_at", "id", func(x Computation) (time.Time, uuid.UUID) { return x.CreatedAt, x.ID }, cursor, limit)
}
