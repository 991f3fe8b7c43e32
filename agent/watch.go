package agent

import (
	"context"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// look is how often a renderer is looked at: to find what it started, every process
// of the host is gone through. Its own peak the kernel keeps.
const look = time.Second

// watch measures the memory of a renderer and of the processes it started, and
// calls hang once when it has been silent for too long.
func (s *start) watch(ctx context.Context, pid int, quiet time.Duration, hang func()) {
	ticks := time.NewTicker(look)
	defer ticks.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case at := <-ticks.C:
			now := treeMemory(int32(pid))
			s.mu.Lock()
			s.peak = max(s.peak, now)
			s.mu.Unlock()
			if s.silent(at) > quiet {
				hang()
				return
			}
		}
	}
}

// treeMemory is the resident memory of a process and all that descend from it, in bytes.
func treeMemory(pid int32) int64 {
	p, err := process.NewProcess(pid)
	if err != nil {
		return 0
	}
	var sum int64
	if info, err := p.MemoryInfo(); err == nil {
		sum = int64(info.RSS)
	}
	children, _ := p.Children()
	for _, c := range children {
		sum += treeMemory(c.Pid)
	}
	return sum
}
