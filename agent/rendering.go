package agent

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"rotanex.example/agent/tree"
	"rotanex.example/api"
	"rotanex.example/launchers"
)

// rendering is a renderer that renders the first leases of a start, up to last.
type rendering struct {
	*start
	launcher launchers.Launcher
	scene    string // its file
	output   string // of one frame, or from which files have their names
	inputs   string // the folder of the frames of other passes; "": they need none
	last     *job
	done     func(*rendered)
	opened   map[string]float64 // stages of before the scene was open
	fault    error              // for which the renderer is ended; of one that ends by itself, nil

	// Of a renderer that stays open:
	ordered *job          // what it was told to render, and has not
	through chan struct{} // closed once it has nothing more to render
}

// run has the renderer, one that is open or a new one, render its leases. The last of them is rendered when the program has ended
// well, those before when it says so; one that stays open says it of each.
func (p *rendering) run(ctx context.Context, args []string, folder string, frames int) error {
	p.through = make(chan struct{})
	way, shot := p.way(args, folder), p.of.Run.String()+" "+p.of.Shot
	x, err := p.process(p.agent.open.take(way, shot, p.of.Devices), args, folder, frames)
	if err != nil {
		return &failure{api.ResultCauseCannotStart, fmt.Sprintf("%s: %v", p.launcher.Program, err)}
	}
	p.begun(x)
	watching, stop := context.WithCancel(ctx)
	var watcher sync.WaitGroup
	watcher.Go(func() { p.watch(watching, x, p.launcher) })
	if p.launcher.StaysOpen != nil {
		p.mu.Lock()
		p.order()
		p.mu.Unlock()
	} else if frames > 1 && !p.launcher.Several.Says() {
		watcher.Go(func() { p.lookForFiles(watching) })
	}
	over := true
	select {
	case <-x.Over():
	case <-p.through:
		over = false
	case <-ctx.Done():
		x.Kill()
	}
	stop()
	watcher.Wait()
	p.ended(x.Ended().PeakBytes)
	if !over {
		p.leaveOpen(&open{tree: x, way: way, shot: shot, devices: p.of.Devices})
		return nil
	}
	if err := p.failure(x.Ended()); err != nil {
		return err
	}
	p.finishAll(x.Ended().At)
	return nil
}

// leaveOpen keeps a renderer that has nothing more to render, unless its devices are not lent any more.
func (p *rendering) leaveOpen(x *open) {
	x.tree.Hear(func(string) {})
	if p.agent.keeps(p.of.Devices) != "" {
		x.tree.Close(closes)
		return
	}
	p.mu.Lock()
	x.opening, x.stages = p.opening, p.opened
	p.mu.Unlock()
	p.agent.open.keep(x, p.launcher.StaysOpen.Idle())
}

// way is all on which it depends whether a renderer that is open can be gone on with.
func (p *rendering) way(args []string, folder string) string {
	scene, _ := os.Stat(p.scene)
	changed := time.Time{}
	if scene != nil {
		changed = scene.ModTime()
	}
	return fmt.Sprintf("%s %s %s %q in %s, scene of %s", p.of.Run, p.of.Shot, p.launcher.Name, args, folder, changed)
}

// process is one that is open, or a new one.
func (p *rendering) process(kept *open, args []string, folder string, frames int) (*tree.Tree, error) {
	p.fresh(frames)
	if kept != nil {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.opening, p.shared, p.opened = kept.opening, kept.opening, kept.stages // its first frames had it
		p.reading.Stages = maps.Clone(p.opened)
		kept.tree.Hear(p.line)
		return kept.tree, nil
	}
	spec := tree.Spec{Program: p.launcher.Program, Args: args, Folder: folder, Orders: p.launcher.StaysOpen != nil, Groups: p.agent.back.Groups(), Owner: p.agent.owner()}
	for name, value := range p.launcher.Environment {
		spec.Environment = append(spec.Environment, name+"="+value)
	}
	return tree.Start(spec, p.line)
}

// failure is why a renderer that has ended did not render its frames; nil if it did.
func (p *rendering) failure(ended tree.Ended) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	name := p.launcher.Name
	switch {
	case p.fault != nil:
		return p.fault
	case ended.Err != nil:
		return &failure{api.ResultCause(p.launcher.Failure(&p.reading, ended.Exit)), fmt.Sprintf("%s: %v", name, ended.Err)}
	case p.launcher.StaysOpen != nil && len(p.left) > 0:
		return &failure{api.ResultCauseCrashed, fmt.Sprintf("%s ended before it had finished frame %d", name, p.left[0].Frame)}
	}
	return nil
}

// fresh forgets what was known of a process before.
func (p *rendering) fresh(frames int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	p.renderer = renderer{heard: now, began: now, frames: frames, stopped: p.stopped, beside: p.beside, settings: p.settings, conditions: p.conditions}
}

// order tells a renderer that stays open which frame comes next. Should it be gone, that is noticed elsewhere.
func (p *rendering) order() {
	p.ordered = p.left[0]
	_, _ = p.tree.Orders.Write(launchers.Order{Frame: p.ordered.Frame, Output: p.fileOf(p.ordered.Frame), Inputs: p.inputs}.Line())
}

// line takes in what the renderer says.
func (p *rendering) line(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	p.heard = now
	p.log.add(text)
	var w launchers.Word
	worded := false
	if p.launcher.StaysOpen != nil {
		w, worded = launchers.ReadWord(text)
	}
	if !worded {
		p.launcher.Read(&p.reading, text)
	} else if w.Frame == 0 || p.ordered != nil && w.Frame == p.ordered.Frame {
		p.reading.Take(w)
	}
	if len(p.left) > 0 {
		p.left[0].progress.Store(int64(p.reading.Progress * 1000))
	}
	if p.opening == 0 && p.shared == 0 && p.launcher.Together() && (w.Opened || p.launcher.Opens(text)) {
		p.opening = (now.Sub(p.began) - p.stood).Seconds() * p.agent.factor
		p.opened = maps.Clone(p.reading.Stages)
	}
	switch {
	case worded:
		p.word(w, now)
	case p.launcher.StaysOpen == nil && p.frames > 1:
		if frame, ok := p.launcher.Several.Finish(text); ok {
			p.finishTo(frame, now)
		}
	}
}

// word goes by what a renderer that stays open says of the frame in hand.
func (p *rendering) word(w launchers.Word, now time.Time) {
	switch {
	case p.ordered == nil || w.Frame != p.ordered.Frame:
	case w.Failed != "":
		p.end(&failure{api.ResultCause(p.reading.Cause), fmt.Sprintf("%s: frame %d: %s", p.launcher.Name, w.Frame, cmp.Or(w.Why, w.Failed))})
	case w.Finished:
		p.finish(now)
	}
}

// end ends the renderer for a fault.
func (p *rendering) end(fault error) {
	if p.fault == nil {
		p.fault = fault
		p.stop()
	}
}

// finishTo takes frames as rendered up to one, 0 being the one in hand. The last one is not among them.
func (p *rendering) finishTo(frame int, at time.Time) {
	upTo := 0
	if frame != 0 {
		upTo = slices.IndexFunc(p.left, func(j *job) bool { return j.Frame == frame })
	}
	for i := 0; i <= upTo && len(p.left) > 0 && p.left[0] != p.last; i++ {
		p.finish(at)
	}
}

// finish takes the frame in hand as rendered. The next is begun, if it is ours still; else the renderer is stopped.
func (p *rendering) finish(at time.Time) {
	j := p.left[0]
	p.left = p.left[1:]
	if p.tree != nil && (p.peak == 0 || p.launcher.StaysOpen != nil) {
		p.peak = max(p.peak, p.tree.Memory()) // the kernel's word is to come when it has ended
	}
	over := j == p.last || len(p.left) == 0 || p.left[0].gone.Load()
	m := p.measured(at, over)
	p.reading = launchers.Reading{Stages: maps.Clone(p.opened), DevicePeakBytes: p.reading.DevicePeakBytes, Devices: p.reading.Devices}
	p.done(&rendered{job: j, folder: filepath.Dir(p.output), find: func() string { return p.fileOf(j.Frame) }, wrote: func() ([]launchers.Written, error) {
		return p.launcher.Written(filepath.Dir(p.output), j.Frame, j.Files)
	}, log: p.log, measured: m})
	p.log = renderLog{}
	switch {
	case p.launcher.StaysOpen == nil && over && j != p.last:
		p.stop()
	case p.launcher.StaysOpen != nil && over:
		p.ordered = nil
		close(p.through)
	case p.launcher.StaysOpen != nil:
		p.order()
	}
}

// finishAll takes what is left as rendered, as the renderer ended well.
func (p *rendering) finishAll(at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for slices.Contains(p.left, p.last) {
		p.finish(at)
	}
}

// fileOf is where a frame is: among several by its number.
func (p *rendering) fileOf(frame int) string {
	switch {
	case p.launcher.StaysOpen != nil:
		ending := filepath.Ext(p.output)
		return fmt.Sprintf("%s.%d%s", strings.TrimSuffix(p.output, ending), frame, ending)
	case p.launcher.Several == nil && p.launcher.Picture == "":
		return p.output
	}
	file, found := p.launcher.PictureOf(filepath.Dir(p.output), frame)
	if !found && p.frames == 1 && p.launcher.Picture == "" {
		return p.output
	}
	return filepath.Join(filepath.Dir(p.output), cmp.Or(file, fmt.Sprintf("no file of frame %d", frame)))
}

// lookForFiles takes frames as rendered when there is a file of one behind them, until ctx ends.
func (p *rendering) lookForFiles(ctx context.Context) {
	ticks := time.NewTicker(look / 5)
	defer ticks.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case at := <-ticks.C:
			p.mu.Lock()
			for i := len(p.left) - 1; i > 0; i-- {
				if _, begun := p.launcher.PictureOf(filepath.Dir(p.output), p.left[i].Frame); begun {
					p.finishTo(p.left[i-1].Frame, at)
					break
				}
			}
			p.mu.Unlock()
		}
	}
}
