package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"rotanex.example/agent/standback"
	"rotanex.example/api"
	"rotanex.example/core/picture"
	"rotanex.example/core/stock"
)

// Trial is frames that are rendered here without a service, to see whether a launcher reads its renderer.
type Trial struct {
	Launcher, Scene string // the scene lies below the agent's folder of scenes
	Frames          []int
	Width, Height   int
	Devices         []string // of the crew
	Settings        map[string]string
	Backend         string
	To              string // folder for what is rendered
}

// Tried is what was read of one frame.
type Tried struct {
	Frame    int          `json:"frame"`
	Measured api.Measured `json:"measured"`
	File     string       `json:"file,omitempty"`
	Beside   []TriedFile  `json:"beside,omitempty"` // what is beside the picture
	Bytes    int64        `json:"bytes,omitempty"`
	Kind     string       `json:"kind,omitempty"` // of the file
	Cause    string       `json:"cause,omitempty"`
	Why      string       `json:"why,omitempty"`
}

// TriedFile is a file that was written beside a frame's picture.
type TriedFile struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	File string `json:"file"`
}

// Try renders frames and tells of each. It ends with the first that fails.
func Try(ctx context.Context, c Config, t Trial, tell func(Tried)) error {
	c.Service, c.Log = "none", slog.New(slog.DiscardHandler)
	work, err := os.MkdirTemp("", "rotanex-try-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(work) }()
	c.StateDir = work
	if err := c.Validate(); err != nil {
		return err
	}
	a := &Agent{Config: c, factor: 1, jobs: map[int64]*job{}, starts: map[*start]bool{}}
	if a.back, err = standback.New(c.Nice, 0); err != nil {
		return err
	}
	if err := a.discover(); err != nil {
		return err
	}
	if t.Devices, err = a.crewFor(t); err != nil {
		return err
	}
	defer a.open.end()
	working, stop := context.WithCancel(ctx)
	defer stop()
	s := &start{agent: a, stop: stop, of: api.Lease{
		Crew: "this host", Devices: t.Devices, Scene: t.Scene, Launcher: t.Launcher, Width: t.Width, Height: t.Height, Settings: t.Settings, Backend: t.Backend,
	}}
	for _, frame := range t.Frames {
		s.left = append(s.left, &job{Lease: api.Lease{Frame: frame, Width: t.Width, Height: t.Height}, agent: a, start: s})
	}
	return s.try(ctx, working, work, t.To, tell)
}

// crewFor are the devices that a trial is to run on: those that it names, else the first GPU of a launcher that takes one.
func (a *Agent) crewFor(t Trial) ([]string, error) {
	all := devicesOf(a.found.Host)
	for _, d := range t.Devices {
		if !slices.Contains(all, d) {
			return nil, fmt.Errorf("--crew %s: this machine has no such device; it has %s", d, strings.Join(all, ", "))
		}
	}
	switch {
	case len(t.Devices) > 0:
		return t.Devices, nil
	case a.Launchers[t.Launcher].Devices == stock.CPUDevice:
		return []string{stock.CPUDevice}, nil
	}
	return all[:1], nil
}

func (s *start) try(ctx, working context.Context, work, to string, tell func(Tried)) (failed error) {
	for some := s.next(); len(some) > 0 && failed == nil; some = s.next() {
		done, ended := make(chan *rendered, len(some)), make(chan struct{})
		var telling sync.WaitGroup
		telling.Go(func() {
			for r := range done {
				if x := r.tried(ctx, ended, to); failed == nil && ctx.Err() == nil {
					if tell(x); x.Cause != "" {
						failed = fmt.Errorf("frame %d failed: %s", x.Frame, x.Cause)
					}
				}
			}
		})
		err := s.renders(working, work, some, func(r *rendered) { done <- r })
		close(ended)
		if r := s.interrupted(some, err); r != nil {
			done <- r
		}
		close(done)
		telling.Wait()
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return failed
}

// tried checks a frame as it would be before it is handed in, and keeps its file.
func (r *rendered) tried(ctx context.Context, ended <-chan struct{}, to string) Tried {
	x := Tried{Frame: r.Frame, Measured: r.measured}
	err := r.err
	if err == nil {
		err = r.whole(ctx, ended)
	}
	if err == nil {
		x.File = filepath.Join(to, fmt.Sprintf("frame.%06d%s", r.Frame, filepath.Ext(r.file)))
		x.Kind, x.Bytes, err = kept(r.file, x.File, r.Width, r.Height)
	}
	for _, f := range r.beside {
		file := filepath.Join(to, fmt.Sprintf("frame.%06d.%s.%s", r.Frame, f.Name, f.Ending))
		if err == nil {
			err = moved(r.pathOf(f), file)
		}
		x.Beside = append(x.Beside, TriedFile{Name: f.Name, Kind: f.Kind, File: file})
	}
	if err != nil {
		var result api.Result
		r.failed(&result, err)
		x.Cause, x.Why, x.File, x.Beside = string(result.Cause), result.LogTail, "", nil
	}
	return x
}

// kept moves a picture, and says of what kind and how large it is.
func kept(from, to string, width, height int) (kind string, size int64, err error) {
	data, err := os.ReadFile(from)
	if err != nil {
		return "", 0, err
	}
	info, err := picture.Check(bytes.NewReader(data), int64(len(data)), width, height)
	if err != nil {
		return "", 0, err
	}
	return info.Format, int64(len(data)), moved(from, to)
}

// moved moves a file, to another disk too.
func moved(from, to string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return errors.Join(os.WriteFile(to, data, 0o600), os.Remove(from))
}
