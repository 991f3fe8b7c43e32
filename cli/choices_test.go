package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

var friday = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

func TestChoicesAreRead(t *testing.T) {
	x := choices{
		by: "+2h", slack: "10%", pin: []string{"lamp-040=eddy,tern"}, without: []string{"desk-ada"}, fastest: true, budget: "250", ownedOnly: true,
		assume: []string{"host=eddy-2:like=eddy", "offer=tern-2:like=tern-quad,price=6.00,servers=2", "price=tern-solo:2.10", "servers=tern-solo:3", "hours=desk-ada", "time=lamp-040:0.5", "deadline=lamp-040:+3h"},
	}
	ask, err := x.ask([]string{"lamp-040"}, friday)
	require.NoError(t, err)
	assert.Equal(t, friday.Add(2*time.Hour), ask.By)
	assert.InDelta(t, 0.1, ask.Slack, 1e-6)
	assert.Equal(t, []api.Pin{{Shot: "lamp-040", Places: []string{"eddy", "tern"}}}, ask.Pin)
	assert.Equal(t, api.NewPlanGoalFastest, ask.Goal)
	assert.False(t, *ask.Rented)
	require.Len(t, ask.Assume, 7)
	assert.Equal(t, api.Assumption{What: "offer", Name: "tern-2", Like: "tern-quad", Price: "6.00", Count: 2}, ask.Assume[1])
	assert.Equal(t, friday.Add(3*time.Hour), ask.Assume[6].At)
}

func TestAChoiceThatCannotBeReadSaysWhatItWants(t *testing.T) {
	for says, x := range map[string]choices{
		`--slack "lots": want a share such as 10%`:      {slack: "lots"},
		`--confidence "150%": want a share such as 10%`: {confidence: "150%"},
		`--pin "lamp-040": want SHOT=PLACE,PLACE`:       {pin: []string{"lamp-040"}},
		`--assume "more": want WHAT=NAME`:               {assume: []string{"more"}},
		`--assume "moon=full": want host, offer`:        {assume: []string{"moon=full"}},
		`--assume "host=x:as=y": want like=NAME`:        {assume: []string{"host=x:as=y"}},
		`--assume "time=x:slow": want a value that`:     {assume: []string{"time=x:slow"}},
	} {
		_, err := x.ask([]string{"lamp-040"}, friday)
		assert.ErrorContains(t, err, says)
	}
}

func TestLinesAreWrappedAtWords(t *testing.T) {
	assert.Equal(t, "  one two\n    three", wrapped("  one two three", 10, "    "))
	assert.Equal(t, "short", wrapped("short", 10, "  "))
}

func TestChoicesAreKeptWhereNoFlagSaysOtherwise(t *testing.T) {
	no := false
	of := api.NewPlan{
		Goal: api.NewPlanGoalFastest, Budget: "250.00", Rented: &no, Without: []string{"tern"}, Confidence: 0.9,
		Pin: []api.Pin{{Shot: "lamp-040", Places: []string{"eddy"}}, {Shot: "gone-010", Places: []string{"eddy"}}},
	}
	ask := api.NewPlan{Shots: []string{"lamp-040"}}
	kept(&ask, of, func(string) bool { return false })
	of.Shots, of.Pin = ask.Shots, of.Pin[:1] // a pin of a shot that is not planned is none
	assert.Equal(t, of, ask)
	ask = api.NewPlan{Shots: []string{"lamp-040"}, Slack: 0.1}
	kept(&ask, of, func(flag string) bool { return flag == "slack" || flag == "budget" || flag == "without" })
	assert.Zero(t, ask.Confidence)
	assert.Empty(t, ask.Without)
	assert.Empty(t, ask.Budget)
	assert.Len(t, ask.Pin, 1)
}
