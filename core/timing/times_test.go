package timing

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadTimes(t *testing.T) {
	times, err := ReadTimes(strings.NewReader("\ufeffShot;host;crew;models;links;frame;warm_up;seconds;condition.power;setting.samples\n" +
		"gears;capstan;g0+g1+cpu;Halyard 12+Halyard 12+Keel 8;x1;12;yes;72.5;mains;128\n"))
	require.NoError(t, err)
	got := times[0]
	assert.Equal(t, []string{"g0", "g1", "cpu"}, got.Devices)
	assert.Equal(t, []string{"x1", "x1", "x1"}, got.Links)
	assert.True(t, got.WarmUp)
	assert.Equal(t, 12, *got.Frame)
	assert.InDelta(t, 72.5, got.Seconds, 0)
	assert.Equal(t, "gears (samples=128)", got.Subject())
	assert.Equal(t, map[string]string{"power": "mains"}, got.Conditions)

	var file bytes.Buffer
	require.NoError(t, WriteTimes(&file, times))
	again, err := ReadTimes(&file)
	require.NoError(t, err)
	assert.Equal(t, times, again)
}

func TestReadTimesNamesTheFault(t *testing.T) {
	for text, want := range map[string]string{
		"":                                       "the file is empty",
		"shot,crew,seconds\n":                    "a header but no row",
		"shot,crew\na,g0\n":                      `column "seconds" is missing`,
		"shot,crew,seconds,colour\na,g0,1,red\n": `column "colour": there is no such column`,
		"shot,crew,seconds,setting.\na,g0,1,red\n":                                    `column "setting."`,
		"shot,crew,seconds,crew\na,g0,1,g0\n":                                         `column "crew" is there twice`,
		"shot,crew,seconds\na,g0,1\na,g1,0\n":                                         `line 3, column seconds: "0": want seconds from 0.001 to 2678400`,
		"shot,crew,seconds\na,g0,\"1,5\"\n":                                           "with a point",
		"shot,crew,seconds\na,g0+g0,1\n":                                              "each once",
		"shot,crew,seconds\n,g0,1\n":                                                  "line 2, column shot",
		"shot,crew,models,seconds\na,g0+g1,A,1\n":                                     `"A" has 1 entries, the crew g0+g1 has 2 devices`,
		"shot,host,crew,models,seconds\na,h,g0,A,1\na,h,g0,B,1\n":                     `device g0 of host "h" is "B" here and "A" in line 2`,
		"shot,crew,seconds,frame\na,g0,1,first\n":                                     "want a frame's number",
		"shot,crew,seconds,warm_up\na,g0,1,perhaps\n":                                 "want true or false",
		"shot,crew,seconds\na,g0\n":                                                   "wrong number of fields",
		"shot,crew,seconds\na,g0,1e999\n":                                             "want seconds from 0.001 to 2678400",
		"shot,crew,links,seconds\na,g0+g1+g2,16+16,1\n":                               "has 2 entries",
		"shot,crew,models,seconds\na,g0+g1,A+,1\n":                                    "joined with +",
		"shot,host,crew,models,links,backend,frame,warm_up,seconds,shots\na,,,,,,,,,": `column "shots"`,
	} {
		_, err := ReadTimes(strings.NewReader(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzReadTimes(f *testing.F) {
	f.Add("shot,crew,seconds\na,g0+cpu,1.5\n")
	f.Add("shot;crew;models;links;seconds;condition.power\na;g0+g1;A+B;16+1;3;mains\n")
	f.Fuzz(func(t *testing.T, text string) {
		times, err := ReadTimes(strings.NewReader(text))
		if err != nil {
			return
		}
		var file bytes.Buffer
		require.NoError(t, WriteTimes(&file, times))
		again, err := ReadTimes(&file)
		require.NoError(t, err, file.String())
		assert.Len(t, again, len(times))
	})
}

func TestReport(t *testing.T) {
	times, err := ReadTimes(strings.NewReader(`shot,host,crew,models,backend,warm_up,seconds
gears,capstan,g0,Halyard 12,new,true,300
gears,capstan,g0,Halyard 12,new,,172
gears,capstan,g0,Halyard 12,new,,174
gears,capstan,g0+g1,Halyard 12+Halyard 12,new,,96
gears,capstan,g0+g1+g2,Halyard 12+Halyard 12+Halyard 12,new,,71
gears,capstan,g0,Halyard 12,old,,260
gears,capstan,cpu,Keel 8,,,1900
`))
	require.NoError(t, err)
	lines, err := Report(context.Background(), times, 64, nil)
	require.NoError(t, err)
	crews := map[string]Line{}
	for _, l := range lines {
		crews[l.Crew+" "+l.Backend] = l
		assert.LessOrEqual(t, *l.Low, *l.Predicted)
		assert.LessOrEqual(t, *l.Predicted, *l.High)
	}
	assert.Equal(t, 3, lines[0].Row, "warm-ups are no rows of the report")
	assert.InDelta(t, 174, *lines[0].LeftOut, 4, "its repeat is known")
	assert.Nil(t, crews["g1+g2 new"].Measured)
	assert.InDelta(t, 96, *crews["g1+g2 new"].Predicted, 4)
	assert.Contains(t, crews["cpu "].LeftOutWhy, "no frame was timed with Keel 8")
	assert.Contains(t, crews, "g0+g1+g2 old")
	// 15 crews of three GPUs and the CPU, of which the CPU by itself has no backend.
	assert.Len(t, lines, 2+14+14)

	few, err := Report(context.Background(), times, 3, nil)
	require.NoError(t, err)
	assert.Less(t, len(few), len(lines))
}

func TestWithoutHostNamesTwoMachinesMayHaveTheSameDevices(t *testing.T) {
	times, err := ReadTimes(strings.NewReader("shot,crew,models,seconds\na,g0,A,100\na,g0,B,50\na,g0+g1,A+A,55\nb,g0,A,10\nb,g0,B,6\nb,g0+g1,A+A,6.4\n"))
	require.NoError(t, err)
	lines, err := Report(context.Background(), times, 64, nil)
	require.NoError(t, err)
	require.Len(t, lines, 6, "no crew is made up of devices that may be of two machines")
	assert.InDelta(t, 100, *lines[0].Predicted, 8)
	assert.InDelta(t, 50, *lines[1].Predicted, 5)
	assert.Equal(t, []string{"B"}, lines[1].Models)
}
