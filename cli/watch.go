package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) watch() *cobra.Command {
	return &cobra.Command{
		Use: "watch RUN", Short: "Watch a run until it is over", Args: cobra.ExactArgs(1),
		Long: `Shows every frame's state, the crews, speed, time left and money, live. On
something that is no terminal it prints a line for every frame that is done or
failed. Ctrl-C ends the watching, not the run. Exit status: 0 when every frame is
done, 6 when the run was cancelled or some frames failed for good.`,
		Example: "  rotanex watch latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if f, ok := cmd.OutOrStdout().(*os.File); ok && term.IsTerminal(int(f.Fd())) {
				return watchScreen(cmd, c, id, f)
			}
			return watchLines(cmd, c, id)
		}),
	}
}

func over(r api.Run) bool {
	return r.State != api.RunStateRunning && r.State != api.RunStatePaused
}

// ended is the exit status that a run which is over gives.
func ended(r api.Run) error {
	if r.State == api.RunStateComplete {
		return nil
	}
	return exit{ExitIncomplete, fmt.Sprintf("Run %s is %s: %d of %d frames failed; rotanex frames list %s --state failed shows them, rotanex resume %s tries them again", r.Id.String()[:8], r.State, r.Counts.Failed, total(r.Counts), r.Id.String()[:8], r.Id.String()[:8])}
}

func total(c api.FrameCounts) int { return c.Waiting + c.Rendering + c.Done + c.Failed }

// passing reports whether an error is one of a service that is away for a while: who watches goes on.
func passing(err error) bool {
	status := client.Status(err)
	return err != nil && (status == 0 || status >= http.StatusInternalServerError || status == http.StatusTooManyRequests)
}

// watchLines prints what happens, a line each.
func watchLines(cmd *cobra.Command, c *client.Client, id uuid.UUID) error {
	happened := follow(cmd.Context(), c, id)
	poll := time.NewTicker(2 * time.Second)
	defer poll.Stop()
	said, away := map[string]bool{}, false
	for {
		r, err := client.Decode[api.Run](c.GetRun(cmd.Context(), id))
		if passing(err) && cmd.Context().Err() == nil {
			if !away {
				fmt.Fprintf(cmd.ErrOrStderr(), "The service does not answer, and is asked again: %v\n", err)
			}
			away = true
			select {
			case <-cmd.Context().Done():
			case <-poll.C:
			}
			continue
		}
		if err != nil {
			return err
		}
		away = false
		if over(r) {
			fmt.Fprintf(cmd.OutOrStdout(), "%s: %d of %d frames, %s\n", r.State, r.Counts.Done, total(r.Counts), money(r.Currency, r.CostSoFar))
			return ended(r)
		}
		for _, x := range r.Waiting {
			line := nextStep(x)
			if !said[line] {
				fmt.Fprintln(cmd.OutOrStdout(), line)
			}
			said[line] = true
		}
		for waiting := true; waiting; {
			select {
			case <-cmd.Context().Done():
				return cmd.Context().Err()
			case <-poll.C:
				waiting = false
			case e, open := <-happened:
				if !open {
					return cmd.Context().Err()
				}
				switch {
				case e.Kind == api.EventKindFrame && e.State == "done":
					fmt.Fprintf(cmd.OutOrStdout(), "%s %s frame %d done on %s/%s in %s\n", moment(e.At), e.Shot, e.Frame, e.Host, e.Crew, seconds(e.Seconds))
				case e.Kind == api.EventKindFrame && e.Cause != "":
					fmt.Fprintf(cmd.OutOrStdout(), "%s %s frame %d failed on %s/%s: %s; now %s\n", moment(e.At), e.Shot, e.Frame, e.Host, e.Crew, e.Cause, e.State)
				case e.Kind == api.EventKindRun || e.Kind == api.EventKindServer:
					fmt.Fprintf(cmd.OutOrStdout(), "%s %s %s %s\n", moment(e.At), e.Kind, e.Host, e.State)
					waiting = e.Kind == api.EventKindServer
				}
			}
		}
	}
}

// watchScreen draws the run again whenever something happened, at most a few
// times a second.
func watchScreen(cmd *cobra.Command, c *client.Client, id uuid.UUID, out *os.File) error {
	happened := follow(cmd.Context(), c, id)
	fmt.Fprint(out, "\x1b[?1049h\x1b[?25l") // a screen of its own, no cursor
	left := func() { fmt.Fprint(out, "\x1b[?25h\x1b[?1049l") }
	for {
		r, err := client.Decode[api.Run](c.GetRun(cmd.Context(), id))
		var frames api.FrameMap
		if err == nil {
			frames, err = client.Decode[api.FrameMap](c.GetFrameMap(cmd.Context(), id))
		}
		if cmd.Context().Err() != nil {
			left()
			return nil
		}
		if passing(err) {
			fmt.Fprintf(out, "\x1b[HThe service does not answer, and is asked again: %v\x1b[K", err)
			select {
			case <-cmd.Context().Done():
			case <-time.After(2 * time.Second):
			}
			continue
		}
		if err != nil {
			left()
			return err
		}
		width, height, err := term.GetSize(int(out.Fd()))
		if err != nil {
			width, height = 100, 40
		}
		var page strings.Builder
		drawRun(&page, r, frames, width, height)
		fmt.Fprint(out, "\x1b[H"+strings.ReplaceAll(page.String(), "\n", "\x1b[K\n")+"\x1b[J")
		if over(r) {
			left()
			drawRun(out, r, frames, width, 200)
			return ended(r)
		}
		settle(cmd, happened)
	}
}

// settle waits for news, then a little longer for more of it.
func settle(cmd *cobra.Command, happened <-chan api.Event) {
	for _, wait := range []time.Duration{time.Second, 150 * time.Millisecond} {
		select {
		case <-cmd.Context().Done():
			return
		case <-happened:
		case <-time.After(wait):
		}
	}
	for {
		select {
		case <-happened:
		default:
			return
		}
	}
}

func drawRun(out io.Writer, r api.Run, frames api.FrameMap, width, height int) {
	bold := text.Colors{text.Bold}
	all := total(r.Counts)
	fmt.Fprintf(out, "%s  %s   %d of %d frames done", bold.Sprint("Run "+r.Id.String()[:8]), bold.Sprint(string(r.State)), r.Counts.Done, all)
	if r.Counts.Failed > 0 {
		fmt.Fprintf(out, ", %s", text.Colors{text.FgRed}.Sprintf("%d failed", r.Counts.Failed))
	}
	fmt.Fprintf(out, "\n%s\n", gauge(r.Counts.Done, all, width-2))
	fmt.Fprintf(out, "speed     %.0f frames an hour, plan %.0f\n", r.FramesHour, r.PlannedFramesHour)
	finish := "finish    "
	switch {
	case over(r):
		finish += "ended " + moment(r.Ended)
	case r.ExpectedFinish.IsZero():
		finish += "not known yet"
	default:
		finish += fmt.Sprintf("expected %s, %s left", moment(r.ExpectedFinish), seconds(r.LeftS))
	}
	due := "no deadline"
	if !r.Deadline.IsZero() {
		due = "deadline " + moment(r.Deadline)
	}
	fmt.Fprintf(out, "%s, planned %s, %s\n", finish, moment(r.PlannedFinish), due)
	if said := outlookText(r); said != "" && !r.Deadline.IsZero() {
		fmt.Fprintf(out, "in time   %s\n", said)
	}
	lines := 6
	if k := r.Outlook.KeptFinish; !over(r) && !k.P90.IsZero() {
		lines++
		fmt.Fprintf(out, "kept      half of earlier runs would end by %s, nine in ten by %s\n", minute(k.P50), minute(k.P90))
	}
	fmt.Fprintf(out, "money     %s so far, planned %s\n", money(r.Currency, r.CostSoFar), money(r.Currency, r.PlannedCost))
	for _, x := range r.Waiting {
		line := nextStep(x)
		fmt.Fprintln(out, text.Colors{text.FgRed, text.Bold}.Sprint("needs you ")+clip(line, width-11))
		lines++
	}
	lines += drawFrames(out, r, frames, width, height-14-min(len(r.Crews), 8))
	fmt.Fprintln(out)
	shown := min(len(r.Crews), max(3, height-lines-4))
	for _, c := range r.Crews[:shown] {
		doing := string(c.State)
		if c.State == api.RunCrewStateRendering {
			doing = fmt.Sprintf("%s %s %s %3.0f %%", c.Shot, frameInStart(c), gauge(int(c.Progress*100), 100, 12), c.Progress*100)
		}
		booked := fmt.Sprintf("%4d of %-4d", c.Done, c.Booked)
		if c.Booked == 0 {
			booked = fmt.Sprintf("%4d helping", c.Done)
		}
		fmt.Fprintf(out, "%-26s %-12s %-10s a frame  %s\n", clip(c.Host+"/"+c.Crew, 26), booked, seconds(c.MeanS), doing)
	}
	if shown < len(r.Crews) {
		fmt.Fprintf(out, "and %s\n", several(len(r.Crews)-shown, "more crew"))
	}
}

func gauge(done, all, width int) string {
	width = max(4, width)
	full := 0
	if all > 0 {
		full = width * done / all
	}
	return text.Colors{text.FgCyan}.Sprint(strings.Repeat("━", full)) + text.Colors{text.FgHiBlack}.Sprint(strings.Repeat("─", width-full))
}

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
