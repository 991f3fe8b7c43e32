package launchers_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/launchers"
)

const withSettings = `
format: rotanex-launcher-1
name: x
program: y
args: ["{scene}", "--title={setting.title}", "{setting.fast}", "{setting.lut}", "-f", "{setting.format}", "{setting.sky}"]
output: "{setting.format}"
settings:
  title: { type: text }
  fast: { type: flag, on: --fast, default: "off" }
  lut: { type: path }
  format: { type: choice, choices: { png: N8, exr: E }, default: png }
  sky: { type: choice, choices: { day: "", night: --night }, default: day }
`

func TestSettingsOfAllKinds(t *testing.T) {
	t.Parallel()
	l, err := launchers.Parse([]byte(withSettings))
	require.NoError(t, err)
	arguments := func(settings map[string]string) []string {
		out, err := l.Arguments(launchers.Start{Scene: "s", Frames: []int{1}, Settings: settings, Paths: map[string]string{"luts/show.cube": "/scenes/luts/show.cube"}})
		require.NoError(t, err)
		return out
	}
	assert.Equal(t, []string{"s", "--title=", "-f", "N8"}, arguments(nil), "what is a setting alone and nothing is left out")
	all := map[string]string{"title": `a "b" $(c) ; {scene}`, "fast": "on", "lut": "luts/show.cube", "format": "exr", "sky": "night"}
	assert.Equal(t, []string{"s", `--title=a "b" $(c) ; {scene}`, "--fast", "/scenes/luts/show.cube", "-f", "E", "--night"}, arguments(all))
	settled, err := l.Settle(all)
	require.NoError(t, err)
	assert.Equal(t, "exr", l.Ending(settled))
	assert.Equal(t, []string{"luts/show.cube"}, l.Paths(settled))
	for name, values := range map[string][]string{
		"title":  {"-x", "+Iother", "@file", "/etc", "a\nb", "\x00", strings.Repeat("a", 1001)},
		"fast":   {"yes", "", "--fast"},
		"format": {"E", "", "tiff"},
		"lut":    {"../up", "/etc/passwd", "a/../../b", "a//b", "./a", "-o", `C:\a`, "c:a", "a\x00b", ".."},
	} {
		for _, value := range values {
			_, err := l.Settle(map[string]string{name: value})
			assert.ErrorContains(t, err, "setting "+name, "%q", value)
		}
	}
}

func TestSettingsThatCannotBeMeant(t *testing.T) {
	t.Parallel()
	for want, with := range map[string][2]string{
		`type "colour": want integer`:   {"type: text", "type: colour"},
		"a choice has choices":          {"choices: { png: N8, exr: E }, ", ""},
		"a flag has on or off":          {"on: --fast, ", ""},
		`"gif": want exr or png`:        {"default: png", "default: gif"},
		`its choice "x r" is no ending`: {"exr: E", `"x r": E`},
		"want an ending such as png":    {`output: "{setting.format}"`, `output: "{setting.title}"`},
		`output "../png"`:               {`output: "{setting.format}"`, `output: ../png`},
	} {
		require.Contains(t, withSettings, with[0])
		_, err := launchers.Parse([]byte(strings.Replace(withSettings, with[0], with[1], 1)))
		assert.ErrorContains(t, err, want)
	}
}
