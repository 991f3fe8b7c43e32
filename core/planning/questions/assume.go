package questions

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Assumption is one thing that is supposed of a problem, to see what the plan would be
// then: "what if we had a second one of these". Which fields it needs goes by What.
type Assumption struct {
	What string // one of Assumptions
	Name string // the host, offer or shot that it is about; a new name for AssumeHost and AssumeOffer
	Like string // AssumeHost, AssumeOffer: the one that it is like
	// Price is an hour's, of AssumePrice, and of AssumeOffer if it is not that of Like.
	Price *pricing.Money
	Count int // servers at once: of AssumeServers, and of AssumeOffer if it is not that of Like
	// Factor is how many times as long a frame takes, of AssumeTime.
	Factor float64
	At     time.Time // AssumeDeadline; it is written in its own zone
}

// What can be assumed.
const (
	AssumeHost     = "host"     // one more host like another
	AssumeOffer    = "offer"    // one more offer like another
	AssumePrice    = "price"    // another price an hour of an offer, or of a host's busy crews
	AssumeServers  = "servers"  // so many servers of an offer at once
	AssumeTime     = "time"     // a shot's frames take so many times as long everywhere
	AssumeDeadline = "deadline" // a shot is due at another time
	AssumeHours    = "hours"    // a host is free all the time
)

// Assumptions are all that can be assumed.
var Assumptions = []string{AssumeHost, AssumeOffer, AssumePrice, AssumeServers, AssumeTime, AssumeDeadline, AssumeHours}

// beyond is how long past the last deadline a host that is assumed to be free stays so.
const beyond = planning.Millis(14 * 24 * time.Hour / time.Millisecond)

// Assume returns the problem as it would be, and the assumption in words. What the
// problem shares with the one given is not changed. The error says what is wrong, to be
// read after the assumption's name.
func Assume(p planning.Problem, a Assumption) (planning.Problem, string, error) {
	host := slices.IndexFunc(p.Hosts, func(h planning.Host) bool { return h.ID == a.Name })
	offer := slices.IndexFunc(p.Offers, func(o planning.Offer) bool { return o.ID == a.Name })
	shot := slices.IndexFunc(p.Shots, func(s planning.Shot) bool { return s.ID == a.Name })
	p.Hosts, p.Offers, p.Shots, p.Timings = slices.Clone(p.Hosts), slices.Clone(p.Offers), slices.Clone(p.Shots), slices.Clone(p.Timings)
	switch a.What {
	case AssumeHost:
		like := slices.IndexFunc(p.Hosts, func(h planning.Host) bool { return h.ID == a.Like })
		if host >= 0 || a.Name == "" || like < 0 {
			return p, "", fmt.Errorf("wants a new name, and `like` a host that can render one of the shots; %q is not", a.Like)
		}
		h := p.Hosts[like]
		h.ID = a.Name
		p.Hosts = append(p.Hosts, h)
		timedLike(&p, a, func(t *planning.Timing) *string { return &t.Host })
		return p, fmt.Sprintf("a host %s like %s", a.Name, a.Like), nil
	case AssumeOffer:
		like := slices.IndexFunc(p.Offers, func(o planning.Offer) bool { return o.ID == a.Like })
		if offer >= 0 || a.Name == "" || like < 0 {
			return p, "", fmt.Errorf("wants a new name, and `like` an offer that can render one of the shots; %q is not", a.Like)
		}
		o := p.Offers[like]
		o.ID = a.Name
		if a.Price != nil {
			o.Price = *a.Price
		}
		if a.Count > 0 {
			o.MaxServers = a.Count
		}
		p.Offers = append(p.Offers, o)
		timedLike(&p, a, func(t *planning.Timing) *string { return &t.Offer })
		return p, fmt.Sprintf("an offer %s like %s at %s %s an hour", a.Name, a.Like, p.Currency, o.Price), nil
	case AssumePrice:
		text, err := price(&p, a, host, offer)
		return p, text, err
	case AssumeServers:
		if offer < 0 || a.Count < 0 {
			return p, "", fmt.Errorf("is no offer that can render one of the shots, or %d is no number of servers", a.Count)
		}
		p.Offers[offer].MaxServers = a.Count
		return p, fmt.Sprintf("up to %d servers of %s", a.Count, a.Name), nil
	case AssumeTime:
		if shot < 0 || a.Factor <= 0 {
			return p, "", fmt.Errorf("wants the name of a shot of this plan, and a `factor` above 0")
		}
		for k := range p.Timings {
			if t := &p.Timings[k]; t.Shot == a.Name {
				t.Frame = max(1, planning.Millis(float64(t.Frame)*a.Factor))
			}
		}
		return p, fmt.Sprintf("a frame of %s takes %.3g times as long", a.Name, a.Factor), nil
	case AssumeDeadline:
		if shot < 0 || !a.At.After(p.Start) {
			return p, "", fmt.Errorf("wants the name of a shot of this plan, and `at` a time to come")
		}
		p.Shots[shot].Deadline = planning.Millis(a.At.Sub(p.Start) / time.Millisecond)
		return p, fmt.Sprintf("%s is due %s", a.Name, a.At.Format("Mon 2 Jan 15:04")), nil
	case AssumeHours:
		if host < 0 {
			return p, "", fmt.Errorf("is no host that can render one of the shots")
		}
		p.Hosts[host].Windows, p.Hosts[host].Open = [][2]planning.Millis{{0, lastDeadline(p) + beyond}}, nil
		return p, fmt.Sprintf("%s is free all the time", a.Name), nil
	}
	return p, "", fmt.Errorf("%q is none of %s", a.What, strings.Join(Assumptions, ", "))
}

// timedLike copies the timings of the place that the assumed one is like.
func timedLike(p *planning.Problem, a Assumption, place func(*planning.Timing) *string) {
	for _, t := range slices.Clone(p.Timings) {
		if at := place(&t); *at == a.Like {
			*at = a.Name
			p.Timings = append(p.Timings, t)
		}
	}
}

func price(p *planning.Problem, a Assumption, host, offer int) (string, error) {
	switch {
	case a.Price == nil:
		return "", fmt.Errorf("wants a `price` an hour")
	case offer >= 0:
		p.Offers[offer].Price = *a.Price
	case host >= 0:
		p.Hosts[host].Crews = slices.Clone(p.Hosts[host].Crews)
		for k := range p.Hosts[host].Crews {
			p.Hosts[host].Crews[k].BusyPrice = *a.Price
		}
	default:
		return "", fmt.Errorf("is no offer or host that can render one of the shots")
	}
	return fmt.Sprintf("%s costs %s %s an hour", a.Name, p.Currency, *a.Price), nil
}
