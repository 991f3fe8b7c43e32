package launchers_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/launchers"
)

func several(t *testing.T, args string) launchers.Launcher {
	t.Helper()
	l, err := launchers.Parse([]byte("format: rotanex-launcher-1\nname: x\nprogram: y\nargs: [" + args + "]\nseveral: {files: '^f(?P<frame>\\d+)$', finished: '^done( (?P<frame>\\d+))?'}\n"))
	require.NoError(t, err)
	return l
}

func TestHowManyFramesAStartTakes(t *testing.T) {
	t.Parallel()
	list, step, run := several(t, "'{frames}'"), several(t, "'{first}', '{last}', '{step}'"), several(t, "'{first}', '{last}'")
	one, err := launchers.Parse([]byte("format: rotanex-launcher-1\nname: x\nprogram: y\nargs: ['{frame}']\n"))
	require.NoError(t, err)
	for _, c := range []struct {
		frames                []int
		list, step, run, once int
	}{
		{nil, 0, 0, 0, 0},
		{[]int{4}, 1, 1, 1, 1},
		{[]int{4, 5, 6, 8}, 4, 3, 3, 1},
		{[]int{4, 7, 10, 12}, 4, 3, 1, 1},
		{[]int{4, 4, 4}, 1, 1, 1, 1}, // a trial's repeats
		{[]int{9, 8}, 1, 1, 1, 1},
	} {
		assert.Equal(t, [4]int{c.list, c.step, c.run, c.once}, [4]int{list.Takes(c.frames), step.Takes(c.frames), run.Takes(c.frames), one.Takes(c.frames)}, c.frames)
	}
}

func TestARendererThatStaysOpen(t *testing.T) {
	t.Parallel()
	head := "format: rotanex-launcher-1\nname: x\nprogram: y\nargs: [%s]\nstays_open: {%s}\n%s"
	l, err := launchers.Parse(fmt.Appendf(nil, head, "'{scene}'", "", ""))
	require.NoError(t, err)
	assert.Equal(t, 30*time.Second, l.StaysOpen.Idle())
	assert.True(t, l.Together())
	for want, frames := range [][]int{{}, {4, 4}, {9, 2}, {1, 5, 2, 5}} {
		assert.Equal(t, want, l.Takes(frames))
	}
	assert.Equal(t, "{\"frame\":0,\"output\":\"a b\"}\n", string(launchers.Order{Output: "a b"}.Line()))
	for want, text := range map[string]string{
		"idle_s -1: want 1 to 3600":      fmt.Sprintf(head, "'{scene}'", "idle_s: -1", ""),
		"leave several out":              fmt.Sprintf(head, "'{frames}'", "", "several: {files: '(?P<frame>)'}"),
		"{output} in the arguments":      fmt.Sprintf(head, "'--to={output}'", "", ""),
		`causes: "too-hot": want out-of`: fmt.Sprintf(head, "x", "", "causes: [{cause: too-hot, exit: [3]}]"),
		"memory_gb -1: want gigabytes":   fmt.Sprintf(head, "x", "", "memory_gb: -1"),
	} {
		_, err := launchers.Parse([]byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestWordsAreTakenIn(t *testing.T) {
	t.Parallel()
	var r launchers.Reading
	for _, line := range []string{` {"progress":0.5,"stages":{"load":3,"odd":-1}}`, `{"progress":0.2,"device_peak_bytes":7,"unknown":[1]}`, `{"progress":9,"failed":"licence-lost","why":"the seat is gone"}`} {
		w, ok := launchers.ReadWord(line)
		require.True(t, ok, line)
		r.Take(w)
	}
	assert.Equal(t, "licence-lost", r.Cause)
	assert.InDelta(t, 1, r.Progress, 1e-9)
	assert.Equal(t, map[string]float64{"load": 3}, r.Stages)
	assert.EqualValues(t, 7, r.DevicePeakBytes)
	assert.Equal(t, "the seat is gone", r.Tail())
	for _, line := range []string{"", "opening", `{"frame":`, `{"frame":"one"}`, "[1]"} {
		_, ok := launchers.ReadWord(line)
		assert.False(t, ok, line)
	}
}

func TestArgumentsNameFramesInEachWay(t *testing.T) {
	t.Parallel()
	for args, want := range map[string][]string{
		"'{frames}'": {"4,7,10"}, "'{first}-{last}x{step}'": {"4-10x3"}, "'-s', '{first}', '-e', '{last}'": {"-s", "4", "-e", "10"},
	} {
		got, err := several(t, args).Arguments(launchers.Start{Frames: []int{4, 7, 10}})
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

func TestWhichFrameIsFinished(t *testing.T) {
	t.Parallel()
	said := func(l launchers.Launcher, line string) [2]any {
		n, ok := l.Several.Finish(line)
		return [2]any{n, ok}
	}
	l := several(t, "'{frames}'")
	assert.Equal(t, [2]any{12, true}, said(l, "done 12"))
	assert.Equal(t, [2]any{0, false}, said(l, "begun 12"))
	povray := shipped(t, "povray")
	assert.Equal(t, [2]any{0, true}, said(povray, "  Trace Time:       0 hours  0 minutes  2 seconds (2.034 seconds)"), "the next one, whichever that is")
	for file, want := range map[string]int{"frame07.png": 7, "frame120.png": 120, "frame.png": 0, "frame07.png~": 0} {
		n, ok := povray.Several.FrameOf(file)
		assert.Equal(t, want, n, file)
		assert.Equal(t, want > 0, ok, file)
	}
	assert.True(t, povray.Opens("Rendering frame 1 of 3"))
	assert.False(t, povray.Opens("Rendering frame 2 of 3"))
}
