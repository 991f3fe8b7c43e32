// Package standback lets renderers stand back behind whoever works at a machine: they are
// given less of the processor and of the disks, and keep off some cores. Where the agent may
// divide its control group (cgroup v2, as systemd's Delegate= gives it) that is done by
// weights, else by nice(1) and ionice(1) values. All of it is as good as it gets: where the
// system says no, a renderer goes on as anything else does.
package standback

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"rotanex.example/agent/cgroup"
)

// Back is how renderers stand back on this machine.
type Back struct {
	nice  int // while nobody works here
	all   unix.CPUSet
	free  unix.CPUSet // without the cores that are kept back
	group string      // folder of the renderers' control group, which has a weight; "": there is none
}

// New makes it ready: nice is how far renderers stand back though nobody works here, keep
// how many cores are kept back while somebody does.
func New(nice, keep int) (*Back, error) {
	b := &Back{nice: nice}
	if err := unix.SchedGetaffinity(0, &b.all); err != nil {
		return nil, err
	}
	b.free = b.all
	cores := coresOf(b.all, "/sys/devices/system/cpu")
	if keep < 0 || keep > 0 && keep >= len(cores) {
		return nil, fmt.Errorf("--desk-keep-cores %d: want 0 to %d, as this machine has %d", keep, len(cores)-1, len(cores))
	}
	for _, core := range cores[:keep] {
		for _, cpu := range core {
			b.free.Clear(cpu)
		}
	}
	b.group = openGroup(cgroup.Own())
	return b, nil
}

// Groups is the folder in which renderers may have control groups of their own; "" where there is no cgroup v2.
func (b *Back) Groups() string { return cmp.Or(b.group, cgroup.Own()) }

// Threads is how many threads a renderer has beside whoever works here.
func (b *Back) Threads() int { return b.free.Count() }

// coresOf lists the processors of each core, in order.
func coresOf(set unix.CPUSet, sys string) (out [][]int) {
	seen := map[string]int{}
	for cpu := range len(set) * 64 {
		if !set.IsSet(cpu) {
			continue
		}
		core := strconv.Itoa(cpu)
		if data, err := os.ReadFile(filepath.Join(sys, "cpu"+core, "topology/thread_siblings_list")); err == nil {
			core = "with " + strings.TrimSpace(string(data))
		}
		at, known := seen[core]
		if !known {
			at = len(out)
			seen[core], out = at, append(out, nil)
		}
		out[at] = append(out[at], cpu)
	}
	return out
}

// Weights and values beside a person, and alone.
const (
	besideNice, besideWeight, aloneWeight = 19, 10, 100
	// As ioprio_set(2) has them: class and level.
	idleIO, usualIO = 3 << 13, 2<<13 | 4
	whoGroup        = 2
)

// Join puts a renderer that has just begun, the leader of its process group, where it shall
// be: behind a person, or not. One that is grouped has a control group of its own.
func (b *Back) Join(pid int, beside, grouped bool) {
	if b.group != "" && !grouped {
		// What it has started before it is moved is moved too; what it starts then is where it is.
		for _, task := range append([]int{pid}, tasks(pid)...) {
			_ = os.WriteFile(filepath.Join(b.group, "cgroup.procs"), []byte(strconv.Itoa(task)), 0o600)
		}
	}
	b.Stand(pid, beside)
}

// Stand lets a renderer's process group stand back behind a person, or no longer.
func (b *Back) Stand(pid int, beside bool) {
	nice, io, cpus := b.nice, usualIO, b.all
	if beside {
		nice, io, cpus = besideNice, idleIO, b.free
	}
	if b.group != "" {
		nice = b.nice // the group's weight is for the rest
	}
	_ = unix.Setpriority(unix.PRIO_PGRP, pid, nice)
	_, _, _ = unix.Syscall(unix.SYS_IOPRIO_SET, whoGroup, uintptr(pid), uintptr(io))
	for _, task := range tasks(pid) {
		_ = unix.SchedSetaffinity(task, &cpus)
	}
}

// Weigh gives all renderers of the control group their share beside whoever works here, or
// beside nobody.
func (b *Back) Weigh(beside bool) {
	if b.group == "" {
		return
	}
	weight := aloneWeight
	if beside {
		weight = besideWeight
	}
	_ = os.WriteFile(filepath.Join(b.group, "cpu.weight"), []byte(strconv.Itoa(weight)), 0o600)
	_ = os.WriteFile(filepath.Join(b.group, "io.weight"), []byte("default "+strconv.Itoa(weight)), 0o600)
}

// tasks lists the threads of all processes of a process group.
func tasks(group int) (out []int) {
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, stat := range stats {
		data, err := os.ReadFile(stat)
		if err != nil || groupOf(string(data)) != group {
			continue
		}
		threads, _ := filepath.Glob(filepath.Join(filepath.Dir(stat), "task/[0-9]*"))
		for _, t := range threads {
			if id, err := strconv.Atoi(filepath.Base(t)); err == nil {
				out = append(out, id)
			}
		}
	}
	return out
}

// groupOf is the process group in a line of /proc/PID/stat; its second field, the name, may
// have anything in it.
func groupOf(stat string) int {
	fields := strings.Fields(stat[strings.LastIndexByte(stat, ')')+1:])
	if len(fields) < 3 {
		return 0
	}
	group, _ := strconv.Atoi(fields[2])
	return group
}

// openGroup divides the agent's own control group: the agent goes into one half, renderers
// into the other, as processes may stand in its leaves only. It returns the renderers' folder;
// "" where there is no cgroup v2 whose processor may be divided.
func openGroup(at string) string {
	has, err := os.ReadFile(filepath.Join(at, "cgroup.controllers"))
	if at == "" || err != nil || !slices.Contains(strings.Fields(string(has)), "cpu") {
		return ""
	}
	if filepath.Base(at) == agentGroup {
		at = filepath.Dir(at) // an agent before this one divided it
	}
	renderers := filepath.Join(at, "renderers")
	for _, folder := range []string{filepath.Join(at, agentGroup), renderers} {
		if err := os.Mkdir(folder, 0o755); err != nil && !os.IsExist(err) {
			return ""
		}
	}
	for _, w := range []struct{ file, text string }{
		{filepath.Join(at, agentGroup, "cgroup.procs"), strconv.Itoa(os.Getpid())},
		{filepath.Join(at, "cgroup.subtree_control"), "+cpu"},
	} {
		if err := os.WriteFile(w.file, []byte(w.text), 0o600); err != nil {
			return ""
		}
	}
	_ = os.WriteFile(filepath.Join(at, "cgroup.subtree_control"), []byte("+io"), 0o600) // it may not be there
	return renderers
}

const agentGroup = "agent"
