package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/service/app"
	"rotanex.example/service/testdb"
)

// behind is a house with a run that eddy alone would do in time, and that falls behind: for
// ten minutes nothing is rendered. A server can be rented.
func behind(t *testing.T, policy api.Policy, spend string) (*house, *clockwork.FakeClock, hand, api.Run) {
	t.Helper()
	clock := clockwork.NewFakeClockAt(time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC))
	source := newCompany(t, clock.Now, ternSolo)
	h := newHouse(t, withWall(clock))
	h.putSource("tern", "rented", source.URL)
	own := h.hand(eddy)
	offer, err := convert[api.OfferSpec](ternSolo)
	require.NoError(t, err)
	must[api.Offer](t)(h.admin().PutOffer(t.Context(), "tern-solo", offer))
	h.putShot("coda-060", "1-150", nil) // a frame takes ten seconds
	h.trialByHand(own, "coda-060", "eddy", "g0")
	plan := h.plan(api.NewPlan{By: h.now().Add(30 * time.Minute)})
	require.Empty(t, plan.Servers)
	run := must[api.Run](t)(h.admin().StartRun(t.Context(), &api.StartRunParams{}, api.StartRunJSONRequestBody{Plan: plan.Id, Spend: spend, Policy: policy}))
	assert.Equal(t, policy, run.Policy)
	return h, clock, own, run
}

func (h *house) changes(run api.Run) []api.ScheduleChange {
	h.t.Helper()
	return must[struct{ Items []api.ScheduleChange }](h.t)(h.admin().ListScheduleChanges(h.t.Context(), run.Id)).Items
}

// passes lets time go on until a run was looked at, with its host there.
func (h *house) passes(clock *clockwork.FakeClock, own hand, run api.Run, until func() bool) {
	h.t.Helper()
	h.until("the schedule to be looked at", func() bool {
		clock.Advance(5 * time.Second)
		own.beat()
		return until()
	})
}

// A run that falls behind is planned anew by itself, within what it may cost.
func TestARunThatFallsBehindIsPlannedAnew(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "5.00")
	h.passes(clock, own, run, func() bool { return len(h.changes(run)) > 0 })
	change := h.changes(run)[0]
	assert.Equal(t, api.ChangeMade, change.State)
	assert.Contains(t, change.Cause, "it falls behind")
	assert.Contains(t, change.Gain, "not behind any more", "what may still be let is reckoned with, and has to be now")
	assert.Greater(t, change.ChanceAfter, change.ChanceBefore)
	assert.Equal(t, "0.00", change.More)
	assert.Positive(t, change.Moved)
	assert.Equal(t, 150, change.Frames)
	now := h.run(run)
	require.Len(t, now.Servers, 1, "it rents what brings it home in time")
	assert.Equal(t, "5.00", now.Cap)
	assert.NotEqual(t, run.Plan, change.Plan)
	assert.Contains(t, h.good("runs", "changes", "latest"), "it falls behind")

	// One action undoes it: eddy has all of it again. A server that stands already is paid for.
	clock.Advance(time.Second)
	own.beat()
	assert.Contains(t, h.good("runs", "undo", "latest"), "goes by the schedule again")
	undone := h.changes(run)[0]
	assert.Equal(t, api.ChangeUndone, undone.State)
	assert.Equal(t, 150, query[int](t, h.database, "SELECT sum(frames) FROM bookings WHERE run_id = $1 AND host = 'eddy'", run.Id))
	assert.Zero(t, query[int](t, h.database, "SELECT coalesce(sum(frames - taken), 0) FROM bookings WHERE run_id = $1 AND host <> 'eddy'", run.Id))
	assert.Contains(t, h.bad("runs", "undo", "latest"), "nothing to undo")
	h.setState(run, "cancelled")
}

// A plan that has money for the way lets its server as late as the deadline allows, and says so.
func TestServersArePlannedLateWhereMoreMayBeLetOnTheWay(t *testing.T) {
	h, _, _, run := behind(t, api.PolicyOff, "")
	h.setState(run, "cancelled")
	early := h.plan(api.NewPlan{By: h.now().Add(20 * time.Minute)})
	require.Len(t, early.Servers, 1)
	late := h.plan(api.NewPlan{By: h.now().Add(20 * time.Minute), Contingency: "5.00"})
	require.Len(t, late.Servers, 1)
	assert.True(t, late.Servers[0].From.After(early.Servers[0].From), "%s and %s", late.Servers[0].From, early.Servers[0].From)
	assert.Equal(t, early.Cost, late.Cost)
	assert.Contains(t, h.good("plan", "coda-060", "--by", "+20m", "--contingency", "5"), "let as late as the deadlines allow")
	assert.NotContains(t, h.good("plan", "coda-060", "--by", "+20m"), "let as late")
}

// One that asks is not touched until somebody accepts.
func TestWhatIsProposedIsAccepted(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAsk, "5.00")
	h.passes(clock, own, run, func() bool { return h.run(run).Outlook.Proposals > 0 })
	require.Empty(t, h.run(run).Servers)
	assert.Contains(t, h.good("runs", "show", "latest"), "rotanex runs accept")
	assert.Contains(t, h.good("waiting"), "rotanex runs accept "+run.Id.String()[:8])
	change := h.changes(run)[0]
	assert.Equal(t, api.ChangeProposed, change.State)
	assert.Contains(t, h.good("runs", "accept", "latest"), "goes by plan "+change.Plan.String()[:8])
	require.Len(t, h.run(run).Servers, 1)
	accepted := h.changes(run)[0]
	assert.Equal(t, api.ChangeMade, accepted.State)
	assert.NotEqual(t, "Rotanex", accepted.DecidedBy)
	assert.Zero(t, h.run(run).Outlook.Proposals)
	assert.Contains(t, h.good("waiting"), "Nothing waits")
	assert.Contains(t, h.bad("runs", "accept", "latest"), "nothing is proposed")
	assert.Contains(t, h.good("runs", "accept", "latest", change.Id.String()[:6]), "goes by plan", "a second time it changes nothing")
	assert.Len(t, h.run(run).Servers, 1)
}

// What takes more than the cap is asked for with its price; declined it stays away.
func TestWhatTakesMoreThanTheCapIsAskedFor(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "")
	h.passes(clock, own, run, func() bool { return h.run(run).Outlook.Proposals > 0 })
	change := h.changes(run)[0]
	assert.Equal(t, "1.20", change.More, "nothing may be spent so far")
	assert.Empty(t, h.run(run).Servers)
	assert.Contains(t, h.good("runs", "decline", "latest"), "stays as it is")
	assert.Equal(t, api.ChangeDeclined, h.changes(run)[0].State)
	assert.Empty(t, h.run(run).Servers)
	assert.Contains(t, h.good("runs", "policy", "latest", "off"), "not planned anew")
	assert.Equal(t, api.PolicyOff, h.run(run).Policy)
	assert.Contains(t, h.bad("runs", "policy", "latest", "maybe"), `policy "maybe": want auto, ask or off`)
}

// In the console a proposal stands above the frames, and one button takes it.
func TestAProposalIsAcceptedInTheConsole(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "")
	h.passes(clock, own, run, func() bool { return h.run(run).Outlook.Proposals > 0 })
	b := h.open("light")
	b.goTo("/hosts")
	b.shows("Waiting for you")
	assert.Empty(t, b.axe())
	b.do(chromedp.Click(`section[aria-label="Waiting for you"] a`))
	b.shows("A new schedule is proposed")
	b.shows("more than the run may cost")
	b.shows("to be in time")
	b.shows("Planned anew")
	assert.Empty(t, b.axe())
	b.do(chromedp.Click(`//button[starts-with(., "Accept, and allow")]`))
	testdb.Until(t, "the run to go by it", func() bool { return len(h.run(run).Servers) == 1 })
	assert.Equal(t, "1.20", h.run(run).Cap)
	testdb.Until(t, "the page to have it", func() bool { return !strings.Contains(b.text(), "A new schedule is proposed") })
}

// A deadline that is moved is what the run is held to from then on.
func TestADeadlineIsMoved(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "5.00")
	assert.Contains(t, h.good("runs", "deadline", "latest", "+3h"), "planned anew by itself")
	assert.WithinDuration(t, h.now().Add(3*time.Hour), h.run(run).Deadline, time.Minute)
	h.passes(clock, own, run, func() bool { return h.run(run).Outlook.Chance != nil })
	assert.GreaterOrEqual(t, *h.run(run).Outlook.Chance, 0.95)
	assert.Equal(t, "5.00", h.run(run).Outlook.MayLet)
	kept := h.run(run).Outlook.KeptFinish
	assert.WithinRange(t, kept.P50, h.now(), h.run(run).Deadline.Add(time.Minute), "it ends in time, if late")
	said := h.good("runs", "show", "latest")
	assert.Contains(t, said, "with up to EUR 5.00 for servers on the way")
	assert.Contains(t, said, "half of earlier runs would end by ")
	assert.Empty(t, h.run(run).Servers, "there is time enough without")
	assert.Contains(t, h.bad("runs", "deadline", "latest", "2020-01-01T09:00:00Z"), "is past")
	b := h.open("light")
	b.goTo("/runs/" + run.Id.String())
	by := h.now().Add(5 * time.Hour).UTC().Format("2006-01-02T15:04")
	b.shows("Deadline")
	require.True(t, read[bool](b, fmt.Sprintf(`(() => {
		const field = document.querySelector("input[type=datetime-local]");
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(field, %q);
		return field.dispatchEvent(new Event("input", { bubbles: true }));
	})()`, by)))
	b.do(chromedp.Click(`//button[.="Move it"]`))
	h.until("the deadline to be moved", func() bool { return h.run(run).Deadline.UTC().Format("2006-01-02T15:04") == by })
	h.setState(run, "cancelled")
	assert.Contains(t, h.bad("runs", "deadline", run.Id.String(), "+3h"), "no deadline to move")
}

// A host that has joined since the run was planned is taken before anything is rented.
func TestAHostThatJoinsIsTakenBeforeAnythingIsRented(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "5.00")
	joined := h.hand(bellows)
	h.trialByHand(joined, "coda-060", "bellows", "g0")
	h.passes(clock, own, run, func() bool { joined.beat(); return len(h.changes(run)) > 0 })
	now := h.run(run)
	assert.Empty(t, now.Servers)
	i := slices.IndexFunc(now.Crews, func(c api.RunCrew) bool { return c.Host == "bellows" && c.Booked > 0 })
	require.GreaterOrEqual(t, i, 0, "%+v", now.Crews)

	// The schedule has both hosts' work, one piece after another, and so has the page.
	x := must[api.Schedule](t)(h.admin().GetSchedule(t.Context()))
	left := map[string]int{}
	for _, b := range x.Bookings {
		left[b.Place] += b.Frames
		assert.False(t, b.Start.Before(x.Now))
		assert.False(t, b.End.Before(b.Start))
	}
	assert.Equal(t, 150, left["eddy"]+left["bellows"])
	assert.Contains(t, h.good("schedule"), "bellows")
	b := h.open("dark")
	b.goTo("/schedule")
	b.shows("Open runs")
	b.shows("bellows g0")
	assert.Empty(t, b.axe())
	h.setState(run, "cancelled")
	b.goTo("/schedule")
	b.shows("No crew has work left")
}

// Two services look after the same runs, and one of them is ended while it plans: what is
// left is planned anew once, every frame is booked once, and each server is rented once.
func TestTwoServicesPlanAnewOnce(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "5.00")
	other := h.config
	other.Address = "http://127.0.0.1:9"
	second, err := app.Start(t.Context(), other)
	require.NoError(t, err)
	t.Cleanup(second.Close)
	ended := false
	h.passes(clock, own, run, func() bool {
		// It has said how the run stands, and is at planning anew.
		if !ended && h.run(run).Outlook.Chance != nil {
			ended = true
			h.restart()
		}
		return len(h.changes(run)) > 0
	})
	for range 12 { // a minute more, for whoever would do it again
		clock.Advance(5 * time.Second)
		own.beat()
	}
	all := h.changes(run)
	require.Len(t, all, 1)
	assert.Equal(t, api.ChangeMade, all[0].State)
	plan := must[api.Plan](t)(h.admin().GetPlan(t.Context(), all[0].Plan))
	assert.NotEmpty(t, plan.Servers)
	assert.Len(t, h.run(run).Servers, len(plan.Servers), "each is rented once")
	assert.Equal(t, 150, query[int](t, h.database, "SELECT sum(frames) FROM bookings WHERE run_id = $1", run.Id), "every frame is booked once")
	assert.Equal(t, 1, query[int](t, h.database, "SELECT count(*) FROM run_plans WHERE run_id = $1", run.Id))
}

// A run whose deadline is past is brought home as soon as it can be.
func TestARunThatIsLateIsPlannedAnew(t *testing.T) {
	h, clock, own, run := behind(t, api.PolicyAuto, "")
	for range 40 {
		clock.Advance(time.Minute)
		own.beat()
	}
	require.True(t, h.now().After(h.run(run).Deadline))
	joined := h.hand(bellows)
	h.trialByHand(joined, "coda-060", "bellows", "g0")
	var change api.ScheduleChange
	h.passes(clock, own, run, func() bool { // a server may have been proposed before
		joined.beat()
		all := h.changes(run)
		i := slices.IndexFunc(all, func(c api.ScheduleChange) bool { return c.State == api.ChangeMade })
		if i >= 0 {
			change = all[i]
		}
		return i >= 0
	})
	assert.Contains(t, change.Gain, "min earlier")
	assert.True(t, change.FinishAfter.Before(change.FinishBefore))
}
