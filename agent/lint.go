package agent

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"

	"rotanex.example/launchers"
)

// LauncherFinding is what is wrong with a launcher ("error"), or what it leaves to be wished for ("advice").
type LauncherFinding struct{ Level, Text string }

// Lint looks at a launcher that parses: whether it can be used on this host, and what it could tell and does not.
func Lint(ctx context.Context, l launchers.Launcher) ([]LauncherFinding, error) {
	a := &Agent{}
	if err := a.find(); err != nil {
		return nil, err
	}
	told, err := os.MkdirTemp("", "rotanex-lint-*")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(told) }()
	if err := a.describe(told); err != nil {
		return nil, err
	}
	return a.lint(ctx, l), nil
}

// lint is Lint, on a host that is described.
func (a *Agent) lint(ctx context.Context, l launchers.Launcher) (out []LauncherFinding) {
	say := func(is bool, level, text string, args ...any) {
		if is {
			out = append(out, LauncherFinding{level, fmt.Sprintf(text, args...)})
		}
	}
	has := func(holes ...string) bool {
		return slices.ContainsFunc(l.Args, func(a string) bool {
			return slices.ContainsFunc(holes, func(h string) bool { return strings.Contains(a, h) })
		})
	}
	_, err := exec.LookPath(l.Program)
	say(err != nil, "error", "program: %s is not on the agent's path", l.Program)
	say(!has("{scene}"), "error", "args: nothing names the scene; want {scene}")
	stays := l.StaysOpen != nil // and is told of both
	say(!stays && !has("{output}", "{folder}"), "error", "args: nothing says where the picture goes; want {output}, or {folder} and picture")
	say(has("{folder}") && !has("{output}") && l.Picture == "", "error", "picture: of a renderer that is told {folder} alone, say where below it the picture is, such as beauty/{frame:4}.exr")
	say(!stays && !has("{frame}", "{first}", "{frames}"), "error", "args: nothing names the frame; want {frame}, or {first} and {last}, or {frames}")
	say(l.Output == "" && l.Picture == "", "error", "output: say the ending of the file that it writes, such as png")
	if err == nil && len(l.About.Args) > 0 {
		r := a.renderer(ctx, l)
		say(r.Trouble != "", "error", "about: %s", r.Trouble)
		say(r.Trouble == "" && r.Version == "", "advice", "about: its pattern version matches nothing that %s says", l.Program)
	}
	say(len(l.About.Args) == 0, "advice", "about: it is not asked for its version, so shots that want one cannot be kept from it")
	say(l.Progress == "" && !stays, "advice", "progress: without it nobody sees how far a frame is")
	say(len(l.Stages) == 0 && !stays, "advice", "stages: without them it is not known what of a frame more devices make shorter")
	say(!l.Together(), "advice", "several: without it, or stays_open, each frame opens the scene anew")
	say(l.Several != nil && l.Opened == "", "advice", "opened: without it nobody knows what opening the scene takes, and each start renders one frame")
	say(l.Several != nil && !l.Several.Says(), "advice", "several: without finished a frame is handed in when the next one's file is there")
	say(!stays && !slices.ContainsFunc(l.Causes, func(c launchers.CauseRule) bool { return c.Cause == "out-of-memory" }), "advice",
		"causes: out-of-memory is not told from a crash, and is answered like one")
	return out
}
