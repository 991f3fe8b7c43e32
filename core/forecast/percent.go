package forecast

import "fmt"

// Percent says a chance from 0 to 1 in per cent, never rounded to a certainty that it is
// not.
func Percent(chance float64) string {
	switch {
	case chance > 0 && chance < 0.01:
		return "under 1 %"
	case chance > 0.99:
		return "over 99 %"
	}
	return fmt.Sprintf("%.0f %%", 100*chance)
}
