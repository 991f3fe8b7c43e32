package queue

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// WhyFrame answers why a frame is not being rendered: who may take it, when, and why
// the others do not, by the verdicts that leases are granted by.
func (q *Queue) WhyFrame(w http.ResponseWriter, r *http.Request, run uuid.UUID, shot string, number int) {
	f, err := q.frame(r, run, shot, number)
	out := api.FrameWhy{Run: run, Shot: shot, Frame: number, Crews: []api.CrewVerdict{}}
	if err == nil {
		out.State = api.FrameState(f.State)
		err = q.whyFrame(r.Context(), f, &out)
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (q *Queue) whyFrame(ctx context.Context, f Frame, out *api.FrameWhy) error {
	tx := q.store.WithContext(ctx)
	var state string
	if err := tx.Raw("SELECT state FROM runs WHERE id = $1", f.RunID).Row().Scan(&state); err != nil {
		return err
	}
	if out.Answer = f.settled(state); out.Answer != "" {
		return nil
	}
	kind := dispatch.Kind{FailedOn: f.FailedOn, OnlyOn: f.OnlyOn, Tried: f.Failures > 0, First: f.ID}
	if err := tx.Raw(`
		SELECT count(*) FILTER (WHERE (f.failures > 0, f.failed_on, f.only_on) = (own.failures > 0, own.failed_on, own.only_on)),
		       count(*) FILTER (WHERE f.failures > 0 AND own.failures = 0 OR (f.failures > 0) = (own.failures > 0) AND (f.repeat, f.frame) < (own.repeat, own.frame))
		FROM frames f, frames own WHERE own.id = $1 AND f.run_id = own.run_id AND f.shot = own.shot AND f.state = 'waiting'`, f.ID).Row().Scan(&kind.Waiting, &out.Ahead); err != nil {
		return err
	}
	all, err := q.crews(tx, "b.run_id = $1 AND b.shot = $2", f.RunID, f.Shot)
	if err != nil {
		return err
	}
	seats := map[runShot][]dispatch.Kind{}
	for _, c := range all {
		g := &granting{q: q, tx: tx, host: dispatch.Host{Name: c.Host}, now: q.clock.Now(), kinds: seats, looks: true, rows: map[*dispatch.Crew]*crewRow{&c.Crew: c}}
		if c.known {
			if _, err := g.lockHost(); err != nil {
				return err
			}
			if _, err := g.current(nil); err != nil {
				return err
			}
		}
		v := c.handed(&kind)
		if !c.Farm {
			if v, err = g.host.May(g, &c.Crew, &kind, g.now); err != nil {
				return err
			}
		}
		out.Crews = append(out.Crews, c.verdict(v))
	}
	var no []string
	out.Left, no = dispatch.Left(&kind, rule(all), q.clock.Now())
	sortVerdicts(out.Crews)
	out.Crews = slices.Compact(out.Crews)
	out.Answer = answer(out, no)
	return nil
}

// handed is the verdict on a farm: it is handed frames when its job begins.
func (c *crewRow) handed(k *dispatch.Kind) dispatch.Verdict {
	if !dispatch.Hands(&c.Crew, k) {
		return dispatch.Verdict{When: dispatch.Never, Reason: dispatch.FailedHere}
	}
	if c.State == dispatch.Coming {
		return dispatch.Verdict{When: dispatch.Later, Reason: dispatch.HostComing, At: c.Start}
	}
	return dispatch.Verdict{When: dispatch.Never, Reason: dispatch.HostGone, Detail: c.Said}
}

// settled says why there is nothing to ask the rule about a frame; "" if there is.
func (f Frame) settled(run string) string {
	switch {
	case f.State == Rendering:
		return fmt.Sprintf("it is being rendered on %s since %s", dispatch.Place(*f.Host, *f.Crew), f.LeasedAt.UTC().Format("Mon 15:04 MST"))
	case f.State == Done:
		return fmt.Sprintf("it is done: %s rendered it in %.1f s", dispatch.Place(*f.Host, *f.Crew), *f.Seconds)
	case f.State == Failed:
		return fmt.Sprintf("it was given up after %d failed tries, the last by %s; rotanex resume %s tries it again on every crew", f.Failures, cmp.Or(f.Cause, "an unknown cause"), f.RunID.String()[:8])
	case run == "paused":
		return fmt.Sprintf("its run is paused; rotanex resume %s lets it go on", f.RunID.String()[:8])
	case run != "running":
		return "its run is " + run
	}
	return ""
}

// answer says in a sentence what becomes of a waiting frame.
func answer(w *api.FrameWhy, no []string) string {
	if !w.Left {
		return fmt.Sprintf("nobody is left for it: %s; rotanex replan %s --apply plans what is left anew", dispatch.Few(no), w.Run.String()[:8])
	}
	ahead := ""
	if w.Ahead > 0 {
		ahead = fmt.Sprintf("; %d frames of %s come before it", w.Ahead, w.Shot)
	}
	best := w.Crews[0]
	if best.When == api.Now {
		return fmt.Sprintf("%s takes it as soon as its agent asks, within seconds%s", dispatch.Place(best.Host, best.Crew), ahead)
	}
	return fmt.Sprintf("%s %s%s", dispatch.Place(best.Host, best.Crew), best.Why, ahead)
}

func (c *crewRow) verdict(v dispatch.Verdict) api.CrewVerdict {
	out := api.CrewVerdict{Host: c.Host, Crew: c.Name, Run: c.run, Shot: c.Shot, When: api.CrewVerdictWhen(v.When.String()), Why: v.Why(), Owed: c.Owed()}
	if v.When == dispatch.Later && !v.At.IsZero() {
		out.At = v.At.UTC()
	}
	return out
}

// sortVerdicts puts first who takes a frame soonest.
func sortVerdicts(all []api.CrewVerdict) {
	order := map[api.CrewVerdictWhen]int{api.Now: 0, api.Later: 1, api.Never: 2}
	slices.SortStableFunc(all, func(a, b api.CrewVerdict) int {
		known := func(v api.CrewVerdict) int {
			if v.At.IsZero() {
				return 1
			}
			return 0
		}
		return cmp.Or(cmp.Compare(order[a.When], order[b.When]), cmp.Compare(known(a), known(b)), a.At.Compare(b.At), cmp.Compare(b.Owed, a.Owed), strings.Compare(a.Host, b.Host), strings.Compare(a.Crew, b.Crew))
	})
}

// WhyHost answers why a host does nothing, or what it does: what the rule says of each
// of its crews now.
func (q *Queue) WhyHost(w http.ResponseWriter, r *http.Request, host string) {
	out := api.HostWhy{Host: host, Crews: []api.CrewVerdict{}, Rendering: []api.HostLease{}}
	err := q.whyHost(r.Context(), &out)
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (q *Queue) whyHost(ctx context.Context, out *api.HostWhy) error {
	tx := q.store.WithContext(ctx)
	g := &granting{q: q, tx: tx, host: dispatch.Host{Name: out.Host}, now: q.clock.Now(), kinds: map[runShot][]dispatch.Kind{}, looks: true}
	draining, err := g.lockHost()
	if missing(err) {
		return httpapi.NotFound(fmt.Sprintf("there is no host %q; rotanex hosts list shows them", out.Host))
	}
	if err != nil {
		return err
	}
	held, err := g.current(nil)
	if err != nil {
		return err
	}
	for _, l := range held {
		out.Rendering = append(out.Rendering, api.HostLease{Run: l.Run, Shot: l.Shot, Frame: l.Frame, Crew: l.Crew})
	}
	if err := g.read(); err != nil {
		return err
	}
	if err := g.host.Choose(g, g.now); err != nil {
		return err
	}
	for i, c := range g.host.Crews {
		out.Crews = append(out.Crews, g.rows[c].verdict(g.host.Verdicts[i]))
	}
	sortVerdicts(out.Crews)
	paused, err := store.Column[string](tx.Raw("SELECT DISTINCT r.id::text FROM bookings b JOIN runs r ON r.id = b.run_id WHERE b.host = $1 AND b.open AND r.state = 'paused'", out.Host))
	if err != nil {
		return err
	}
	out.Answer = hostAnswer(out, &g.host, draining, paused)
	return nil
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
func hostAnswer(w *api.HostWhy, h *dispatch.Host, draining bool, paused []string) string {
	var said []string
	for _, l := range w.Rendering {
		said = append(said, fmt.Sprintf("%s renders frame %d of %s", l.Crew, l.Frame, l.Shot))
	}
	switch {
	case draining:
		said = append(said, fmt.Sprintf("it is draining and takes nothing new; rotanex hosts drain %s --undo lets it take work again", w.Host))
	case len(w.Crews) == 0 && len(paused) > 0:
		said = append(said, fmt.Sprintf("the run that booked it is paused; rotanex resume %s lets it go on", paused[0][:8]))
	case len(w.Crews) == 0 && len(w.Rendering) == 0:
		said = append(said, "no open run has booked it: rotanex plan and rotanex start give it work")
	default:
		if idle := spare(h); len(idle) > 0 {
			said = append(said, dispatch.Few(idle))
		}
	}
	return strings.Join(said, "; ")
}
