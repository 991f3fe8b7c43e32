package pictures

import (
	"encoding/json"
	"fmt"

	"github.com/google/uuid"

	"rotanex.example/core/picture"
)

// KeyOf is where the file of a lease of a frame is.
func KeyOf(run uuid.UUID, shot string, frame int, fence int64, repeat int) string {
	key := fmt.Sprintf("runs/%s/%s/%06d-%d", run, shot, frame, fence)
	if repeat > 0 {
		key += fmt.Sprintf(".%d", repeat)
	}
	return key
}

// Seen is what was seen of a file when it was checked, beside its format. Of most there is nothing to say, and nil.
type Seen struct {
	Layers    []string `json:"layers,omitempty"`     // of an OpenEXR file that can be looked at, the main one first
	NotFinite int      `json:"not_finite,omitempty"` // values of its pixels that are no number or infinite
	Flicker   *Flicker `json:"flicker,omitempty"`    // how it jumps against the frames around it, once they were looked at; nil: it does not
}

// Flicker is what a frame has other than those around it: see picture.Flicker.
type Flicker struct {
	Kind   string  `json:"kind"`
	Amount float64 `json:"amount"`
}

// SeenOf is what of a file is kept, as a column of JSON has it; nil if there is nothing.
func SeenOf(i picture.Info) any {
	if len(i.Layers) == 0 && i.NotFinite == 0 {
		return nil
	}
	data, _ := json.Marshal(Seen{Layers: i.Layers, NotFinite: i.NotFinite}) // names and a number can be
	return string(data)
}

// LayerNames are the layers, none of a file that has none.
func (s *Seen) LayerNames() []string {
	if s == nil {
		return nil
	}
	return s.Layers
}

// Shown reports whether a file of a format can be looked at.
func (s *Seen) Shown(format string) bool { return format != "exr" || len(s.LayerNames()) > 0 }
