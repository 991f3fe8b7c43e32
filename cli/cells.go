package cli

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/forecast"
)

// cell is one value of a listing: as a person reads it, and plain for a program: numbers
// without a unit, times as RFC 3339 in UTC, an amount apart from its currency. The column's
// heading says the unit.
type cell struct {
	text  string
	plain []string
}

// cellOf takes a text as it is; "—" is plainly nothing.
func cellOf(v any) cell {
	switch x := v.(type) {
	case cell:
		return x
	case int:
		return cell{strconv.Itoa(x), []string{strconv.Itoa(x)}}
	}
	text := fmt.Sprint(v)
	if text == none {
		return cell{none, []string{""}}
	}
	return cell{text, []string{text}}
}

// ifKnown is a value that is known, or else nothing.
func ifKnown(is bool, text, plain string) cell {
	if !is {
		return cell{none, []string{""}}
	}
	return cell{text, []string{plain}}
}

func number(v float64, decimals int) string { return strconv.FormatFloat(v, 'f', decimals, 64) }

// inSeconds is a length of time, plainly in seconds; 0 is not known.
func inSeconds(s float64) cell {
	return ifKnown(s > 0, seconds(s), number(s, 3))
}

// between is an interval of lengths of time: two plain values.
func between(low, high float64) cell {
	return cell{seconds(low) + " – " + seconds(high), append(inSeconds(low).plain, inSeconds(high).plain...)}
}

// opening is what opening a scene takes and for how many frames of a start: two plain values; 0 is not known.
func opening(s float64, frames int) cell {
	if s <= 0 {
		return cell{none, []string{"", ""}}
	}
	per := "frame"
	if frames > 1 {
		per = several(frames, "frame")
	}
	return cell{seconds(s) + " per " + per, append(inSeconds(s).plain, strconv.Itoa(frames))}
}

// amount is money: its plain values are the amount and the currency.
func amount(currency, value string) cell {
	if value == "" {
		return cell{none, []string{"", ""}}
	}
	return cell{money(currency, value), []string{value, currency}}
}

// bare is money whose currency stands in the column's heading.
func bare(currency, value string) cell {
	x := amount(currency, value)
	x.text = orNone(value)
	return x
}

func timeCell(t time.Time, text string) cell {
	if t.IsZero() {
		return cell{text, []string{""}}
	}
	return cell{text, []string{t.UTC().Format(time.RFC3339)}}
}

// at is a time to the second, atMinute to the minute, and atDay one whose week is clear.
func at(t time.Time) cell       { return timeCell(t, moment(t)) }
func atMinute(t time.Time) cell { return timeCell(t, minute(t)) }
func atDay(t time.Time) cell    { return timeCell(t, dayTime(t)) }

// inBytes is an amount of memory or a file's size; 0 is not known.
func inBytes(n int64) cell {
	return ifKnown(n > 0, bytesText(n), strconv.FormatInt(n, 10))
}

// inGB is memory as it is fitted, in gigabytes of 10^9 bytes; 0 is not known.
func inGB(x float64) cell {
	return ifKnown(x != 0, strconv.FormatFloat(x, 'g', 4, 64)+" GB", number(x, 3))
}

// measuredGB is memory as it was measured or judged.
func measuredGB(x float64) cell { return cell{gb(x), []string{number(x, 3)}} }

// pixels is the size of a picture: two plain values.
func pixels(width, height int) cell {
	return cell{fmt.Sprintf("%d×%d", width, height), []string{strconv.Itoa(width), strconv.Itoa(height)}}
}

// peak is memory in gigabytes; 0 is not known.
func peak(x float64) cell {
	return ifKnown(x > 0, peakText(x), number(x, 3))
}

// likelihood is a chance, plainly from 0 to 1.
func likelihood(x float64) cell { return cell{forecast.Percent(x), []string{number(x, 4)}} }

// shareOf is a part of a whole, plainly from 0 to 1; 0 is not known.
func shareOf(x float64) cell {
	return ifKnown(x != 0, ratio(x), number(x, 4))
}

// factor is how many times as much; 0 is not known.
func factor(x float64) cell {
	return ifKnown(x != 0, times(x), number(x, 4))
}

// figureOf is a plain number with so many decimals for a person; 0 is not known.
func figureOf(x float64, decimals int) cell {
	return ifKnown(x != 0, number(x, decimals), strconv.FormatFloat(x, 'g', 8, 64))
}

// rate is a large number in thousands or millions; 0 is not known.
func rate(x float64) cell {
	return ifKnown(x != 0, quantity(x), strconv.FormatFloat(x, 'g', 8, 64))
}

// wait is how long a source lets wait: of several tiers from the shortest to the longest.
func wait(s api.Source, of func(api.Wait) float64) cell {
	x := cell{waitText(s, of), []string{"", ""}}
	for i, w := range s.Waits {
		v := of(w)
		if low, err := strconv.ParseFloat(x.plain[0], 64); i == 0 || err == nil && v < low {
			x.plain[0] = number(v, 0)
		}
		if high, err := strconv.ParseFloat(x.plain[1], 64); i == 0 || err == nil && v > high {
			x.plain[1] = number(v, 0)
		}
	}
	return x
}

var notPlain = regexp.MustCompile(`[^a-z0-9]+`)

// column is a column's heading for a person, and for a program one for each plain value of
// its cells. It is written "a frame|a_frame_s"; without a bar the second is made from the
// first.
func column(written string) (shown string, plain []string) {
	shown, list, given := strings.Cut(written, "|")
	if given {
		return shown, strings.Split(list, ",")
	}
	return shown, []string{strings.Trim(notPlain.ReplaceAllString(strings.ToLower(shown), "_"), "_")}
}
