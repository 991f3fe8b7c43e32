package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

func TestPick(t *testing.T) {
	ids := []uuid.UUID{uuid.MustParse("aa110000-0000-4000-8000-000000000000"), uuid.MustParse("aa220000-0000-4000-8000-000000000000")}
	got, err := pick("plan", "latest", ids)
	require.NoError(t, err)
	assert.Equal(t, ids[0], got)
	got, err = pick("plan", "AA22", ids)
	require.NoError(t, err)
	assert.Equal(t, ids[1], got)
	_, err = pick("plan", "aa", ids)
	assert.ErrorContains(t, err, `"aa" is the beginning of 2 plans`)
	_, err = pick("run", "ff", ids)
	assert.ErrorContains(t, err, "rotanex runs list shows them")
	_, err = pick("run", "latest", nil)
	assert.ErrorContains(t, err, `no run "latest"`)
}

func TestWhatWasLeftOutIsALineForEachPlace(t *testing.T) {
	assert.Equal(t, []string{
		"lamp-040 on bellows/g0: not timed (and 1 more of its crews)",
		"lamp-040 on capstan: too little memory",
		"coda-060 on capstan/g0: not timed",
	}, leftOut([]api.LeftOut{
		{Shot: "lamp-040", Place: "bellows", Crew: "g0", Why: "not timed"},
		{Shot: "lamp-040", Place: "bellows", Crew: "g1", Why: "too small"},
		{Shot: "lamp-040", Place: "capstan", Why: "too little memory"},
		{Shot: "coda-060", Place: "capstan", Crew: "g0", Why: "not timed"},
	}))
}

func TestNumbersCarryTheirUnits(t *testing.T) {
	for s, want := range map[float64]string{
		-1: "—", 0: "—", 0.84: "0.84 s", 72.46: "72.5 s", 250: "4 min 10 s", 3599.7: "60 min 00 s", 11119: "3 h 05 min",
	} {
		assert.Equal(t, want, seconds(s))
	}
	assert.Equal(t, "0 hosts, 1 host, 2 hosts", several(0, "host")+", "+several(1, "host")+", "+several(2, "host"))
	assert.Equal(t, "8 MB", bytesText(8_000_000))
	assert.Equal(t, "24.4 GB", bytesText(24_400_000_000))
	assert.Equal(t, "12.5 %", percent(0.125))
	assert.Equal(t, "2 × Halyard 12, Halyard 8 (unusable)", devicesText([]api.Device{{Model: "Halyard 12"}, {Model: "Halyard 8", Unusable: "old"}, {Model: "Halyard 12"}}))
	assert.Equal(t, "mon-fri 19:00–08:00, sat", openText([]api.Hours{{Days: "mon-fri", From: "19:00", To: "08:00"}, {Days: "sat"}}))
}

func TestASourceThatIsSilentSaysWhatToDoFirst(t *testing.T) {
	s := api.Source{Spec: api.SourceSpec{Name: "tern"}, Fault: "nothing answers at http://tern.example"}
	assert.Equal(t, "tern has no secret yet: rotanex sources secret tern --file FILE. Asked without one: nothing answers at http://tern.example", silence(s))
	s.HasSecret = true
	assert.Equal(t, "tern could not be dealt with: nothing answers at http://tern.example", silence(s))
}

func TestAListIsShownAsAsked(t *testing.T) {
	l := listing{columns: []string{"host", "frames"}, records: []map[string]int{{"frames": 12}}, empty: "No host yet."}
	l.add("bellows", "12")
	l.add("eddy, the other", "7")
	for form, wants := range map[string][]string{
		"table": {"host", "bellows", "      12"},
		"csv":   {"host,frames\nbellows,12\n\"eddy, the other\",7\n"},
		"json":  {"[\n  {\n    \"frames\": 12\n  }\n]"},
	} {
		a := &app{config: viper.New()}
		a.config.Set("output", form)
		var out bytes.Buffer
		cmd := &cobra.Command{}
		cmd.SetOut(&out)
		require.NoError(t, a.show(cmd, l))
		for _, want := range wants {
			assert.Contains(t, out.String(), want, form)
		}
	}
	a := &app{config: viper.New()}
	var out bytes.Buffer
	cmd := &cobra.Command{}
	cmd.SetOut(&out)
	require.NoError(t, a.show(cmd, listing{columns: []string{"host"}, empty: "No host yet."}))
	assert.Equal(t, "No host yet.\n", out.String())
}

func TestARunIsDrawnWithinItsWindow(t *testing.T) {
	run := api.Run{
		Id: uuid.New(), State: api.RunStateRunning, Currency: "EUR", CostSoFar: "1.20", PlannedCost: "4.10",
		Counts: api.FrameCounts{Waiting: 500, Rendering: 1, Done: 498, Failed: 1},
		Shots:  []api.RunShot{{Shot: "storm-050", Width: 640, Height: 360, Counts: api.FrameCounts{Waiting: 500, Rendering: 1, Done: 498, Failed: 1}}},
		Crews: []api.RunCrew{
			{Host: "eddy", Crew: "g0", Booked: 900, Done: 490, State: api.RunCrewStateRendering, Shot: "storm-050", Frame: 499, Progress: 0.5, MeanS: 31},
			{Host: "a-server-with-a-very-long-name", Crew: "g0", Done: 8, State: api.RunCrewStateReady},
		},
	}
	frames := api.FrameMap{
		Shots:  []api.ShotMap{{Shot: "storm-050", Frames: "1-1000", States: "498d1r1f500w"}},
		Failed: []api.FailedFrames{{Cause: "timeout", Shot: "storm-050", Frames: "500", Count: 1}},
	}
	var page strings.Builder
	drawRun(&page, run, frames, 80, 24)
	lines := strings.Split(page.String(), "\n")
	assert.LessOrEqual(t, len(lines), 30)
	text := page.String()
	for _, want := range []string{"498 of 1000 frames done", "1 failed", "EUR 1.20 so far, planned EUR 4.10", "490 of 900", "8 helping", "storm-050 499", "50 %", "a-server-with-a-very-long…", "✕", "▸", "timeout: 1 frame of storm-050, 500"} {
		assert.Contains(t, text, want)
	}
	for _, line := range lines {
		assert.LessOrEqual(t, len([]rune(stripped(line))), 100, line)
	}
}

// stripped is a line without its colours.
func stripped(line string) string {
	var out strings.Builder
	escaped := false
	for _, r := range line {
		switch {
		case r == '\x1b':
			escaped = true
		case escaped:
			escaped = r != 'm'
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

func TestQuietHoursAreRead(t *testing.T) {
	for text, want := range map[string]api.Hours{
		"mon-fri 22:00-07:00": {Days: "mon-fri", From: "22:00", To: "07:00"},
		"22:00-07:00":         {Days: "mon-sun", From: "22:00", To: "07:00"},
		"sat,sun":             {Days: "sat,sun"},
	} {
		got, err := parseHours(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "someday", "25:00-07:00", "22:00", "mon tue 22:00-07:00"} {
		_, err := parseHours(text)
		assert.Error(t, err, text)
	}
}
