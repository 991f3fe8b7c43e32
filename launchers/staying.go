package launchers

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// StaysOpen is how a renderer stays open: it reads a frame to render as a JSON line, an Order, from its standard input, and says
// how far it is in JSON lines of its own, each a Word. It ends when its input does. docs/protocols/renderer.md has both.
type StaysOpen struct {
	// IdleS is for how many real seconds it is kept open when there is no frame to render, 30 by default.
	IdleS int `yaml:"idle_s"`
}

// Order is a frame to render. Output is the path of the file to write, Inputs the folder of the frames of other passes that it
// needs: see Input.
type Order struct {
	Frame  int    `json:"frame"`
	Output string `json:"output"`
	Inputs string `json:"inputs,omitempty"`
}

// Word is what a renderer that stays open says. What it leaves out has not changed.
type Word struct {
	Opened          bool               `json:"opened"` // the scene is open
	Frame           int                `json:"frame"`
	Progress        *float64           `json:"progress"` // of the frame, 0 to 1
	Stages          map[string]float64 `json:"stages"`   // seconds
	DevicePeakBytes int64              `json:"device_peak_bytes"`
	Finished        bool               `json:"finished"` // the frame's file is written
	Failed          string             `json:"failed"`   // the cause for which the frame is not rendered
	Why             string             `json:"why"`      // in words
}

// ReadWord reads a line as a word; ok is false for any other line, which is read by patterns.
func ReadWord(line string) (w Word, ok bool) {
	line = strings.TrimSpace(line)
	return w, strings.HasPrefix(line, "{") && json.Unmarshal([]byte(line), &w) == nil
}

// Line is an order as the renderer reads it.
func (o Order) Line() []byte {
	line, _ := json.Marshal(o) // a number and a string can be
	return append(line, '\n')
}

// Take takes a word in. A cause that a launcher cannot name is a crash.
func (r *Reading) Take(w Word) {
	if w.Progress != nil {
		r.Progress = min(1, max(r.Progress, *w.Progress))
	}
	for name, seconds := range w.Stages {
		if r.Stages == nil {
			r.Stages = map[string]float64{}
		}
		if seconds >= 0 {
			r.Stages[name] = seconds
		}
	}
	r.DevicePeakBytes = max(r.DevicePeakBytes, w.DevicePeakBytes)
	if w.Failed != "" && r.Cause == "" {
		r.Cause = "crashed"
		if slices.Contains(causes, w.Failed) {
			r.Cause = w.Failed
		}
	}
	if w.Why != "" {
		r.remember(w.Why)
	}
}

// Together reports whether one start of the renderer may render several frames.
func (l Launcher) Together() bool { return l.Several != nil || l.StaysOpen != nil }

// Idle is for how long, in real time, the renderer is kept open without a frame to render.
func (s *StaysOpen) Idle() time.Duration { return time.Duration(s.IdleS) * time.Second }

func (s *StaysOpen) check(l *Launcher) (faults []error) {
	if s.IdleS == 0 {
		s.IdleS = 30
	}
	if s.IdleS < 0 || s.IdleS > 3600 {
		faults = append(faults, fmt.Errorf("stays_open: idle_s %d: want 1 to 3600", s.IdleS))
	}
	if l.Several != nil {
		faults = append(faults, fmt.Errorf("stays_open: a renderer that stays open is told each frame; leave several out"))
	}
	for _, hole := range []string{"frame", "first", "last", "step", "frames", "output", "folder", "inputs"} {
		if slices.ContainsFunc(l.Args, func(a string) bool { return strings.Contains(a, "{"+hole+"}") }) {
			faults = append(faults, fmt.Errorf("stays_open: {%s} in the arguments is not known when the renderer is opened: it is told on standard input", hole))
		}
	}
	return faults
}
