package doctor_test

import (
	"bytes"
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/doctor"
)

func looked(f doctor.Finding) func(context.Context) doctor.Finding {
	return func(context.Context) doctor.Finding { return f }
}

func TestWhatWasFoundAndHowToFixIt(t *testing.T) {
	t.Parallel()
	checks := []doctor.Check{
		{Name: "scenes", Look: looked(doctor.Fine("%s", "/srv/100 % done"))},
		{Name: "disk", Look: looked(doctor.Warn("make room", "1 GB free"))},
		{Name: "desk", Look: looked(doctor.Skip("nobody works here"))},
	}
	var out bytes.Buffer
	require.NoError(t, doctor.Run(t.Context(), checks).Show(&out, "text"))
	assert.Equal(t, "ok       scenes  /srv/100 % done\n"+
		"warning  disk    1 GB free\n"+
		"                 → make room\n"+
		"-        desk    nobody works here\n"+
		"\n1 ok, 1 skipped, 1 to look at, 0 failed\n", out.String())

	checks = append(checks, doctor.Check{Name: "service", Look: looked(doctor.Fail("start it", "nobody answers"))})
	cmd := doctor.Command("this", "", func() ([]doctor.Check, error) { return checks, nil })
	out.Reset()
	cmd.SetOut(&out)
	cmd.SilenceUsage, cmd.SilenceErrors = true, true
	cmd.SetArgs([]string{"--output", "json"})
	require.ErrorIs(t, cmd.ExecuteContext(t.Context()), doctor.ErrFailed)
	var report doctor.Report
	require.NoError(t, json.Unmarshal(out.Bytes(), &report))
	require.Len(t, report, 4)
	assert.Equal(t, doctor.Finding{Name: "service", State: doctor.Failed, Found: "nobody answers", Fix: "start it"}, report[3])

	cmd.SetArgs([]string{"--output", "csv"})
	require.ErrorContains(t, cmd.ExecuteContext(t.Context()), "want text or json")
}

func TestACheckKnowsItsBound(t *testing.T) {
	t.Parallel()
	doctor.Run(t.Context(), []doctor.Check{{Name: "slow", Look: func(ctx context.Context) doctor.Finding {
		_, bounded := ctx.Deadline()
		assert.True(t, bounded)
		return doctor.Fine("")
	}}})
}
