package standback

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func put(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

func said(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(data)
}

// A control group is divided once, the agent in one half and renderers in the other, whose
// weight falls beside a person. Where it may not be divided there is none.
func TestAControlGroupIsDivided(t *testing.T) {
	t.Parallel()
	service := filepath.Join(t.TempDir(), "agents.slice/rotanex.service")
	assert.Empty(t, openGroup(service), "there is no such group")
	put(t, filepath.Join(service, "cgroup.controllers"), "memory pids\n")
	assert.Empty(t, openGroup(service), "it may not divide the processor")
	put(t, filepath.Join(service, "cgroup.controllers"), "cpuset cpu io memory\n")
	group := openGroup(service)
	assert.Equal(t, filepath.Join(service, "renderers"), group)
	assert.Equal(t, strconv.Itoa(os.Getpid()), said(t, filepath.Join(service, "agent/cgroup.procs")))

	put(t, filepath.Join(service, "agent/cgroup.controllers"), "cpu io\n")
	assert.Equal(t, group, openGroup(filepath.Join(service, "agent")), "the agent was started again in its half")

	b := &Back{group: group}
	b.Weigh(true)
	assert.Equal(t, "10", said(t, filepath.Join(group, "cpu.weight")))
	assert.Equal(t, "default 10", said(t, filepath.Join(group, "io.weight")))
	b.Weigh(false)
	assert.Equal(t, "100", said(t, filepath.Join(group, "cpu.weight")))
}

// What is kept back is whole cores, with both threads of each.
func TestCoresAreKeptBackWhole(t *testing.T) {
	t.Parallel()
	sys := t.TempDir()
	var set unix.CPUSet
	for cpu := range 4 {
		set.Set(cpu)
		put(t, filepath.Join(sys, "cpu"+strconv.Itoa(cpu), "topology/thread_siblings_list"), []string{"0,2", "1,3"}[cpu%2]+"\n")
	}
	assert.Equal(t, [][]int{{0, 2}, {1, 3}}, coresOf(set, sys))
	assert.Equal(t, [][]int{{0}, {1}, {2}, {3}}, coresOf(set, t.TempDir()), "where the system does not tell, each is one")
}

func TestAProcessGroupIsFoundWhateverItsName(t *testing.T) {
	t.Parallel()
	assert.Equal(t, 77, groupOf("123 (a (b) c) S 1 77 77 0 -1"))
	assert.Zero(t, groupOf("123 (broken"))
	own := tasks(unix.Getpgrp())
	assert.Contains(t, own, os.Getpid(), strings.Join(os.Args, " "))
}
