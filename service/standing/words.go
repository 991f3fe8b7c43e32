package standing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"rotanex.example/core/dispatch"
	"rotanex.example/service/queue"
	"rotanex.example/service/states"
	"rotanex.example/service/turn"
)

// settled says why there is nothing to ask the rule about a frame; "" if there is.
func settled(f queue.Frame, run states.Run) string {
	switch {
	case f.State == queue.Rendering && !f.Begun:
		return fmt.Sprintf("the renderer on %s was started for it and frames before it, and is expected to come to it at %s", dispatch.Place(*f.Host, *f.Crew), f.LeasedAt.UTC().Format("Mon 15:04 MST"))
	case f.State == queue.Rendering:
		return fmt.Sprintf("it is being rendered on %s since %s", dispatch.Place(*f.Host, *f.Crew), f.LeasedAt.UTC().Format("Mon 15:04 MST"))
	case f.State == queue.Done:
		return fmt.Sprintf("it is done: %s rendered it in %.1f s", dispatch.Place(*f.Host, *f.Crew), *f.Seconds)
	case f.State == queue.Failed:
		return fmt.Sprintf("it was given up after %d failed tries, the last by %s; rotanex resume %s tries it again on every crew", f.Failures, cmp.Or(f.Cause, "an unknown cause"), f.RunID.String()[:8])
	case run == states.RunPaused:
		return fmt.Sprintf("its run is paused; rotanex resume %s lets it go on", f.RunID.String()[:8])
	case run != states.RunRunning:
		return "its run is " + string(run)
	}
	return ""
}

// needing says in a sentence for what a blocked frame waits.
func needing(f queue.Frame, missing []needed) string {
	said := make([]string, len(missing))
	for i, n := range missing {
		said[i] = fmt.Sprintf("%s (%s)", n.Shot, told(n.State))
	}
	return fmt.Sprintf("it needs frame %d of %s, and waits for a crew once that is done", f.Frame, strings.Join(said, " and of "))
}

// answer says in a sentence what becomes of a waiting frame.
func answer(f queue.Frame, w *FrameWhy, no []string) string {
	if !w.Left {
		return fmt.Sprintf("nobody is left for it: %s; rotanex replan %s --apply plans what is left anew", dispatch.Few(no), f.RunID.String()[:8])
	}
	ahead := ""
	if w.Ahead > 0 {
		ahead = fmt.Sprintf("; %d frames of %s come before it", w.Ahead, f.Shot)
	}
	best := w.Crews[0]
	if best.When == dispatch.Now {
		return fmt.Sprintf("%s takes it as soon as its agent asks, within seconds%s", dispatch.Place(best.Host, best.Crew), ahead)
	}
	return fmt.Sprintf("%s %s%s", dispatch.Place(best.Host, best.Crew), best.Why(), ahead)
}

// spare says what becomes of the devices that render nothing: who takes a frame, and why
// the others do not. Crews of whose devices the same was said already are left out.
func spare(h *dispatch.Host) (out []string) {
	at := make([]int, len(h.Crews))
	for i := range at {
		at[i] = i
	}
	slices.SortStableFunc(at, func(a, b int) int { return cmp.Compare(len(h.Crews[a].Devices), len(h.Crews[b].Devices)) })
	said := map[string][]string{} // crews, by what is said of them
	told := map[string]bool{}     // devices, with the reason
	var order, finished []string
	for _, i := range at {
		c, v := h.Crews[i], h.Verdicts[i]
		if v.Reason == dispatch.DevicesBusy {
			continue // something else is rendered with them
		}
		if v.Reason == dispatch.NothingWaits {
			finished = append(finished, c.Shot)
			continue
		}
		text := v.Why()
		if v.When == dispatch.Now {
			text = fmt.Sprintf("takes a frame of %s as soon as its agent asks, within seconds", c.Shot)
		}
		isNew := false
		for _, d := range c.Devices {
			key := fmt.Sprint(d, v.Reason)
			isNew, told[key] = isNew || !told[key], true
		}
		if !isNew {
			continue
		}
		if said[text] == nil {
			order = append(order, text)
		}
		said[text] = append(said[text], c.Name)
	}
	for _, text := range order {
		out = append(out, strings.Join(said[text], ", ")+" "+text)
	}
	if len(finished) > 0 {
		slices.Sort(finished)
		out = append(out, "no frame of "+strings.Join(slices.Compact(finished), ", ")+" waits")
	}
	return out
}

// hostAnswer says in a sentence what a host does and why it does no more.
func hostAnswer(look *turn.HostLook, paused []string) string {
	var said []string
	for _, l := range look.Rendering {
		said = append(said, fmt.Sprintf("%s renders frame %d of %s", l.Crew, l.Frame, l.Shot))
	}
	switch {
	case look.Aside == "draining":
		said = append(said, fmt.Sprintf("it is draining and takes nothing new; rotanex hosts drain %s --undo lets it take work again", look.Rule.Name))
	case look.Aside != "":
		said = append(said, "it has set itself aside, and takes work again by itself: "+look.Aside)
	case look.Kept != "":
		said = append(said, "it is a desk that is not lent now: "+look.Kept)
	case len(look.Crews) == 0 && len(paused) > 0:
		said = append(said, fmt.Sprintf("the run that booked it is paused; rotanex resume %s lets it go on", paused[0][:8]))
	case len(look.Crews) == 0 && len(look.Rendering) == 0:
		said = append(said, "no open run has booked it: rotanex plan and rotanex start give it work")
	default:
		if idle := spare(&look.Rule); len(idle) > 0 {
			said = append(said, dispatch.Few(idle))
		}
	}
	return strings.Join(said, "; ")
}
