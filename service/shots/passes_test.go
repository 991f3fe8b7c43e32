package shots

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/teststage"
)

// layered is a shot of a beauty pass, one of another renderer, and a composite of both.
func layered(change func(*Spec)) Spec {
	s := lamp(func(s *Spec) {
		s.Settings = map[string]string{"samples": "128", "bucket": "64"}
		s.Version, s.HostMemoryGB, s.DeviceMemoryGB, s.Devices, s.Title = ">= 4.2", 9, 6.5, []string{"gpu"}, "lamp room"
		s.Passes = []Pass{
			{Name: "composite", After: []string{"beauty", "occlusion"}, Devices: []string{"cpu"}, Title: "all of it"},
			{Name: "beauty", Settings: map[string]string{"samples": "512"}},
			{Name: "occlusion", Launcher: "povray", Scene: "lamp/occlusion.pov", HostMemoryGB: 1},
		}
	})
	if change != nil {
		change(&s)
	}
	return s
}

func TestAPassIsWhatItSaysAndWhatItsShotSays(t *testing.T) {
	t.Parallel()
	s := layered(nil)
	beauty := s.pass(s.Passes[1])
	assert.Equal(t, "lamp-040.beauty", beauty.Name)
	assert.Equal(t, map[string]string{"samples": "512", "bucket": "64"}, beauty.Settings)
	assert.Equal(t, []string{"gpu"}, beauty.Devices)
	assert.InDelta(t, 6.5, beauty.DeviceMemoryGB, 0)
	assert.Equal(t, map[string]string{"samples": "128", "bucket": "64"}, s.Settings, "the shot's own are as they were")

	occlusion := s.pass(s.Passes[2])
	assert.Nil(t, occlusion.Settings, "of another renderer")
	assert.Empty(t, occlusion.Version)
	assert.Zero(t, occlusion.DeviceMemoryGB)
	assert.InDelta(t, 1, occlusion.HostMemoryGB, 0)
	assert.Equal(t, "1-20,30", occlusion.Frames)

	composite := s.pass(s.Passes[0])
	assert.Equal(t, []string{"lamp-040.beauty", "lamp-040.occlusion"}, composite.After)
	assert.Equal(t, "all of it", composite.Title)
}

func TestWhatIsWrongWithPasses(t *testing.T) {
	t.Parallel()
	for want, change := range map[string]func(*Spec){
		`passes 0 after "haze" is no pass of lamp-040: those are beauty, composite, occlusion`: func(s *Spec) { s.Passes[0].After[1] = "haze" },
		`passes 0 after "beauty, occlusion" is part of a circle`:                               func(s *Spec) { s.Passes[1].After = []string{"composite"} },
		`passes 2 name "beauty" is the name of two passes`:                                     func(s *Spec) { s.Passes[2].Name = "beauty"; s.Passes[0].After = nil },
		"at most 63": func(s *Spec) { s.Passes[1].Name = strings.Repeat("b", 60); s.Passes[0].After = nil },
	} {
		_, err := check("lamp-040", layered(change))
		assert.ErrorContains(t, err, want)
	}
	on := teststage.New(t)
	s := New(on.DB, on.Clock, on.Feed)
	_, err := s.Put(t.Context(), "lamp-040", layered(func(s *Spec) { s.Passes[2].Settings = map[string]string{"samples": "1"} }))
	require.ErrorContains(t, err, "passes 2: settings", "of a renderer that has no such setting")
	_, err = s.Passes(t.Context(), "lamp-040")
	require.NoError(t, err)
	_, err = s.any(t.Context(), "lamp-040.beauty")
	assert.ErrorContains(t, err, "there is no shot", "none of it was stored")
}

func TestPassesAreStoredWithTheirShot(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	s := New(on.DB, on.Clock, on.Feed)
	_, err := s.Put(t.Context(), "lamp-040", layered(nil))
	require.NoError(t, err)
	_, err = s.Find(t.Context(), "lamp-040")
	require.ErrorContains(t, err, "is rendered in passes: ask for one of them, lamp-040.composite, lamp-040.beauty, lamp-040.occlusion")
	_, err = s.Find(t.Context(), "lamp-040.occlusion")
	require.NoError(t, err)

	names, err := s.Expand(t.Context(), []string{"lamp-040", "lamp-040.beauty"})
	require.NoError(t, err)
	assert.Equal(t, []string{"lamp-040.beauty", "lamp-040.occlusion", "lamp-040.composite"}, names, "each behind what it needs, once")
	names, err = s.Expand(t.Context(), []string{"lamp-040.composite", "coda-060", "coda-060"})
	require.NoError(t, err)
	assert.Equal(t, []string{"lamp-040.beauty", "lamp-040.occlusion", "lamp-040.composite", "coda-060", "coda-060"}, names, "what it needs with it; who is asked for twice is told so elsewhere")

	_, err = s.Put(t.Context(), "lamp-040.beauty", lamp(func(s *Spec) { s.Name = "lamp-040.beauty" }))
	require.ErrorContains(t, err, "is a pass of lamp-040: change it there")
	_, err = s.Put(t.Context(), "coda-060.grain", lamp(func(s *Spec) { s.Name = "coda-060.grain" }))
	require.NoError(t, err)
	_, err = s.Put(t.Context(), "coda-060", lamp(func(s *Spec) { s.Name, s.Passes = "coda-060", []Pass{{Name: "grain"}} }))
	require.ErrorContains(t, err, "there is a shot coda-060.grain already")

	// A pass that the shot has no more is none any more.
	_, err = s.Put(t.Context(), "lamp-040", layered(func(s *Spec) { s.Passes = s.Passes[1:2] }))
	require.NoError(t, err)
	_, err = s.Find(t.Context(), "lamp-040.occlusion")
	require.ErrorContains(t, err, "there is no shot")
	gone, err := Delete(on.DB.WithContext(t.Context()), "lamp-040")
	require.NoError(t, err)
	assert.True(t, gone)
	_, err = s.any(t.Context(), "lamp-040.beauty")
	assert.ErrorContains(t, err, "there is no shot")
}
