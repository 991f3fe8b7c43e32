package questions

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Reason is a sentence on why a plan uses a place as it does, or does not.
type Reason struct {
	Place string `json:"place"` // host, offer or farm
	Shot  string `json:"shot,omitempty"`
	Used  bool   `json:"used"`
	Text  string `json:"text"`
}

// Reasons says, for each place that a plan uses and each that it does not, why.
func Reasons(p planning.Problem, plan planning.Plan) []Reason {
	if plan.Status == planning.Impossible {
		return nil
	}
	r := newReasoner(p, plan)
	var out []Reason
	for _, x := range r.uses {
		out = append(out, Reason{x.place, x.shot, true, r.why(x)})
	}
	for _, h := range p.Hosts {
		out = append(out, r.unused("host", h.ID)...)
	}
	for _, o := range p.Offers {
		out = append(out, r.unused("offer", o.ID)...)
	}
	for _, f := range p.Farms {
		out = append(out, r.unused("farm", f.ID)...)
	}
	return out
}

// placeUse is all of a shot that one place renders.
type placeUse struct {
	kind, place, shot string
	frames, machines  int
	cost              float64 // of these frames: a server's bill shared by busy time
	end               planning.Millis
}

func (u placeUse) perFrame() float64 { return u.cost / float64(u.frames) }

type reasoner struct {
	p      planning.Problem
	plan   planning.Plan
	uses   []*placeUse
	best   map[[3]string]planning.Timing // shot, kind, place: the fastest crew
	servOf map[string]string             // offer of a server
	empty  *planning.Emptied             // made when first needed
}

func newReasoner(p planning.Problem, plan planning.Plan) *reasoner {
	r := &reasoner{p: p, plan: plan, best: map[[3]string]planning.Timing{}, servOf: map[string]string{}}
	for _, t := range p.Timings {
		kind, id := t.Place()
		key := [3]string{t.Shot, kind, id}
		if old, ok := r.best[key]; !ok || t.Frame < old.Frame {
			r.best[key] = t
		}
	}
	costs := planning.Price(p, plan)
	busy, bill := map[string]planning.Millis{}, map[string]float64{}
	for i, v := range plan.Servers {
		r.servOf[v.ID] = v.Offer
		bill[v.ID] = costs.Servers[i].Float()
	}
	for _, b := range plan.Bookings {
		busy[b.Server] += b.End - b.Start
	}
	charged := map[string]float64{}
	for i, b := range plan.Bookings {
		if b.Farm != "" {
			charged[b.Farm] += costs.Bookings[i].Float()
		}
	}
	machines := map[[3]string]map[string]bool{}
	for i, b := range plan.Bookings {
		kind, place := "host", b.Host
		cost := costs.Bookings[i].Float()
		switch {
		case b.Server != "":
			kind, place = "offer", r.servOf[b.Server]
			cost = bill[b.Server] * float64(b.End-b.Start) / float64(busy[b.Server])
		case b.Farm != "":
			kind, place = "farm", b.Farm
			if charged[b.Farm] > 0 {
				cost *= costs.Farms[b.Farm].Float() / charged[b.Farm]
			}
		}
		key := [3]string{b.Shot, kind, place}
		at := slices.IndexFunc(r.uses, func(u *placeUse) bool { return u.shot == b.Shot && u.kind == kind && u.place == place })
		if at < 0 {
			at = len(r.uses)
			r.uses = append(r.uses, &placeUse{kind: kind, place: place, shot: b.Shot})
			machines[key] = map[string]bool{}
		}
		u := r.uses[at]
		u.frames += b.Frames
		u.cost += cost
		u.end = max(u.end, b.End)
		machines[key][b.Where()] = true
		u.machines = len(machines[key])
	}
	return r
}

func (r *reasoner) money(v float64) string {
	return fmt.Sprintf("%s %s", r.p.Currency, pricing.MustMoney(fmt.Sprintf("%.6f", v)))
}

func (r *reasoner) perFrame(v float64) string { return fmt.Sprintf("%s %.4f", r.p.Currency, v) }

// lasting writes a length of time as people say it.
func lasting(m planning.Millis) string {
	switch s := m / 1000; {
	case s >= 3600 && s%3600 == 0:
		return fmt.Sprintf("%d h", s/3600)
	case s >= 60 && s%60 == 0:
		return fmt.Sprintf("%d min", s/60)
	case s >= 3600:
		return fmt.Sprintf("%d h %d min", s/3600, s%3600/60)
	case s >= 60:
		return fmt.Sprintf("%d min %d s", s/60, s%60)
	default:
		return fmt.Sprintf("%d s", s)
	}
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// why says what a use costs and what the same frames would cost at the next place.
func (r *reasoner) why(u *placeUse) string {
	text := fmt.Sprintf("%s at %s a frame, %s in all", counted(u.frames, "frame"), r.perFrame(u.perFrame()), r.money(u.cost))
	if u.kind == "offer" && u.machines > 0 {
		text += fmt.Sprintf(" on %s", counted(u.machines, "server"))
	}
	// The next place is the cheapest other that could have taken all of them.
	next, cost := "", 0.0
	for _, kind := range []string{"host", "offer", "farm"} {
		for _, id := range r.ids(kind) {
			if kind == u.kind && id == u.place {
				continue
			}
			if c, ok := r.alternative(kind, id, u.shot, u.frames); ok && (next == "" || c < cost) {
				next, cost = id, c
			}
		}
	}
	switch {
	case next == "":
		text += "; no other place could take them all in time"
	case cost >= u.cost:
		text += fmt.Sprintf("; the next cheapest by itself, %s, would take %s", next, r.money(cost))
	default:
		text += fmt.Sprintf("; %s would take %s by itself, but its time goes where it saves more", next, r.money(cost))
	}
	return text
}

func (r *reasoner) ids(kind string) (out []string) {
	switch kind {
	case "host":
		for _, h := range r.p.Hosts {
			out = append(out, h.ID)
		}
	case "offer":
		for _, o := range r.p.Offers {
			out = append(out, o.ID)
		}
	default:
		for _, f := range r.p.Farms {
			out = append(out, f.ID)
		}
	}
	return out
}

// alternative is what it would cost to render so many frames of a shot at a place,
// were it empty; false where they do not fit before the deadline.
func (r *reasoner) alternative(kind, id, shot string, frames int) (float64, bool) {
	if _, ok := r.best[[3]string{shot, kind, id}]; !ok {
		return 0, false
	}
	if r.empty == nil {
		r.empty = planning.Empty(r.p, r.deadlines())
	}
	return r.empty.Cost(kind, id, shot, frames)
}

func (r *reasoner) deadlines() []planning.Millis {
	out := make([]planning.Millis, len(r.p.Shots))
	for i, s := range r.p.Shots {
		out[i] = s.Deadline
	}
	if r.plan.Status == planning.Late {
		for i := range out {
			out[i] += max(0, r.plan.Lateness(r.p))
		}
	}
	return out
}

// unused says why a place is not used at all; nothing if it is.
func (r *reasoner) unused(kind, id string) []Reason {
	if slices.ContainsFunc(r.uses, func(u *placeUse) bool { return u.kind == kind && u.place == id }) {
		return nil
	}
	// It is weighed against the dearest frames that it could have taken.
	dearest := slices.Clone(r.uses)
	slices.SortStableFunc(dearest, func(a, b *placeUse) int { return cmp.Compare(b.perFrame(), a.perFrame()) })
	why := "none of the shots may be rendered there"
	for _, u := range dearest {
		if _, ok := r.best[[3]string{u.shot, kind, id}]; !ok {
			continue
		}
		cost, fits := r.alternative(kind, id, u.shot, u.frames)
		n := u.frames
		for !fits && n > 1 {
			n = n / 2
			cost, fits = r.alternative(kind, id, u.shot, n)
		}
		switch {
		case !fits:
			why = fmt.Sprintf("not a frame of %s is done there by its deadline", u.shot)
			continue
		case cost > u.perFrame()*float64(n):
			why = fmt.Sprintf("%s of %s would cost %s there%s; %s does them for %s", counted(n, "frame"), u.shot, r.money(cost), r.terms(kind, id), u.place, r.money(u.perFrame()*float64(n)))
		default:
			why = fmt.Sprintf("%s of %s would cost %s there against %s on %s, by themselves; with the rest of the plan as it is that saves nothing", counted(n, "frame"), u.shot, r.money(cost), r.money(u.perFrame()*float64(n)), u.place)
		}
		return []Reason{{id, u.shot, false, why}}
	}
	return []Reason{{Place: id, Text: why}}
}

// terms names what makes a place dear for a little work.
func (r *reasoner) terms(kind, id string) string {
	var parts []string
	switch kind {
	case "offer":
		for _, o := range r.p.Offers {
			if o.ID != id {
				continue
			}
			if o.Minimum > 0 {
				parts = append(parts, fmt.Sprintf("at least %s is paid", lasting(o.Minimum)))
			}
			if o.Increment != nil && *o.Increment >= 60_000 {
				parts = append(parts, fmt.Sprintf("by the started %s", lasting(*o.Increment)))
			}
			if o.Lead > 0 {
				parts = append(parts, fmt.Sprintf("%s until it renders", lasting(o.Lead)))
			}
		}
	case "farm":
		for _, f := range r.p.Farms {
			if f.ID == id && !f.MinimumCharge.IsZero() {
				parts = append(parts, fmt.Sprintf("minimum charge %s %s", r.p.Currency, f.MinimumCharge))
			}
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return " (" + strings.Join(parts, ", ") + ")"
}
