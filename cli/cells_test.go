package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"rotanex.example/api"
)

// What a person reads as "3 min 14 s" or "EUR 1.90" is plain for a program: numbers in the
// unit that the heading names, times as RFC 3339 in UTC, the amount apart from its currency.
func TestWhatAProgramReadsIsPlain(t *testing.T) {
	when := time.Date(2031, 3, 8, 2, 3, 4, 0, time.FixedZone("", 3600))
	for _, c := range []struct {
		shown any
		text  string
		plain []string
	}{
		{inSeconds(194.25), "3 min 14 s", []string{"194.250"}},
		{inSeconds(0), "—", []string{""}},
		{between(9, 130), "9.00 s – 2 min 10 s", []string{"9.000", "130.000"}},
		{amount("EUR", "1.90"), "EUR 1.90", []string{"1.90", "EUR"}},
		{amount("EUR", ""), "—", []string{"", ""}},
		{bare("EUR", "1.90"), "1.90", []string{"1.90", "EUR"}},
		{at(time.Time{}), "—", []string{""}},
		{inBytes(24_400_000_000), "24.4 GB", []string{"24400000000"}},
		{measuredGB(0), "0.0 GB", []string{"0.000"}},
		{inGB(12), "12 GB", []string{"12.000"}},
		{pixels(640, 360), "640×360", []string{"640", "360"}},
		{likelihood(0.955), "96 %", []string{"0.9550"}},
		{likelihood(1), "over 99 %", []string{"1.0000"}},
		{shareOf(0.5), "50 %", []string{"0.5000"}},
		{factor(2.5), "2.50×", []string{"2.5000"}},
		{rate(12_000), "12.0 k", []string{"12000"}},
		{figureOf(18.666, 1), "18.7", []string{"18.666"}},
		{wait(api.Source{Waits: []api.Wait{{TypicalS: 900}, {TypicalS: 300}}}, func(w api.Wait) float64 { return w.TypicalS }), "5 min 00 s to 15 min 00 s", []string{"300", "900"}},
		{none, "—", []string{""}},
		{7, "7", []string{"7"}},
		{"coda-060", "coda-060", []string{"coda-060"}},
	} {
		x := cellOf(c.shown)
		assert.Equal(t, c.text, x.text)
		assert.Equal(t, c.plain, x.plain, c.text)
	}
	assert.Equal(t, []string{"2031-03-08T01:03:04Z"}, at(when).plain)
	assert.Equal(t, atDay(when).plain, atMinute(when).plain)
}

// The headings are the same whether there are rows or not, and one for each value.
func TestAColumnsHeadings(t *testing.T) {
	l := listing{columns: []string{"shot", "a frame|a_frame_s", "90 % interval|low_s,high_s", "cost|cost,currency", "in time"}}
	heads := []string{"shot", "a_frame_s", "low_s", "high_s", "cost", "currency", "in_time"}
	assert.Equal(t, [][]string{heads}, l.plainly())
	l.add("coda-060", inSeconds(1), between(0.5, 2), amount("EUR", "0.10"), none)
	assert.Equal(t, [][]string{heads, {"coda-060", "1.000", "0.500", "2.000", "0.10", "EUR", ""}}, l.plainly())
}

// texts are the cells of a listing as a person reads them.
func (l listing) texts() [][]string {
	var out [][]string
	for _, r := range l.rows {
		var row []string
		for _, c := range r {
			row = append(row, c.text)
		}
		out = append(out, row)
	}
	return out
}
