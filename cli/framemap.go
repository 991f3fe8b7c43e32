package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"rotanex.example/api"
	"rotanex.example/core/frames"
)

// shotFrames are a shot's frames, a letter for the state of each: w, r, d or f.
type shotFrames struct {
	numbers frames.Set
	states  []byte
}

// mapOf reads a map of a run's frames, by shot. What is no map is left out.
func mapOf(m api.FrameMap) map[string]shotFrames {
	out := map[string]shotFrames{}
	for _, x := range m.Shots {
		numbers, err := frames.Parse(x.Frames)
		if err != nil {
			continue
		}
		f := shotFrames{numbers: numbers}
		n := 0
		for _, c := range []byte(x.States) {
			if c >= '0' && c <= '9' {
				n = min(10*n+int(c-'0'), numbers.Len())
				continue
			}
			for ; n > 0 && len(f.states) < numbers.Len(); n-- {
				f.states = append(f.states, c)
			}
		}
		if len(f.states) == numbers.Len() {
			out[x.Shot] = f
		}
	}
	return out
}

// partly is the letter of several frames some of which are done.
const partly = 'p'

// of several frames that share a place on the screen, what matters most: one that failed, one that is rendered, else how far they are.
func most(states []byte) byte {
	done := 0
	worst := byte(0)
	for _, s := range states {
		switch s {
		case 'f':
			return 'f'
		case 'r':
			worst = 'r'
		case 'd':
			done++
		}
	}
	switch {
	case worst != 0:
		return worst
	case done == len(states):
		return 'd'
	case done > 0:
		return partly
	}
	return 'w'
}

// mark is how a frame is drawn: a sign as well as a colour, for eyes that tell
// colours badly and terminals that have none.
func mark(state byte) string {
	switch state {
	case 'r':
		return text.Colors{text.FgYellow}.Sprint("▸")
	case 'd':
		return text.Colors{text.FgCyan}.Sprint("■")
	case partly:
		return text.Colors{text.FgCyan}.Sprint("▫")
	case 'f':
		return text.Colors{text.FgRed, text.Bold}.Sprint("✕")
	}
	return text.Colors{text.FgHiBlack}.Sprint("·")
}

// grouped draws some frames in so many places.
func grouped(states []byte, places int) string {
	var out strings.Builder
	for i := range min(places, len(states)) {
		n := min(places, len(states))
		out.WriteString(mark(most(states[i*len(states)/n : (i+1)*len(states)/n])))
	}
	return out.String()
}

// gridsUpTo is of how many shots each has a grid of its own; of more each has a line.
const gridsUpTo = 8

// drawFrames draws how the frames of all shots are, on about so many lines, and returns how many it took.
func drawFrames(out io.Writer, r api.Run, m api.FrameMap, width, room int) int {
	all := mapOf(m)
	lines := 0
	if each := room/max(1, len(r.Shots)) - 2; each >= 2 && len(r.Shots) <= gridsUpTo {
		before := ""
		for _, s := range r.Shots {
			after := ""
			if s.PassOf != "" && s.PassOf != before {
				done, of := whole(r.Shots, all, s.PassOf)
				after = fmt.Sprintf("  (%s: %d of %d in all passes)", s.PassOf, done, of)
			}
			before = s.PassOf
			fmt.Fprintf(out, "\n%s  %d×%d, %d of %d%s\n", text.Colors{text.Bold}.Sprint(s.Shot), s.Width, s.Height, s.Counts.Done, total(s.Counts), after)
			lines += 2 + drawGrid(out, all[s.Shot], width, each)
		}
	} else {
		lines = drawRows(out, r.Shots, all, width, room)
	}
	fmt.Fprintf(out, "%s waiting  %s rendering  %s done  %s some done  %s failed\n", mark('w'), mark('r'), mark('d'), mark(partly), mark('f'))
	return lines + 1 + drawCauses(out, "failed", m.Failed, width) + drawCauses(out, "look at", m.Marked, width)
}

// whole is of how many frames of a shot all passes are done, and how many frames it has.
func whole(shots []api.RunShot, all map[string]shotFrames, of string) (done, frames int) {
	var passes []shotFrames
	for _, s := range shots {
		if s.PassOf == of {
			passes = append(passes, all[s.Shot])
		}
	}
	for _, p := range passes {
		frames = max(frames, len(p.states))
	}
	for i := range frames {
		if !slices.ContainsFunc(passes, func(p shotFrames) bool { return i >= len(p.states) || p.states[i] != 'd' }) {
			done++
		}
	}
	return done, frames
}

// drawRows draws a line for each shot, those first that lag most.
func drawRows(out io.Writer, shots []api.RunShot, all map[string]shotFrames, width, room int) int {
	share := func(s api.RunShot) float64 { return float64(s.Counts.Done) / float64(max(1, total(s.Counts))) }
	shots = slices.SortedStableFunc(slices.Values(shots), func(a, b api.RunShot) int { return cmp.Compare(share(a), share(b)) })
	shown := min(len(shots), max(3, room-2))
	fmt.Fprintln(out)
	for _, s := range shots[:shown] {
		fmt.Fprintf(out, "%-20s %6d of %-6d %s\n", clip(s.Shot, 20), s.Counts.Done, total(s.Counts), grouped(all[s.Shot].states, max(10, width-38)))
	}
	if left := len(shots) - shown; left > 0 {
		fmt.Fprintf(out, "and %s, further on\n", several(left, "more shot"))
		shown++
	}
	return shown + 1
}

// drawGrid draws the frames of a shot on at most so many lines, each with the number of its first frame.
func drawGrid(out io.Writer, f shotFrames, width, room int) int {
	columns := max(10, min(96, width-9))
	every := max(1, (len(f.states)+columns*room-1)/(columns*room))
	lines := 0
	for i := 0; i < len(f.states); i += columns * every {
		row := f.states[i:min(len(f.states), i+columns*every)]
		fmt.Fprintf(out, "%7d %s\n", f.numbers.At(i), grouped(row, (len(row)+every-1)/every))
		lines++
	}
	return lines
}

// causesShown is how many causes of failures a screen has room for.
const causesShown = 5

// causes are what causes are whose names do not say it.
var causes = map[string]string{
	"not-finite": "values that are no number or infinite", "input-failed": "a pass that they need was given up",
	"flicker-brighter": "brighter than the frames around", "flicker-darker": "darker than the frames around",
	"flicker-colour": "of another colour than the frames around", "flicker-part": "a part is other than before and behind",
}

// causeInWords says what a cause is where its name does not.
func causeInWords(cause string) string { return cmp.Or(causes[cause], cause) }

// drawCauses lists what failed for good, or is to be looked at, by cause, the most first.
func drawCauses(out io.Writer, what string, failed []api.FailedFrames, width int) int {
	type cause struct {
		why    string
		count  int
		shots  []string
		frames string
	}
	var all []cause
	for _, x := range failed {
		at := slices.IndexFunc(all, func(c cause) bool { return c.why == x.Cause })
		if at < 0 {
			at = len(all)
			all = append(all, cause{why: x.Cause, frames: x.Frames})
		}
		all[at].count, all[at].shots = all[at].count+x.Count, append(all[at].shots, x.Shot)
	}
	slices.SortStableFunc(all, func(a, b cause) int { return cmp.Compare(b.count, a.count) })
	for i, c := range all {
		if i == causesShown {
			fmt.Fprintf(out, "%-9s for %s too: rotanex frames list RUN --state failed\n", what, several(len(all)-i, "other cause"))
			return i + 1
		}
		where := c.shots[0] + ", " + c.frames
		if len(c.shots) > 1 {
			where = several(len(c.shots), "shot") + ": " + strings.Join(c.shots, ", ")
		}
		fmt.Fprintln(out, text.Colors{text.FgRed, text.Bold}.Sprintf("%-10s", what)+clip(fmt.Sprintf("%s: %s of %s", causeInWords(c.why), several(c.count, "frame"), where), width-11))
	}
	return len(all)
}
