// Package audit keeps who did what: each request of a person or a script that changed something, and what the service let or
// bought by itself. It is written to and read, and never changed.
package audit

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/clock"
	"rotanex.example/service/store"
)

// Service is who did what nobody asked for: the service itself, by what a person had set.
const Service = "service"

// Record is one thing that was done.
type Record struct {
	ID     int64 `gorm:"primaryKey"`
	At     time.Time
	Who    string
	Role   string
	Origin string          // address that it came from
	Did    string          // operation of the contract in words, or what the service did
	About  string          // path of what it was done to
	Before json.RawMessage // what of that changed, as it was; nil: it was not there
	After  json.RawMessage // as it is; nil: it is there no more
}

// TableName is GORM's hook.
func (Record) TableName() string { return "audit" }

// Audit keeps records.
type Audit struct {
	Interface http.Handler // of the service, at which is read what something is before and after

	store *store.Store
	clock clock.Clock
}

// New makes it. Its Interface is set before it is used.
func New(s *store.Store, c clock.Clock) *Audit { return &Audit{store: s, clock: c} }

// Own notes what the service did by itself, in the transaction in which it does it.
func Own(tx *gorm.DB, wall time.Time, did, about string, after map[string]string) error {
	text, err := json.Marshal(after)
	if err != nil {
		return err
	}
	return tx.Create(&Record{At: wall, Who: Service, Did: did, About: about, After: text}).Error
}

// note notes what was asked for and done, whether who asked still waits or not.
func (a *Audit) note(ctx context.Context, r Record) {
	r.At = a.clock.WallNow()
	if err := a.store.WithContext(context.WithoutCancel(ctx)).Create(&r).Error; err != nil {
		slog.Error("what was done could not be noted", "who", r.Who, "did", r.Did, "about", r.About, "error", err)
	}
}

// secrets are the fields that are told nobody, wherever they stand.
var secrets = []string{"secret", "token", "join_token", "password", "key"}

// mostText is how long a value may be, as JSON, that is kept whole.
const mostText = 1000

// changed is what differs between two views of a thing, fields of the wanted ones alone if any of them does. Views are JSON
// objects, or nothing.
func changed(before, after []byte, wanted []string) (was, is json.RawMessage) {
	a, b := object(before), object(after)
	differs := map[string]bool{}
	for _, name := range slices.Concat(slices.Collect(maps.Keys(a)), slices.Collect(maps.Keys(b))) {
		if !reflect.DeepEqual(a[name], b[name]) {
			differs[name] = true
		}
	}
	if slices.ContainsFunc(wanted, func(name string) bool { return differs[name] }) {
		maps.DeleteFunc(differs, func(name string, _ bool) bool { return !slices.Contains(wanted, name) })
	}
	return only(a, differs), only(b, differs)
}

// object is a view's fields. Those of its spec, which is what people say of it, stand among the others.
func object(text []byte) (out map[string]any) {
	if json.Unmarshal(text, &out) != nil {
		return nil
	}
	if spec, is := out["spec"].(map[string]any); is {
		delete(out, "spec")
		maps.Copy(out, spec)
	}
	return out
}

// only is a view's fields of some names, without secrets and with what is long left out.
func only(view map[string]any, names map[string]bool) json.RawMessage {
	if view == nil {
		return nil
	}
	out := map[string]any{}
	for name, value := range view {
		if names[name] {
			out[name] = fit(name, value)
		}
	}
	text, _ := json.Marshal(out) // it was JSON
	return text
}

func fit(name string, value any) any {
	if _, text := value.(string); text && slices.Contains(secrets, strings.ToLower(name)) {
		return "(not kept)"
	}
	if inner, is := value.(map[string]any); is {
		out := map[string]any{}
		for name, value := range inner {
			out[name] = fit(name, value)
		}
		value = out
	}
	if text, _ := json.Marshal(value); len(text) > mostText {
		return "(too long to be kept)"
	}
	return value
}
