package shots

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/teststage"
)

func lamp(change func(*Spec)) Spec {
	s := Spec{Name: "lamp-040", Scene: "lamp/lamp.yaml", Frames: "1-20,30", Width: 64, Height: 36, Launcher: "simulated"}
	if change != nil {
		change(&s)
	}
	return s
}

func TestWhatIsWrongWithAShot(t *testing.T) {
	t.Parallel()
	for want, change := range map[string]func(*Spec){
		"is not the shot in the path, lamp-040":   func(s *Spec) { s.Name = "coda-060" },
		"9 comes after 1":                         func(s *Spec) { s.Frames = "9-1" },
		`scene "../lamp.yaml": want a path below`: func(s *Spec) { s.Scene = "../lamp.yaml" },
		`scene "/etc/passwd": want a path below`:  func(s *Spec) { s.Scene = "/etc/passwd" },
		`scene "a/../../b": want a path below`:    func(s *Spec) { s.Scene = "a/../../b" },
		`scene "project:../x": want a path below`: func(s *Spec) { s.Scene = "project:../x" },
		`inputs "../tex.png": want a path below`:  func(s *Spec) { s.Inputs = []string{"lamp/tex.png", "../tex.png"} },
		"newest":                                  func(s *Spec) { s.Version = "newest" },
		"hope":                                    func(s *Spec) { s.OutOfMemory = []string{"hope"} },
	} {
		_, err := check("lamp-040", lamp(change))
		assert.ErrorContains(t, err, want)
	}
	_, err := check("lamp-040", lamp(func(s *Spec) { s.Scene = "project:lamp/lamp.yaml" }))
	require.NoError(t, err)
	n, err := check("lamp-040", lamp(nil))
	require.NoError(t, err)
	assert.Equal(t, 21, n)
}

func TestAShotIsStoredAsItWasChecked(t *testing.T) {
	t.Parallel()
	on := teststage.New(t)
	s := New(on.DB, on.Clock, on.Feed)
	would, err := s.checked(t.Context(), "lamp-040", lamp(nil))
	require.NoError(t, err)
	_, err = s.Find(t.Context(), "lamp-040")
	assert.ErrorContains(t, err, `there is no shot "lamp-040"`, "to be looked at is not to be stored")
	_, err = s.Put(t.Context(), "lamp-040", lamp(nil))
	require.NoError(t, err)
	got, err := s.Find(t.Context(), "lamp-040")
	require.NoError(t, err)
	assert.Equal(t, would.Spec, got.Spec)
	assert.Equal(t, 21, got.FrameCount)
	assert.Equal(t, 21, got.Frames().Len())

	// It is replaced as a whole, and by nothing that is wrong.
	_, err = s.Put(t.Context(), "lamp-040", lamp(func(s *Spec) { s.Frames = "1-2"; s.Buffers = 3 }))
	require.NoError(t, err)
	_, err = s.Put(t.Context(), "lamp-040", lamp(func(s *Spec) { s.Frames = "2-1" }))
	require.Error(t, err)
	got, err = s.Find(t.Context(), "lamp-040")
	require.NoError(t, err)
	assert.Equal(t, 2, got.FrameCount)
	all, next, err := s.page(t.Context(), nil, nil)
	require.NoError(t, err)
	assert.Empty(t, next)
	assert.Len(t, all, 1)
}

// Times are of one thing only where all that changes them is equal.
func TestWhatChangesAFramesTime(t *testing.T) {
	t.Parallel()
	plain := Settings(lamp(nil))
	assert.Equal(t, map[string]string{"launcher": "simulated", "scene": "lamp/lamp.yaml", "size": "64x36"}, plain)
	for name, change := range map[string]func(*Spec){
		"size":     func(s *Spec) { s.Width = 128 },
		"scene":    func(s *Spec) { s.Scene = "lamp/other.yaml" },
		"buffers":  func(s *Spec) { s.Buffers = 4 },
		"samples":  func(s *Spec) { s.Settings = map[string]string{"samples": "64"} },
		"launcher": func(s *Spec) { s.Launcher = "povray" },
	} {
		other := Settings(lamp(change))
		assert.NotEqual(t, plain[name], other[name], name)
	}
	assert.Equal(t, plain, Settings(lamp(func(s *Spec) { s.Frames = "5"; s.Title = "the lamp"; s.Buffers = 1 })), "which frames changes nothing")
}
