package launchers_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/launchers"
)

func shipped(t *testing.T, name string) launchers.Launcher {
	t.Helper()
	all, err := launchers.Shipped()
	require.NoError(t, err)
	require.Contains(t, all, name)
	return all[name]
}

func TestArgumentsFillTypedValuesIn(t *testing.T) {
	args, err := shipped(t, "povray").Arguments(launchers.Start{
		Scene: "orrery.pov", Frames: []int{12}, Width: 320, Height: 180, Threads: 2, Output: "out.png", Inputs: "inputs",
		Settings: map[string]string{"antialias": "0.1"},
	})
	require.NoError(t, err)
	assert.Equal(t, []string{
		"+Iorrery.pov", "+Oout.png", "+Linputs", "+W320", "+H180", "+FN8", "-D", "-P", "+WT2", "+A0.1", "+Q9", "+KFI0", "+KFF9999999", "+KI0", "+KF0", "+SF12", "+EF12",
	}, args)
}

func TestSettingsAreRefusedByName(t *testing.T) {
	povray, simulator := shipped(t, "povray"), shipped(t, "simulated")
	for value, l := range map[string]launchers.Launcher{"7": povray, "nan": povray, "0.1 +Iother.pov": povray} {
		_, err := l.Arguments(launchers.Start{Frames: []int{1}, Settings: map[string]string{"antialias": value}})
		assert.ErrorContains(t, err, "setting antialias")
	}
	for _, value := range []string{"../../etc", "$(reboot)", "a b", "-x"} {
		_, err := simulator.Arguments(launchers.Start{Frames: []int{1}, Settings: map[string]string{"fail": value}})
		assert.ErrorContains(t, err, "setting fail", value)
	}
	_, err := povray.Arguments(launchers.Start{Frames: []int{1}, Settings: map[string]string{"shell": "sh"}})
	assert.ErrorContains(t, err, `no setting "shell"; it has antialias, format, quality`)
}

func TestReadingPovray(t *testing.T) {
	l, r := shipped(t, "povray"), &launchers.Reading{}
	l.Read(r, "Rendered 4096 of 57600 pixels (7%)\rRendered 28800 of 57600 pixels (50%)")
	assert.InDelta(t, 0.5, r.Progress, 0)
	l.Read(r, "  Parse Time:       0 hours  0 minutes  0 seconds (0.121 seconds)")
	l.Read(r, "  Trace Time:       0 hours  0 minutes  2 seconds (2.034 seconds)")
	assert.Equal(t, map[string]float64{"prepare": 0.121, "work": 2.034}, r.Stages)
	l.Read(r, "Parse Error: Expected 'object'")
	assert.Equal(t, "cannot-start", l.Failure(r, 1))
	assert.Contains(t, r.Tail(), "Parse Error")
	assert.NotContains(t, r.Tail(), "Rendered")
}

func TestFailureByStatus(t *testing.T) {
	l := shipped(t, "simulated")
	for status, cause := range map[int]string{12: "out-of-memory", 13: "licence-lost", 2: "cannot-start", 139: "crashed", -1: "crashed"} {
		assert.Equal(t, cause, l.Failure(&launchers.Reading{}, status))
	}
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	head := "format: rotanex-launcher-1\nname: x\nprogram: y\n"
	for text, want := range map[string]string{
		"name: x":                          "format",
		head + "args: ['{shell}']":         "no placeholder {shell}",
		head + "args: ['{setting.depth}']": "no placeholder {setting.depth}",
		head + "progress: '(\\d+)%'":       "no group (?P<percent>…)",
		head + "shell: true":               "shell",
		head + "args: ['{first}']\nseveral: {files: '(?P<frame>.)'}":  "want {first} and {last}",
		head + "args: ['{frames}', '{frame}']\nseveral: {files: 'x'}": "{frame} in the arguments is one frame",
		head + "args: ['{frames}']\nseveral: {files: 'x'}":            "no group (?P<frame>…)",
		head + "args: ['{frames}']\nseveral: {}":                      "files or picture is needed",
		head + "settings: {a: {type: anything}}":                      `type "anything"`,
	} {
		_, err := launchers.Parse([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("progress 12\rstage work 1.5")
	all, err := launchers.Shipped()
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, line string) {
		r := &launchers.Reading{}
		for range 50 {
			all["simulated"].Read(r, line)
		}
		assert.LessOrEqual(t, strings.Count(r.Tail(), "\n"), 40)
		assert.True(t, r.Progress >= 0 && r.Progress <= 1)
	})
}

func TestWhatARendererSaysOfItselfAndItsDevices(t *testing.T) {
	simulator, povray := shipped(t, "simulated"), shipped(t, "povray")
	assert.Equal(t, []string{"about", "--stock=/s.json"}, simulator.AboutArguments("/s.json"))
	version, plugins := simulator.ReadAbout("version 4.2.1\nplugin tidefog\nplugin brassleaf\n")
	assert.Equal(t, "4.2.1", version)
	assert.Equal(t, []string{"tidefog", "brassleaf"}, plugins)
	version, _ = povray.ReadAbout("povray: cannot open the user configuration file\nPOV-Ray 3.7.0.10.unofficial\n")
	assert.Equal(t, "3.7.0.10", version)

	var r launchers.Reading
	simulator.Read(&r, "device g1 use 0.97 bytes 9500000000 celsius 71 watts 301 mhz 1800")
	assert.Equal(t, launchers.DeviceState{Use: 0.97, Bytes: 9_500_000_000, Celsius: 71, Watts: 301, MHz: 1800}, r.Devices["g1"])
	assert.Empty(t, r.Tail(), "it is no news for the log")
	_, err := launchers.Parse([]byte("format: rotanex-launcher-1\nname: a\nprogram: a\ndevice_state: 'x'\n"))
	assert.ErrorContains(t, err, "(?P<device>")
}
