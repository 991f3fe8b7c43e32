package agent

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/load"

	"rotanex.example/agent/tree"
	"rotanex.example/api"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
)

// start is leases that were given for one start of a renderer: of one shot, crew and launcher. Where the launcher renders fewer
// frames at once it takes several starts.
type start struct {
	agent *Agent
	of    api.Lease // what all its leases have in common, of the first
	stop  context.CancelFunc

	mu    sync.Mutex
	left  []*job // neither handed in nor given up, in their order; the first is the one in hand
	gives string // why they are given back; "": they are not

	renderer // under mu too
}

// renderer is a process in hand, and what is known of it and of the frame that it renders.
type renderer struct {
	reading launchers.Reading
	log     renderLog // of the frame that it renders
	use     use
	heard   time.Time  // when it last said something
	tree    *tree.Tree // nil: none runs
	beside  bool       // somebody worked here meanwhile
	stopped time.Time  // since when it stands still; zero: it does not
	stood   time.Duration
	peak    int64 // of its process tree's memory, bytes

	settings   map[string]string // as the launcher settled them
	conditions map[string]string // before it was started

	began   time.Time // it, or the frame in hand
	opening float64   // seconds until its scene was open, by the service's clock; 0: it did not say
	shared  float64   // how much of that is in frames' times
	frames  int       // that it was started for
}

// do renders, checks and hands in. When working ends it gives up: with a word if the frames are
// to be given back, without one if they are not ours any more or ctx, the agent's, ends.
func (s *start) do(ctx, working context.Context) {
	folder := filepath.Join(s.agent.StateDir, "work", fmt.Sprintf("%d-%d", s.of.Lease, s.of.Fence))
	defer func() { _ = os.RemoveAll(folder) }()
	for some := s.next(); len(some) > 0; some = s.next() {
		if err := os.MkdirAll(folder, 0o700); err != nil || !s.render(ctx, working, folder, some) {
			if err != nil {
				(&rendered{job: some[0], err: err}).settle(ctx, nil)
			}
			return
		}
	}
}

// next are the leases that one process renders next.
func (s *start) next() []*job {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.left = slices.DeleteFunc(s.left, func(j *job) bool { return j.gone.Load() })
	var frames []int
	for _, j := range s.left {
		frames = append(frames, j.Frame)
	}
	n := min(1, len(frames))
	if l, ok := s.agent.Launchers[s.of.Launcher]; ok {
		n = l.Takes(frames)
	}
	return slices.Clone(s.left[:n])
}

// render renders some leases with one process and hands them in, and says whether the others are to be rendered too.
func (s *start) render(ctx, working context.Context, folder string, some []*job) bool {
	// A frame is handed in while the next is rendered, one after another.
	done, ended := make(chan *rendered, len(some)), make(chan struct{})
	var goesOn bool
	var handing sync.WaitGroup
	handing.Go(func() {
		goesOn = true
		for r := range done {
			if goesOn = goesOn && r.settle(ctx, ended); !goesOn {
				s.stop() // those behind it are others' now
			}
			s.drop(r.job)
		}
	})
	err := s.renders(working, folder, some, func(r *rendered) { done <- r })
	close(ended)
	if err != nil || s.givesBack() != "" {
		if r := s.interrupted(some, err); r != nil {
			done <- r
		}
	}
	close(done)
	handing.Wait()
	return goesOn && err == nil && working.Err() == nil
}

// interrupted is the frame in hand when the renderer ended without it; none where all were rendered.
func (s *start) interrupted(some []*job, err error) *rendered {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(some, func(j *job) bool { return len(s.left) > 0 && j == s.left[0] })
	if i < 0 || err == nil && s.gives == "" {
		return nil
	}
	m := s.measured(time.Now(), true)
	s.left = s.left[1:]
	return &rendered{job: some[i], err: err, tail: s.reading.Tail(), log: s.log, gives: s.gives, measured: m}
}

// drop forgets a lease that has ended.
func (s *start) drop(j *job) {
	s.agent.mu.Lock()
	defer s.agent.mu.Unlock()
	if s.agent.jobs[j.Lease.Lease] == j {
		delete(s.agent.jobs, j.Lease.Lease)
	}
}

// renders runs one process for some leases; done is told of each frame that it has rendered.
func (s *start) renders(working context.Context, folder string, some []*job, done func(*rendered)) error {
	s.mu.Lock()
	s.began = time.Time{}
	s.mu.Unlock()
	if s.givesBack() != "" {
		return nil
	}
	l, ok := s.agent.Launchers[s.of.Launcher]
	if !ok {
		return &failure{api.ResultCauseRefused, fmt.Sprintf("this host does not allow the launcher %q", s.of.Launcher)}
	}
	if l.Devices == "cpu" && !slices.Equal(s.of.Devices, []string{stock.CPUDevice}) {
		return &failure{api.ResultCauseRefused, fmt.Sprintf("%s renders on the CPU alone, not on %s", l.Name, s.of.Crew)}
	}
	settings, err := l.Settle(s.of.Settings)
	if err != nil {
		return &failure{api.ResultCauseRefused, err.Error()}
	}
	if err := l.Gives(s.of.Files); err != nil {
		return &failure{api.ResultCauseRefused, err.Error()}
	}
	files, err := s.files(working, append(l.Paths(settings), s.of.Scene)...)
	if err != nil {
		return &failure{api.ResultCauseCannotStart, err.Error()}
	}
	scene := files[s.of.Scene]
	inputs, err := s.inputs(working, folder, some)
	if err != nil {
		return &failure{api.ResultCauseCannotStart, err.Error()}
	}
	s.mu.Lock()
	s.settings, s.conditions = settings, s.besides()
	s.mu.Unlock()
	f := launchers.Start{
		Scene: scene, Width: s.of.Width, Height: s.of.Height, Threads: s.threads(), Devices: s.of.Devices,
		Output: filepath.Join(folder, "frame."+l.Ending(settings)), Stock: s.agent.stock, ClockFactor: s.agent.factor, Settings: s.of.Settings,
		Backend: s.of.Backend, MemoryMode: string(s.of.MemoryMode), Paths: files, Inputs: inputs,
	}
	for _, j := range some {
		f.Frames = append(f.Frames, j.Frame)
	}
	for _, below := range l.Folders(f.Frames) {
		if err := os.MkdirAll(filepath.Join(folder, filepath.FromSlash(below)), 0o700); err != nil {
			return &failure{api.ResultCauseCannotStart, err.Error()}
		}
	}
	args, err := l.Arguments(f)
	if err != nil {
		return &failure{api.ResultCauseRefused, err.Error()}
	}
	p := &rendering{start: s, launcher: l, output: f.Output, scene: scene, last: some[len(some)-1], done: done}
	if len(s.of.Inputs) > 0 {
		p.inputs = inputs
	}
	return p.run(working, args, filepath.Dir(scene), len(some))
}

// measured is what was measured of the frame in hand, which ends at a time, and lets the next begin. Of the last one it has
// all of the opening that is not shared yet.
func (s *start) measured(at time.Time, last bool) (m api.Measured) {
	own := (at.Sub(s.began) - s.stood).Seconds() * s.agent.factor
	if s.began.IsZero() {
		return m
	}
	if s.shared == 0 {
		own -= s.opening // it was opened in the time of the first
	}
	part := min(s.opening/float64(max(1, s.frames)), s.opening-s.shared)
	if last {
		part = s.opening - s.shared
	}
	s.shared += part
	m = api.Measured{
		Seconds: max(0, own) + part, OpeningS: s.opening, OpeningPartS: part, Stages: s.reading.Stages,
		DevicePeakBytes: s.reading.DevicePeakBytes, DeviceUse: s.use.mean(), PeakMemoryBytes: s.peak,
		Settings: s.settings, Conditions: map[string]string{"beside": besideWhom(s.beside)},
	}
	maps.Copy(m.Conditions, s.conditions)
	s.began, s.stood, s.use = at, 0, use{}
	return m
}

func (s *start) threads() int {
	switch {
	case s.agent.Threads > 0:
		return s.agent.Threads
	case s.agent.inUse():
		return s.agent.back.Threads()
	}
	return runtime.NumCPU()
}

// besides is what else may make the frames slow.
func (s *start) besides() map[string]string {
	out := map[string]string{"power": "ac"}
	if s.agent.found.Host.OnBattery() {
		out["power"] = "battery"
	}
	held := 0.0
	for _, id := range s.of.Devices {
		if d := s.agent.found.Host.Device(id); d != nil {
			held = max(held, d.InUseGB)
		}
	}
	if held > 0 {
		out["in_use_gb"] = fmt.Sprintf("%.1f", held)
	}
	use := 0.0
	for _, x := range s.agent.sampled() {
		if slices.Contains(s.of.Devices, x.Device) && x.Device != stock.CPUDevice {
			use = max(use, x.Use)
		}
	}
	if use > 0.02 {
		out["device_use"] = fmt.Sprintf("%.2f", use) // somebody else's: nothing has begun
	}
	if avg, err := load.Avg(); err == nil {
		out["load"] = fmt.Sprintf("%.1f", avg.Load1)
	}
	return out
}
