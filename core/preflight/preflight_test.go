package preflight_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/memory"
	"rotanex.example/core/preflight"
)

var now = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

func shot() preflight.Shot {
	return preflight.Shot{Name: "storm-050", Launcher: "simulated", Frames: 320, Deadline: now.Add(63 * time.Hour)}
}

// sound is a crew with which nothing is wrong.
func sound() preflight.Crew {
	return preflight.Crew{
		Host: "bellows", Crew: "g0", GPUs: 1, Models: []string{"Halyard 24"}, Backends: []string{"compute2", "compute1"}, Asked: true, Up: true, LookedFor: true,
		Launchers: []string{"simulated"}, Renderer: &preflight.Renderer{Launcher: "simulated", Version: "4.2.1", Plugins: []string{"tidefog"}, Lacks: map[string][]string{"gpu": {"foam"}, "hybrid": {"foam"}}},
		Folder: &preflight.Folder{Writable: true, FreeGB: 90}, Fit: memory.Fit{Verdict: memory.Fits, Renderers: 3}, FrameS: 30, FrameLowS: 28,
	}
}

func TestASoundCrewHasNothingToSay(t *testing.T) {
	assert.Equal(t, preflight.Clear, preflight.Judge(nil))
	assert.Empty(t, preflight.Check(shot(), sound(), now))
}

func TestEveryFindingSaysWhatAndHowToFix(t *testing.T) {
	type change func(*preflight.Shot, *preflight.Crew)
	for name, c := range map[string]struct {
		change change
		level  preflight.Level
		check  string
		text   string
		fix    string
	}{
		"down":   {func(_ *preflight.Shot, c *preflight.Crew) { c.Up = false }, preflight.Blocker, "agent", "not up", "start rotanex-agent"},
		"drains": {func(_ *preflight.Shot, c *preflight.Crew) { c.Draining = true }, preflight.Blocker, "agent", "drains", "--undo"},
		"not rented": {func(_ *preflight.Shot, c *preflight.Crew) {
			c.Rented, c.Asked, c.Up, c.Launchers = true, false, false, nil
		}, preflight.Unknown, "renderer", "whether its servers have simulated is not known", "launchers: [simulated]"},
		"no way": {func(_ *preflight.Shot, c *preflight.Crew) { c.Source = preflight.Source{Name: "tern"} }, preflight.Blocker, "source", "there is no way to tern", "sources import"},
		"silent": {func(_ *preflight.Shot, c *preflight.Crew) {
			c.Source = preflight.Source{Name: "tern", Address: "http://tern.example", Asked: true, Fault: "nothing answers"}
		}, preflight.Blocker, "source", "could not be dealt with at http://tern.example: nothing answers", "address or secret"},
		"never asked": {func(_ *preflight.Shot, c *preflight.Crew) {
			c.Source = preflight.Source{Name: "tern", Address: "http://tern.example"}
		}, preflight.Unknown, "source", "nobody has asked tern", "few seconds"},
		"no package": {func(_ *preflight.Shot, c *preflight.Crew) { c.Carry = true }, preflight.Blocker, "inputs", "storm-050 has no package", "packages make storm-050"},
		"old package": {func(_ *preflight.Shot, c *preflight.Crew) {
			c.Carry, c.Packed, c.Missing = true, true, []string{"fog.vdb"}
		}, preflight.Blocker, "inputs", "fog.vdb is not in the package", "packages make storm-050"},
		"plugin, not known": {func(s *preflight.Shot, c *preflight.Crew) {
			s.Plugins, c.Asked, c.Up, c.Renderer = []string{"reef"}, false, false, nil
		}, preflight.Unknown, "renderer", "whether simulated there has reef is not known", "a host of your own"},
		"not on the image": {func(s *preflight.Shot, c *preflight.Crew) {
			c.Rented, c.Asked, c.Up, s.Launcher = true, false, false, "povray"
		}, preflight.Blocker, "renderer", "do not have povray; they have simulated", "on its image"},
		"not allowed": {func(s *preflight.Shot, _ *preflight.Crew) { s.Launcher = "povray" }, preflight.Blocker, "renderer", "may not start povray", "--allow simulated,povray"},
		"missing":     {func(_ *preflight.Shot, c *preflight.Crew) { c.Renderer.Trouble = "no such program" }, preflight.Blocker, "renderer", "no such program", "install"},
		"cpu only":    {func(_ *preflight.Shot, c *preflight.Crew) { c.Renderer.CPUOnly = true }, preflight.Blocker, "renderer", "CPU alone", "crew cpu"},
		"old":         {func(s *preflight.Shot, _ *preflight.Crew) { s.Version = ">= 4.3" }, preflight.Blocker, "renderer", "version 4.2.1, the shot wants >= 4.3", "install"},
		"no version":  {func(s *preflight.Shot, c *preflight.Crew) { s.Version, c.Renderer.Version = ">= 4", "" }, preflight.Warning, "renderer", "does not tell", "look it up"},
		"plugin":      {func(s *preflight.Shot, _ *preflight.Crew) { s.Plugins = []string{"tidefog", "reef"} }, preflight.Blocker, "renderer", "no plugin reef", "install the plugin reef"},
		"backend":     {func(s *preflight.Shot, _ *preflight.Crew) { s.Backend = "lumen3" }, preflight.Blocker, "backend", "lumen3", "update its driver"},
		"no cpu": {func(s *preflight.Shot, _ *preflight.Crew) {
			s.Devices = []string{"cpu", "hybrid", "Halyard 12", "bellows/g1"}
		}, preflight.Blocker, "devices", "on cpu, hybrid, Halyard 12, bellows/g1 alone", "add gpu or bellows/g0"},
		"unusable": {func(_ *preflight.Shot, c *preflight.Crew) { c.Unusable = []string{"g1: too old"} }, preflight.Warning, "backend", "g1: too old", "fix it"},
		"too little": {func(_ *preflight.Shot, c *preflight.Crew) {
			c.Fit = memory.Judge(memory.Need{Scene: memory.GB(20)}, memory.Crew{Host: memory.GB(64), Devices: []memory.Device{{ID: "g0", Total: memory.GB(24)}, {ID: "g1", Total: memory.GB(12)}}})
		}, preflight.Blocker, "memory", "g1 has 12.0 GB free", "leave g1 out: the limit becomes 24.0 GB, and it fits"},
		"spills":     {func(_ *preflight.Shot, c *preflight.Crew) { c.Fit.Verdict, c.Fit.Slowdown = memory.Spills, 1.8 }, preflight.Warning, "memory", "1.8 times as slow", "smallest device"},
		"inputs":     {func(_ *preflight.Shot, c *preflight.Crew) { c.Missing = []string{"fog.vdb"} }, preflight.Blocker, "inputs", "fog.vdb is missing", "copy it"},
		"not looked": {func(_ *preflight.Shot, c *preflight.Crew) { c.LookedFor = false }, preflight.Unknown, "inputs", "not yet looked", "ask again"},
		"feature":    {func(s *preflight.Shot, _ *preflight.Crew) { s.Features = []string{"foam"} }, preflight.Blocker, "features", "no foam: the picture would silently differ", "accepts: [foam]"},
		"accepted":   {func(s *preflight.Shot, _ *preflight.Crew) { s.Features, s.Accepts = []string{"foam"}, []string{"foam"} }, preflight.Warning, "features", "the picture differs", "accepted"},
		"no pool":    {func(s *preflight.Shot, _ *preflight.Crew) { s.Licence = "fathom" }, preflight.Blocker, "licence", "fathom is not known", "rotanex licences put fathom"},
		"named user": {func(s *preflight.Shot, c *preflight.Crew) {
			s.Licence, c.Licence, c.Rented = "fathom", &preflight.Licence{Pool: "fathom", Kind: preflight.NamedUser, Seats: 1}, true
		}, preflight.Blocker, "licence", "one named user", "floating"},
		"node-locked": {func(s *preflight.Shot, c *preflight.Crew) {
			s.Licence, c.Licence, c.Rented = "fathom", &preflight.Licence{Pool: "fathom", Kind: preflight.NodeLocked, Seats: 1}, true
		}, preflight.Blocker, "licence", "tied to one machine", "floating"},
		"node-locked, one's own": {func(s *preflight.Shot, c *preflight.Crew) {
			s.Licence, c.Licence = "fathom", &preflight.Licence{Pool: "fathom", Kind: preflight.NodeLocked, Seats: 1}
		}, preflight.Warning, "licence", "tied to one machine", "give the shot to the machine"},
		"seats": {func(s *preflight.Shot, c *preflight.Crew) {
			s.Licence, c.Licence = "fathom", &preflight.Licence{Pool: "fathom", Kind: preflight.Floating, Seats: 4}
		}, preflight.Warning, "licence", "4 floating seats", "hire more"},
		"no folder": {func(_ *preflight.Shot, c *preflight.Crew) { c.Folder.Writable = false }, preflight.Blocker, "folder", "cannot be written", "writable"},
		"network":   {func(_ *preflight.Shot, c *preflight.Crew) { c.Folder.Network, c.Folder.Filesystem = true, "nfs" }, preflight.Warning, "folder", "network drive (nfs)", "--state-dir"},
		"full":      {func(_ *preflight.Shot, c *preflight.Crew) { c.Folder.FreeGB = 1 }, preflight.Warning, "folder", "1.0 GB free", "make room"},
		"past":      {func(s *preflight.Shot, _ *preflight.Crew) { s.Deadline = now.Add(-time.Hour) }, preflight.Blocker, "deadline", "is past", "another deadline"},
		"too slow":  {func(_ *preflight.Shot, c *preflight.Crew) { c.FrameS = 900 }, preflight.Warning, "deadline", "alone it would take 80 h", "rotanex plan storm-050"},
		"hopeless": {func(s *preflight.Shot, c *preflight.Crew) {
			s.Deadline, c.FrameLowS, c.FrameS = now.Add(time.Minute), 300, 320
		}, preflight.Blocker, "deadline", "one frame takes about 5 min, 60 s are left", "faster"},
		"battery": {func(_ *preflight.Shot, c *preflight.Crew) { c.OnBattery = true }, preflight.Warning, "conditions", "battery", "plug it in"},
		"closed":  {func(_ *preflight.Shot, c *preflight.Crew) { c.OpensAt = now.Add(time.Hour) }, preflight.Warning, "conditions", "opens Fri 19:00", "hours"},
	} {
		s, c2 := shot(), sound()
		c.change(&s, &c2)
		found := preflight.Check(s, c2, now)
		if !assert.NotEmpty(t, found, name) {
			continue
		}
		assert.Equal(t, c.level, found[0].Level, name)
		assert.Equal(t, c.check, found[0].Check, name)
		assert.Contains(t, found[0].Text, c.text, name)
		assert.Contains(t, found[0].Fix, c.fix, name)
		verdict := map[preflight.Level]preflight.Verdict{preflight.Blocker: preflight.Blocked, preflight.Unknown: preflight.NotKnown, preflight.Warning: preflight.Warnings}[c.level]
		assert.Equal(t, verdict, preflight.Judge(found), name)
	}
	require.NoError(t, preflight.CheckVersion(">= 4.2, < 5"))
	assert.ErrorContains(t, preflight.CheckVersion("newest"), `version "newest"`)
}

func TestAShotIsKeptToItsDevices(t *testing.T) {
	crews := map[string]preflight.Crew{
		"a gpu":     {Host: "bellows", Crew: "g0", GPUs: 1, Models: []string{"Halyard 24"}},
		"two alike": {Host: "eddy", Crew: "g0+g1", GPUs: 2, Models: []string{"Halyard 24", "Halyard 24"}},
		"two kinds": {Host: "bellows", Crew: "g0+g1", GPUs: 2, Models: []string{"Halyard 24", "Halyard 12"}},
		"both":      {Host: "eddy", Crew: "g0+cpu", GPUs: 1, CPU: true, Models: []string{"Halyard 24"}},
		"the cpu":   {Host: "eddy", Crew: "cpu", CPU: true},
	}
	for devices, want := range map[string][]string{
		"":                    {"a gpu", "both", "the cpu", "two alike", "two kinds"},
		"gpu":                 {"a gpu", "two alike", "two kinds"},
		"cpu":                 {"the cpu"},
		"hybrid":              {"both"},
		"halyard 24":          {"a gpu", "both", "two alike"},
		"Halyard 12":          nil,
		"eddy/g0+g1":          {"two alike"},
		"cpu,bellows/g0+g1":   {"the cpu", "two kinds"},
		"no such device here": nil,
	} {
		var got []string
		for name, c := range crews {
			s := preflight.Shot{Name: "lamp-040", Launcher: "simulated"}
			if devices != "" {
				s.Devices = strings.Split(devices, ",")
			}
			if !slices.ContainsFunc(preflight.Check(s, c, time.Time{}), func(f preflight.Finding) bool { return f.Check == "devices" }) {
				got = append(got, name)
			}
		}
		slices.Sort(got)
		assert.Equal(t, want, got, devices)
	}
}
