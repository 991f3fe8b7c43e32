package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/timing"
)

// alone runs a command that needs no service.
func alone(t *testing.T, in string, args ...string) (status int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	status = Main(t.Context(), args, strings.NewReader(in), &o, &e)
	return status, o.String(), e.String()
}

const someTimes = `shot,host,crew,models,seconds,warm_up
gears,capstan,g0,Halyard 12,172,
gears,capstan,g0+g1,Halyard 12+Halyard 12,96,
gears,capstan,g0+g1+g2,Halyard 12+Halyard 12+Halyard 12,71,
gears,capstan,g0,Halyard 12,300,true
stair,capstan,g0,Halyard 12,50,
`

func TestTimingNeedsNoService(t *testing.T) {
	path := filepath.Join(t.TempDir(), "times.csv")
	require.NoError(t, os.WriteFile(path, []byte(someTimes), 0o600))
	status, out, errs := alone(t, "", "timing", path)
	require.Zero(t, status, errs)
	for _, want := range []string{"measured", "predicted", "g1+g2", "4 rows measured, 1 warm-ups left aside", "no frame of the shot with these settings"} {
		assert.Contains(t, out, want)
	}

	status, out, errs = alone(t, someTimes, "timing", "-", "--output", "json")
	require.Zero(t, status, errs)
	var lines []map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &lines))
	for _, l := range lines {
		for _, key := range []string{"shot", "host", "crew", "measured_s", "predicted_s", "low_s", "high_s", "left_out_s", "left_out_low_s", "left_out_high_s"} {
			assert.Contains(t, l, key)
		}
		if l["measured_s"] == nil {
			assert.Nil(t, l["left_out_s"])
		} else if l["left_out_s"] == nil {
			assert.NotEmpty(t, l["left_out_why"])
		}
	}
	assert.Equal(t, "stair", lines[3]["shot"])
	assert.Nil(t, lines[3]["left_out_s"], "the only row of its shot")

	status, out, _ = alone(t, someTimes, "timing", "-", "--output", "csv", "--crews", "0")
	require.Zero(t, status)
	assert.Len(t, strings.Split(strings.TrimSpace(out), "\n"), 5, "a header and the measured rows")
}

func TestTimingSaysWhatIsWrong(t *testing.T) {
	for in, want := range map[string]string{
		"shot,crew,seconds,mood\na,g0,1,good\n": `-: column "mood"`,
		"shot,crew,seconds\na,g0,none\n":        `-: line 2, column seconds: "none"`,
		"":                                      "-: the file is empty",
	} {
		status, _, errs := alone(t, in, "timing", "-")
		assert.Equal(t, ExitFailed, status)
		assert.Contains(t, errs, want)
	}
	status, _, errs := alone(t, "", "timing", "/nowhere/times.csv")
	assert.Equal(t, ExitFailed, status)
	assert.Contains(t, errs, "/nowhere/times.csv")
	status, _, errs = alone(t, someTimes, "timing", "-", "--crews", "-1")
	assert.Equal(t, ExitFailed, status)
	assert.Contains(t, errs, "--crews -1")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var out, e bytes.Buffer
	assert.Equal(t, ExitFailed, Main(ctx, []string{"timing", "-"}, strings.NewReader(someTimes), &out, &e))
}

func TestSingleDevicesAloneAreSaidToTellNothingOfCrews(t *testing.T) {
	only := "shot,crew,models,seconds\ngears,g0,A,100\ngears,g1,B,170\n"
	status, out, _ := alone(t, only, "timing", "-")
	require.Zero(t, status)
	assert.Contains(t, out, "does not yet know how crews scale")
	_, out, _ = alone(t, only, "timing", "-", "-o", "json")
	var lines []timing.Line
	require.NoError(t, json.Unmarshal([]byte(out), &lines))
	pair := lines[len(lines)-1]
	assert.Equal(t, "g0+g1", pair.Crew)
	assert.Contains(t, pair.Note, "does not yet know")
	assert.Greater(t, *pair.High, 1.5**pair.Low)
}

func TestParseVariant(t *testing.T) {
	v, err := parseVariant("draft: antialias=0.9, quality=4")
	require.NoError(t, err)
	assert.Equal(t, "draft", v.Name)
	assert.Equal(t, map[string]string{"antialias": "0.9", "quality": "4"}, v.Settings)
	for _, text := range []string{"own", "again:", " own "} {
		v, err = parseVariant(text)
		require.NoError(t, err, text)
		assert.Empty(t, v.Settings, text)
	}
	for _, text := range []string{"antialias", "=4", "draft: antialias"} {
		_, err = parseVariant(text)
		assert.ErrorContains(t, err, text)
	}
}

func TestWhatIsTheSameIsSaidOnce(t *testing.T) {
	missing := api.Finding{Level: "blocker", Check: "inputs", Text: "a is missing", Fix: "copy it"}
	groups := sameFindings([]api.PreflightCrew{
		{Place: "eddy", Crew: "g0", Findings: []api.Finding{missing}},
		{Place: "eddy", Crew: "g1", Findings: []api.Finding{missing}},
		{Place: "eddy", Crew: "cpu", Findings: []api.Finding{}},
		{Place: "dory", Crew: "cpu", Findings: []api.Finding{}},
	})
	var where []string
	for _, g := range groups {
		where = append(where, g.where)
	}
	assert.Equal(t, []string{"eddy/g0, g1", "eddy/cpu", "dory/cpu"}, where)
	assert.Equal(t, "g0, g1, … (5)", shortList([]string{"g0", "g1", "g2", "g3", "g4"}))

	fits := alikeFits([]api.Fit{
		{Place: "tern-quad", Crew: "g0", Verdict: "does not fit", Why: "small"},
		{Place: "tern-quad", Crew: "g1", Verdict: "does not fit", Why: "small"},
		{Place: "tern-quad", Crew: "g2", Verdict: "does not fit", Why: "small", Blocked: "no plugin"},
	})
	require.Len(t, fits, 2)
	assert.Equal(t, "g0, g1", fits[0].Crew)
	assert.Equal(t, "small; blocked: no plugin", whyText(fits[1]))
	assert.Equal(t, "shares, ×1.08 slower", verdictText(api.Fit{Verdict: "shares", Slowdown: 1.08}))
	assert.Equal(t, "fits, tight, ×1.05 slower", verdictText(api.Fit{Verdict: "fits", Tight: true, Slowdown: 1.05}))
}

func TestCrewsAreListedWithWhatIsKnown(t *testing.T) {
	x := api.Comparison{Shot: "coda-060", Currency: "EUR", Baseline: "eddy/g0", Frames: 64, Crews: []api.CrewFigures{
		{Place: "eddy", Crew: "g0", Models: []string{"T"}, Basis: "measured", Timed: 3, Seconds: 22, OpeningS: 3, InStart: 120, LowS: 21, HighS: 23, FrameCost: "0.0009", WholeS: 1408, Speedup: 1},
		{Place: "capstan", Crew: "g0", Models: []string{"H"}, Basis: "predicted", Seconds: 48, LowS: 40, HighS: 55, FrameCost: "0.0009", WholeS: 3072, Speedup: 0.46, SamplesSecond: 345_000},
		{Place: "capstan", Crew: "g1", Models: []string{"H"}, Basis: "predicted", Seconds: 48, LowS: 40, HighS: 55},
		{Place: "bellows", Crew: "g0", Models: []string{"H24"}, Basis: "measured", Timed: 3, Seconds: 27, LowS: 26, HighS: 28, Difference: api.Difference{Method: "paired t interval", Low: 0.8, High: 0.9, Shown: true}, Cautions: []string{"timed on battery, the baseline on AC power"}},
		{Place: "bellows", Crew: "g1", Models: []string{"H"}, Basis: "measured", Timed: 3, Seconds: 44, LowS: 40, HighS: 50, Difference: api.Difference{Method: "paired t interval"}},
		{Place: "punt", Crew: "cpu", Basis: "blocked", Note: "too little memory"},
	}, Unlike: []api.UnlikeSettings{{Place: "eddy", Crew: "g0", Seconds: 11}}, Stretches: []api.Stretch{{From: 1, To: 8, Weight: 0.9, Frames: 2}, {From: 9, To: 16, Weight: 1.4, Frames: 1}}}
	l := crewListing(x, false)
	require.Len(t, l.texts(), 4)
	assert.Equal(t, "capstan/g0 (and 1 alike)", l.texts()[1][0])
	assert.Equal(t, "3.00 s per 120 frames", l.texts()[0][4])
	assert.Equal(t, "3.00 s per frame", opening(3, 1).text)
	assert.Equal(t, "baseline", l.texts()[0][8])
	assert.Equal(t, "0.80–0.90×", l.texts()[2][8])
	assert.Equal(t, "none shown", l.texts()[3][8])
	assert.Equal(t, "345.0 k", l.texts()[1][6])
	all := crewListing(x, true)
	assert.Contains(t, all.texts()[4], "too little memory")
	var out bytes.Buffer
	advise(&out, x)
	for _, want := range []string{"Speed-ups are to eddy/g0", "Differences by the paired t interval", "Caution: bellows/g0 was timed on battery", "1 crews are not shown", "Not compared: eddy/g0 took 11.0 s", "9–16 ×1.40"} {
		assert.Contains(t, out.String(), want)
	}
}

func TestWaitingEndsWithWhatItWaitsFor(t *testing.T) {
	cmd := New()
	ctx, cancel := context.WithCancel(t.Context())
	cmd.SetContext(ctx)
	asked := 0
	got, err := awaited(&app{}, cmd, "waiting", "it goes on", func() (int, bool, error) {
		asked++
		return asked, asked == 2, nil
	})
	require.NoError(t, err)
	assert.Equal(t, 2, got)
	_, err = awaited(&app{}, cmd, "waiting", "it goes on", func() (int, bool, error) {
		cancel()
		return 0, false, ctx.Err()
	})
	assert.EqualError(t, err, "no longer waiting; it goes on", "Ctrl-C in the middle of a question is no error of the service's")
}
