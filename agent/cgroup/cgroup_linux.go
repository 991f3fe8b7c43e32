// Package cgroup gives renderers control groups of their own (cgroup v2), where the agent may make any: as root, or below its own
// with systemd's Delegate=. What is in a group is counted, stopped and killed as one, however it was started.
package cgroup

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Own is the folder of the control group that this process is in; "" where there is no cgroup v2.
func Own() string { return Of(os.Getpid()) }

// Of is the folder of the control group that a process is in.
func Of(pid int) string { return of("/proc/self/mountinfo", fmt.Sprintf("/proc/%d/cgroup", pid)) }

// of reads it from what /proc says of the mounts and of the process.
func of(mounts, self string) string {
	data, err := os.ReadFile(mounts)
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(data)) {
		// 36 35 98:0 / /sys/fs/cgroup rw shared:1 - cgroup2 cgroup2 rw
		before, after, _ := strings.Cut(line, " - ")
		fields := strings.Fields(before)
		if kind, _, _ := strings.Cut(after, " "); kind != "cgroup2" || len(fields) < 5 {
			continue
		}
		if below := pathOf(self); below != "" {
			// In a container the mount shows a part of the tree, which begins at fields[3].
			if rest, err := filepath.Rel(fields[3], below); err == nil && !strings.HasPrefix(rest, "..") {
				below = rest
			}
			return filepath.Join(fields[4], below)
		}
	}
	return ""
}

func pathOf(self string) string {
	data, _ := os.ReadFile(self)
	for line := range strings.Lines(string(data)) {
		if path, is := strings.CutPrefix(strings.TrimSpace(line), "0::"); is {
			return path
		}
	}
	return ""
}

// Group is a control group of one renderer.
type Group struct{ folder string }

// At is the group in a folder.
func At(folder string) Group { return Group{folder} }

const (
	killFile, freezeFile, procsFile = "cgroup.kill", "cgroup.freeze", "cgroup.procs"
	// empties is how long a group that was killed may take to be empty.
	empties = 5 * time.Second
)

// prefix is how the groups of an owner's renderers are called.
func prefix(owner string) string { return "rotanex-" + owner + "-" }

// Make makes the nth group of this process in a folder, for an owner: an agent, by its state.
func Make(folder, owner string, n int64) (Group, error) {
	g := Group{filepath.Join(folder, fmt.Sprintf("%s%d-%d", prefix(owner), os.Getpid(), n))}
	if err := os.Mkdir(g.folder, 0o755); err != nil {
		return Group{}, err
	}
	// Before Linux 5.14 a group could not be killed as one.
	if _, err := os.Stat(filepath.Join(g.folder, killFile)); err != nil {
		_ = os.Remove(g.folder)
		return Group{}, err
	}
	return g, nil
}

// MayMake reports whether groups can be made in a folder, by making one.
func MayMake(folder, owner string) bool {
	if folder == "" {
		return false
	}
	g, err := Make(folder, owner, 0)
	if err == nil {
		g.Remove()
	}
	return err == nil
}

// Sweep ends what is left in groups of an owner's agents that are not there any more; without a folder there are none.
func Sweep(folder, owner string) {
	if folder == "" {
		return
	}
	entries, _ := filepath.Glob(filepath.Join(folder, prefix(owner)+"*"))
	for _, e := range entries {
		pid, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(e), prefix(owner)), "-")
		if n, err := strconv.Atoi(pid); err == nil && syscall.Kill(n, 0) == syscall.ESRCH {
			At(e).Remove()
		}
	}
}

// Open opens the group's folder, for a process to be started in it.
func (g Group) Open() (*os.File, error) { return os.Open(g.folder) }

// Kill ends all that is in it at once; nothing there can escape by starting something else.
func (g Group) Kill() { _ = g.write(killFile, "1") }

// Stand lets all that is in it stand still, or go on.
func (g Group) Stand(still bool) error {
	return g.write(freezeFile, map[bool]string{true: "1", false: "0"}[still])
}

func (g Group) write(file, text string) error {
	return os.WriteFile(filepath.Join(g.folder, file), []byte(text), 0o600)
}

// Members are the processes that are in it.
func (g Group) Members() (out []int) {
	data, _ := os.ReadFile(filepath.Join(g.folder, procsFile))
	for _, field := range strings.Fields(string(data)) {
		if pid, err := strconv.Atoi(field); err == nil {
			out = append(out, pid)
		}
	}
	return out
}

// Remove kills what is in it and takes it away.
func (g Group) Remove() {
	for until := time.Now().Add(empties); time.Now().Before(until); time.Sleep(2 * time.Millisecond) {
		g.Kill()
		if err := os.Remove(g.folder); err == nil || os.IsNotExist(err) {
			return
		}
	}
}
