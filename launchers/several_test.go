package launchers_test

import (
	"testing"

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
