package plans

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rotanex.example/api"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
	"rotanex.example/service/httpapi"
)

// choose narrows the problem to what a person has fixed: places and sources that
// are not used, shots that stay where they are wanted, a time before which nothing
// starts, and a share of the time that is kept spare.
func (b *builder) choose(ask api.NewPlan) error {
	known := b.names()
	for i, name := range ask.Without {
		if !known[name] {
			return httpapi.BadField(fmt.Sprintf("/without/%d", i), name, b.notNamed(name, known))
		}
	}
	pinned := map[string][]string{}
	for i, pin := range ask.Pin {
		if !slices.ContainsFunc(b.shots, func(s plannedShot) bool { return s.Name == pin.Shot }) {
			return httpapi.BadField(fmt.Sprintf("/pin/%d/shot", i), pin.Shot, pin.Shot+" is not among the shots of this plan")
		}
		for k, place := range pin.Places {
			if !known[place] {
				return httpapi.BadField(fmt.Sprintf("/pin/%d/places/%d", i, k), place, b.notNamed(place, known))
			}
		}
		pinned[pin.Shot] = append(pinned[pin.Shot], pin.Places...)
	}
	sources := sourcesOf(b.problem, b.notes)
	named := func(list []string, place string) bool {
		return slices.Contains(list, place) || slices.Contains(list, sources[place])
	}
	b.problem.Timings = slices.DeleteFunc(b.problem.Timings, func(t planning.Timing) bool {
		_, place := t.Place()
		only, isPinned := pinned[t.Shot]
		return named(ask.Without, place) || isPinned && !named(only, place)
	})
	if ask.Slack < 0 || ask.Slack >= 1 {
		return httpapi.BadField("/slack", fmt.Sprint(ask.Slack), "want a share of the time from 0 to 0.9, such as 0.1")
	}
	for i := range b.problem.Shots {
		s := &b.problem.Shots[i]
		if !ask.NotBefore.IsZero() {
			s.Ready = max(s.Ready, b.millis(ask.NotBefore))
		}
		b.notes.Deadlines[s.ID] = s.Deadline
	}
	b.notes.Slack = float64(ask.Slack)
	return nil
}

// spare is the problem with the share of the time to each deadline kept spare.
func spare(p planning.Problem, share float64) planning.Problem {
	p.Shots = slices.Clone(p.Shots)
	for i := range p.Shots {
		s := &p.Shots[i]
		s.Deadline -= planning.Millis(share * float64(s.Deadline-s.Ready))
	}
	return p
}

// owned is the source of hosts that come from none that has a name.
const owned = "owned"

// notNamed says that a name is none of those that could be meant, and which these are.
func (b *builder) notNamed(name string, known map[string]bool) string {
	return fmt.Sprintf("%s is no host, offer or source that could be used here; there are %s", name, strings.Join(slices.Sorted(maps.Keys(known)), ", "))
}

func (b *builder) names() map[string]bool {
	out := map[string]bool{}
	for place, source := range sourcesOf(b.problem, b.notes) {
		out[place], out[source] = true, true
	}
	for _, x := range b.notes.LeftOut {
		out[x.Place] = true
		if source := b.notes.Sources[x.Place]; source != "" {
			out[source] = true
		}
	}
	return out
}

// assume changes the problem by what is supposed for this plan only.
func (b *builder) assume(all []api.Assumption) error {
	for i, a := range all {
		text, err := b.applyAssumption(a)
		if err != nil {
			return httpapi.BadField(fmt.Sprintf("/assume/%d", i), a.Name, a.Name+" "+err.Error())
		}
		b.notes.Assumes = append(b.notes.Assumes, text)
	}
	return nil
}

func (b *builder) applyAssumption(a api.Assumption) (string, error) {
	p := &b.problem
	host := slices.IndexFunc(p.Hosts, func(h planning.Host) bool { return h.ID == a.Name })
	offer := slices.IndexFunc(p.Offers, func(o planning.Offer) bool { return o.ID == a.Name })
	shot := slices.IndexFunc(p.Shots, func(s planning.Shot) bool { return s.ID == a.Name })
	copied := func(kind func(*planning.Timing) *string) {
		for _, t := range slices.Clone(p.Timings) {
			if at := kind(&t); *at == a.Like {
				*at = a.Name
				p.Timings = append(p.Timings, t)
				_, place := t.Place()
				b.notes.Basis[basisKey(t.Shot, place, t.Crew)] = b.notes.Basis[basisKey(t.Shot, a.Like, t.Crew)]
			}
		}
	}
	var price pricing.Money
	if a.Price != "" {
		var err error
		if price, err = pricing.ParseMoney(a.Price); err != nil {
			return "", err
		}
	}
	switch a.What {
	case api.AssumptionWhatHost:
		like := slices.IndexFunc(p.Hosts, func(h planning.Host) bool { return h.ID == a.Like })
		if host >= 0 || like < 0 {
			return "", fmt.Errorf("wants a new name, and `like` a host that can render one of the shots; %q is not", a.Like)
		}
		h := p.Hosts[like]
		h.ID = a.Name
		p.Hosts = append(p.Hosts, h)
		copied(func(t *planning.Timing) *string { return &t.Host })
		return fmt.Sprintf("a host %s like %s", a.Name, a.Like), nil
	case api.AssumptionWhatOffer:
		like := slices.IndexFunc(p.Offers, func(o planning.Offer) bool { return o.ID == a.Like })
		if offer >= 0 || like < 0 {
			return "", fmt.Errorf("wants a new name, and `like` an offer that can render one of the shots; %q is not", a.Like)
		}
		o := p.Offers[like]
		o.ID = a.Name
		if a.Price != "" {
			o.Price = price
		}
		if a.Count > 0 {
			o.MaxServers = a.Count
		}
		p.Offers = append(p.Offers, o)
		copied(func(t *planning.Timing) *string { return &t.Offer })
		return fmt.Sprintf("an offer %s like %s at %s %s an hour", a.Name, a.Like, p.Currency, o.Price), nil
	case api.AssumptionWhatPrice:
		switch {
		case a.Price == "":
			return "", fmt.Errorf("wants a `price` an hour")
		case offer >= 0:
			p.Offers[offer].Price = price
		case host >= 0:
			p.Hosts[host].Crews = slices.Clone(p.Hosts[host].Crews)
			for k := range p.Hosts[host].Crews {
				p.Hosts[host].Crews[k].BusyPrice = price
			}
		default:
			return "", fmt.Errorf("is no offer or host that can render one of the shots")
		}
		return fmt.Sprintf("%s costs %s %s an hour", a.Name, p.Currency, price), nil
	case api.AssumptionWhatServers:
		if offer < 0 {
			return "", fmt.Errorf("is no offer that can render one of the shots")
		}
		p.Offers[offer].MaxServers = a.Count
		return fmt.Sprintf("up to %d servers of %s", a.Count, a.Name), nil
	case api.AssumptionWhatTime:
		if shot < 0 || a.Factor <= 0 {
			return "", fmt.Errorf("wants the name of a shot of this plan, and a `factor` above 0")
		}
		for k := range p.Timings {
			if t := &p.Timings[k]; t.Shot == a.Name {
				t.Frame = max(1, planning.Millis(float64(t.Frame)*float64(a.Factor)))
			}
		}
		return fmt.Sprintf("a frame of %s takes %.3g times as long", a.Name, a.Factor), nil
	case api.AssumptionWhatDeadline:
		if shot < 0 || !a.At.After(b.now) {
			return "", fmt.Errorf("wants the name of a shot of this plan, and `at` a time to come")
		}
		p.Shots[shot].Deadline = b.millis(a.At)
		return fmt.Sprintf("%s is due %s", a.Name, a.At.In(b.zone).Format("Mon 2 Jan 15:04")), nil
	case api.AssumptionWhatHours:
		if host < 0 {
			return "", fmt.Errorf("is no host that can render one of the shots")
		}
		p.Hosts[host].Windows = [][2]planning.Millis{{0, b.millis(b.last.Add(horizon))}}
		return fmt.Sprintf("%s is free all the time", a.Name), nil
	}
	return "", fmt.Errorf("%q is none of %s", a.What, strings.Join([]string{"host", "offer", "price", "servers", "time", "deadline", "hours"}, ", "))
}
