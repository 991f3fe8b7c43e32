package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// choices are the flags by which a person fixes part of a plan.
type choices struct {
	by, notBefore, budget string
	slack, confidence     string
	contingency           string
	fastest, ownedOnly    bool
	again, keepOthers     bool
	priority, devices     string
	without, pin, assume  []string
	limit                 time.Duration
}

func (x *choices) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&x.by, "by", "", "deadline for all: 20:00, mon 09:00, +2h30m or a whole time; without it each shot's own")
	f.BoolVar(&x.fastest, "fastest", false, "the earliest finish inside the budget, not the least cost")
	f.StringVar(&x.budget, "budget", "", "what it may cost, such as 250.00")
	f.StringVar(&x.slack, "slack", "", "share of the time to the deadline that is kept spare, such as 10%")
	f.StringVar(&x.confidence, "confidence", "", "keep as much slack as it takes for the forecast to give this chance to be in time, such as 95%")
	f.StringVar(&x.contingency, "contingency", "", "money beyond the plan for servers that are let on the way where the run falls behind, such as 10.00: the chance reckons with it, and no server is let before it has to be")
	f.StringVar(&x.notBefore, "not-before", "", "no frame starts earlier than this time")
	f.StringArrayVar(&x.pin, "pin", nil, "SHOT=PLACE,PLACE: render the shot only there; a source stands for its places, HOST/CREW for one crew")
	f.StringArrayVar(&x.without, "without", nil, "a source, an offer or a crew (HOST/CREW) that is not to be used, or a host that is held back")
	f.BoolVar(&x.ownedOnly, "owned-only", false, "rent nothing")
	f.StringVar(&x.priority, "priority", "", "urgent, normal, low or backlog (no deadline): hosts of less urgent runs are taken, once the frames in hand are done")
	f.StringVar(&x.devices, "devices", "", "any, gpu (no CPU alone) or gpu-else-cpu (the CPU alone where no GPU can render the shot)")
	f.BoolVar(&x.keepOthers, "keep-others", false, "leave open runs their bookings: plan around them rather than together with them")
	f.BoolVar(&x.again, "again", false, "frames too that a run has done already with the same scene, settings and package")
	f.StringArrayVar(&x.assume, "assume", nil, `what if: host=NAME:like=HOST, offer=NAME:like=OFFER,price=6.00, price=NAME:6.00,
servers=OFFER:3, hours=HOST, time=SHOT:0.5 or deadline=SHOT:mon 12:00`)
	f.DurationVar(&x.limit, "time-limit", 0, "look for a better plan until then; without it as long as the size of the problem asks")
}

// ask turns the flags into what is asked of the service.
func (x *choices) ask(shots []string, now time.Time) (api.NewPlan, error) {
	ask := api.NewPlan{Shots: shots, Budget: x.budget, Contingency: x.contingency, TimeLimitS: float32(x.limit.Seconds()), Without: x.without, Again: x.again, KeepOthers: x.keepOthers, Priority: api.Priority(x.priority), Devices: api.NewPlanDevices(x.devices)}
	if x.priority != "" && !ask.Priority.Valid() {
		return ask, fmt.Errorf("--priority %q: want urgent, normal, low or backlog", x.priority)
	}
	if x.devices != "" && !ask.Devices.Valid() {
		return ask, fmt.Errorf("--devices %q: want any, gpu or gpu-else-cpu", x.devices)
	}
	if x.fastest {
		ask.Goal = api.NewPlanGoalFastest
	}
	if x.ownedOnly {
		no := false
		ask.Rented = &no
	}
	var err error
	for _, t := range []struct {
		text string
		to   *time.Time
	}{{x.by, &ask.By}, {x.notBefore, &ask.NotBefore}} {
		if t.text != "" {
			if *t.to, err = parseTime(t.text, now); err != nil {
				return ask, err
			}
		}
	}
	for _, s := range []struct {
		name, text string
		to         *float32
	}{{"--slack", x.slack, &ask.Slack}, {"--confidence", x.confidence, &ask.Confidence}} {
		if s.text != "" {
			if *s.to, err = share(s.name, s.text); err != nil {
				return ask, err
			}
		}
	}
	for _, text := range x.pin {
		shot, places, ok := strings.Cut(text, "=")
		if !ok || places == "" {
			return ask, fmt.Errorf("--pin %q: want SHOT=PLACE,PLACE, such as lamp-040=eddy", text)
		}
		ask.Pin = append(ask.Pin, api.Pin{Shot: shot, Places: strings.Split(places, ",")})
	}
	for _, text := range x.assume {
		a, err := assumption(text, now)
		if err != nil {
			return ask, err
		}
		ask.Assume = append(ask.Assume, a)
	}
	return ask, nil
}

// share reads 10% or 0.1.
func share(flag, text string) (float32, error) {
	number, percent := strings.CutSuffix(text, "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 32)
	if percent {
		v /= 100
	}
	if err != nil || v < 0 || v >= 1 {
		return 0, fmt.Errorf("%s %q: want a share such as 10%%", flag, text)
	}
	return float32(v), nil
}

// assumption reads one --assume.
func assumption(text string, now time.Time) (api.Assumption, error) {
	bad := func(want string) (api.Assumption, error) {
		return api.Assumption{}, fmt.Errorf("--assume %q: want %s", text, want)
	}
	what, rest, ok := strings.Cut(text, "=")
	if !ok {
		return bad("WHAT=NAME, such as host=bellows-2:like=bellows or price=tern-solo:2.10")
	}
	name, detail, _ := strings.Cut(rest, ":")
	a := api.Assumption{What: api.AssumptionWhat(what), Name: name}
	if !a.What.Valid() {
		return bad("host, offer, price, servers, hours, time or deadline before the =")
	}
	var err error
	switch a.What {
	case api.AssumptionWhatPrice:
		a.Price = detail
	case api.AssumptionWhatServers:
		a.Count, err = strconv.Atoi(detail)
	case api.AssumptionWhatTime:
		var v float64
		v, err = strconv.ParseFloat(detail, 32)
		a.Factor = float32(v)
	case api.AssumptionWhatDeadline:
		a.At, err = parseTime(detail, now)
	case api.AssumptionWhatHost, api.AssumptionWhatOffer:
		for part := range strings.SplitSeq(detail, ",") {
			key, value, _ := strings.Cut(part, "=")
			switch key {
			case "like":
				a.Like = value
			case "price":
				a.Price = value
			case "servers":
				a.Count, err = strconv.Atoi(value)
			default:
				return bad("like=NAME after the colon, and for an offer price=… or servers=…")
			}
		}
	}
	if err != nil {
		return bad("a value that can be read: " + err.Error())
	}
	return a, nil
}

// keepChoices asks again what was asked of a plan, where no flag says otherwise. Only the
// deadline, and what was assumed, are not of it.
func (a *app) keepChoices(cmd *cobra.Command, c *client.Client, plan uuid.UUID, ask *api.NewPlan) error {
	p, err := client.Decode[api.Plan](c.GetPlan(cmd.Context(), plan))
	if err != nil {
		return err
	}
	kept(ask, p.Choices, cmd.Flags().Changed)
	return nil
}

func kept(ask *api.NewPlan, of api.NewPlan, changed func(flag string) bool) {
	if !changed("fastest") && !changed("budget") {
		ask.Goal, ask.Budget = of.Goal, of.Budget
	}
	if !changed("owned-only") {
		ask.Rented = of.Rented
	}
	if !changed("devices") {
		ask.Devices = of.Devices
	}
	if !changed("without") {
		ask.Without = of.Without
	}
	if !changed("pin") {
		for _, pin := range of.Pin {
			if slices.Contains(ask.Shots, pin.Shot) {
				ask.Pin = append(ask.Pin, pin)
			}
		}
	}
	if !changed("keep-others") {
		ask.KeepOthers = of.KeepOthers
	}
	if !changed("contingency") {
		ask.Contingency = of.Contingency
	}
	if !changed("slack") && !changed("confidence") {
		ask.Slack, ask.Confidence = of.Slack, of.Confidence
	}
}
