package replan

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/forecast"
)

func TestWhichScheduleIsSurer(t *testing.T) {
	t.Parallel()
	f := func(chance, half float64) Next {
		return Next{Outlook: Outlook{Chance: chance}, Forecast: forecast.Forecast{Chance: chance, Finish: forecast.Spread{P50: half}}}
	}
	behind := f(0.97, 100)
	behind.Outlook.Behind = 0.8
	for name, c := range map[string]struct {
		next, before Next
		surer        bool
	}{
		"much surer":                       {f(0.9, 100), f(0.5, 90), true},
		"much less sure":                   {f(0.5, 90), f(0.9, 100), false},
		"by luck":                          {f(0.91, 90), f(0.9, 100), false},
		"both late, it ends earlier":       {f(0, 90), f(0.01, 100), true},
		"both late, it ends later":         {f(0, 110), f(0, 100), false},
		"both late, the other never ends":  {f(0, 110), f(0, -1), true},
		"neither ends":                     {f(0, -1), f(0, -1), false},
		"sure enough, much surer":          {f(1, 90), f(0.95, 100), true},
		"sure enough, the other is behind": {f(0.95, 100), behind, true},
		"the same, and neither is certain": {f(0.5, 90), f(0.5, 100), false},
	} {
		assert.Equal(t, c.surer, (&Rest{Wanted: 0.95}).surer(c.next, c.before), name)
	}
}
