package agent

import (
	"slices"
	"sync"
	"time"

	"rotanex.example/agent/tree"
)

// open is a renderer that stays open and has no frame to render.
type open struct {
	tree    *tree.Tree
	way     string   // how it was started, with what: another start may go on with it
	shot    string   // of which run
	devices []string // that it holds
	opening float64  // seconds that it took to open the scene
	stages  map[string]float64

	timer *time.Timer
}

// closes is how long a renderer may take to end by itself.
const closes = 5 * time.Second

// opens are the renderers that are kept open on a host between starts. None is in the way of another renderer: not of one on its
// devices, nor of another shot's, which was planned with the host's memory for itself.
type opens struct {
	mu  sync.Mutex
	all []*open
}

// keep keeps one for so long.
func (o *opens) keep(x *open, idle time.Duration) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.all = append(o.all, x)
	x.timer = time.AfterFunc(idle, func() {
		for _, x := range o.out(func(y *open) bool { return y == x }) {
			x.tree.Close(closes)
		}
	})
}

// out takes some out of those that are kept.
func (o *opens) out(which func(*open) bool) (out []*open) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, x := range o.all {
		if which(x) {
			x.timer.Stop()
			out = append(out, x)
		}
	}
	o.all = slices.DeleteFunc(o.all, which)
	return out
}

// take returns a renderer that was started in a way, if there is one, and ends those that are in its way.
func (o *opens) take(way, shot string, devices []string) (found *open) {
	var ending sync.WaitGroup
	defer ending.Wait()
	for _, x := range o.out(func(x *open) bool {
		return x.shot != shot || slices.ContainsFunc(devices, func(d string) bool { return slices.Contains(x.devices, d) })
	}) {
		select {
		case <-x.tree.Over():
			continue
		default:
		}
		if x.way == way && found == nil {
			found = x
			continue
		}
		ending.Go(func() { x.tree.Close(closes) })
	}
	return found
}

// end ends all of them, now.
func (o *opens) end() {
	var ending sync.WaitGroup
	defer ending.Wait()
	for _, x := range o.out(func(*open) bool { return true }) {
		ending.Go(x.tree.Kill)
	}
}
