package launchers

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Several is how one start of a renderer renders several frames: it opens the scene once.
// Its arguments name the frames as {first} and {last}, with {step} where it can leave some
// out, or as {frames}, a list with commas.
type Several struct {
	// Files is a pattern of the names of the files that it writes beside {output}, with a
	// group named frame. One that renders a single frame may write {output} itself. Not needed where
	// the launcher says where its pictures are.
	Files string `yaml:"files"`
	// Finished is a pattern of what it says once a frame's file is written, with a group named
	// frame, or without one where it says so of its frames in their order. Without a pattern a
	// frame counts as finished once the next one's file is there, or the renderer ended well.
	Finished string `yaml:"finished"`

	files, finished  *regexp.Regexp
	listed, stepping bool
}

func (s *Several) check(args []string, picture string) (faults []error) {
	has := func(hole string) bool {
		return slices.ContainsFunc(args, func(a string) bool { return strings.Contains(a, hole) })
	}
	s.listed, s.stepping = has("{frames}"), has("{step}")
	if !s.listed && !(has("{first}") && has("{last}")) {
		faults = append(faults, fmt.Errorf("several: the arguments name no several frames: want {first} and {last}, or {frames}"))
	}
	if has("{frame}") {
		faults = append(faults, fmt.Errorf("several: {frame} in the arguments is one frame: want {first} and {last}, or {frames}"))
	}
	if (s.Files == "") == (picture == "") {
		faults = append(faults, fmt.Errorf(`several: files or picture is needed, which say where a frame is, such as '^frame0*(?P<frame>\d+)\.png$'; not both`))
	}
	return faults
}

// Input is the name of a file of a pass's frame in the folder of inputs: beauty.0012.png its picture, beauty.depth.0012.exr its file depth.
func Input(pass, file string, frame int, ending string) string {
	if file != "" {
		pass += "." + file
	}
	return fmt.Sprintf("%s.%04d.%s", pass, frame, strings.Replace(ending, "jpeg", "jpg", 1))
}

// numbers are the values of the placeholders that name frames.
func numbers(frames []int) map[string]string {
	first, last, step := frames[0], frames[len(frames)-1], 1
	if len(frames) > 1 {
		step = frames[1] - first
	}
	list := make([]string, len(frames))
	for i, f := range frames {
		list[i] = strconv.Itoa(f)
	}
	return map[string]string{
		"frame": list[0], "first": list[0], "last": strconv.Itoa(last), "step": strconv.Itoa(step), "frames": strings.Join(list, ","),
	}
}

// Takes is how many of some frames, in order, one start may render, from the first on.
func (l Launcher) Takes(frames []int) int {
	switch {
	case l.StaysOpen != nil: // any, but each once: they are written to files of their names
		n := 0
		for n < len(frames) && !slices.Contains(frames[:n], frames[n]) {
			n++
		}
		return n
	case len(frames) < 2 || l.Several == nil:
		return min(1, len(frames))
	}
	step := frames[1] - frames[0]
	if step > 1 && !l.Several.stepping && !l.Several.listed {
		return 1
	}
	n := 1
	for n < len(frames) && frames[n] > frames[n-1] && (l.Several.listed || frames[n]-frames[n-1] == step) {
		n++
	}
	return n
}

// FrameOf returns the frame whose file has a name.
func (s *Several) FrameOf(name string) (frame int, ok bool) {
	n, err := strconv.Atoi(match(s.files, "frame", name))
	return n, err == nil
}

// Finish reads from a line which frame the renderer has finished: 0 with ok set for the next
// one in order.
func (s *Several) Finish(line string) (frame int, ok bool) {
	if s.finished == nil || !s.finished.MatchString(line) {
		return 0, false
	}
	if s.finished.SubexpIndex("frame") < 0 {
		return 0, true
	}
	n, err := strconv.Atoi(match(s.finished, "frame", line))
	return n, err == nil
}

// Says reports whether the renderer says when a frame is finished.
func (s *Several) Says() bool { return s.finished != nil }

// Opens reports whether a line says that the scene is open.
func (l Launcher) Opens(line string) bool { return l.opened != nil && l.opened.MatchString(line) }
