package agent

import (
	"context"
	"fmt"
	"time"

	"rotanex.example/agent/tree"
	"rotanex.example/api"
	"rotanex.example/launchers"
)

// look is how often a renderer is looked at: to find what it started, every process
// of the host is gone through. Its own peak the kernel keeps.
const look = time.Second

// watch measures the memory of a renderer and of the processes it started, and ends it when it has been silent for too long or
// holds more memory than its launcher allows.
func (p *rendering) watch(ctx context.Context, x *tree.Tree, l launchers.Launcher) {
	ticks := time.NewTicker(look)
	defer ticks.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case at := <-ticks.C:
			held, silent := x.Memory(), p.silent(at)
			p.mu.Lock()
			p.peak = max(p.peak, held)
			switch {
			case l.MemoryGB > 0 && held > l.MemoryBytes():
				p.end(&failure{api.ResultCauseOutOfMemory, fmt.Sprintf("%s held %.2f GB of this host's memory; its launcher allows %g GB", l.Name, float64(held)/1e9, l.MemoryGB)})
			case silent > l.Quiet():
				p.end(&failure{api.ResultCauseHung, fmt.Sprintf("%s said nothing for %s and was killed", l.Name, l.Quiet())})
			}
			p.mu.Unlock()
		}
	}
}
