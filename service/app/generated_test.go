package app

import (
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"pgregory.net/rapid"
)

// generator makes requests by the contract: most values as it wants them, some at its bounds, some beyond.
type generator struct {
	*rand.Rand
	known   map[string][]string // by what it is the name of: ids and names that there are
	hostile float64             // how probable a value is that nobody means well with
	fault   int                 // which value, counted, is one; 0: none by its place
	sparse  float64             // how probable it is that what may be left out is
}

func (g *generator) pick(all []string) string { return all[g.IntN(len(all))] }

func (g *generator) chance(p float64) bool { return g.Float64() < p }

// value is one for a schema. Name is what it is called, by which it may be of something that there is.
func (g *generator) value(name string, s *openapi3.Schema, depth int) any {
	if g.fault--; g.fault == 0 || g.chance(g.hostile) {
		return g.bad(s)
	}
	switch {
	case s.Type.Is("object"):
		return g.object(s, depth)
	case s.Type.Is("array"):
		return g.list(name, s, depth)
	case s.Type.Is("integer"):
		if n, err := strconv.Atoi(g.pick(append(g.known[name], ""))); err == nil && g.chance(0.9) {
			return n
		}
		return g.whole(s)
	case s.Type.Is("number"):
		return g.number(s)
	case s.Type.Is("boolean"):
		return g.chance(0.5)
	}
	return g.text(name, s)
}

// What nobody means well with, by what is wanted.
var (
	badNumbers = []any{-1, 0, 1.5, 1e308, -1e308, 5e-324, math.MaxInt64, math.MinInt64, 1 << 53, 1 << 31, 1<<31 - 1, 1 << 32, 1e19, -0.0000001, 1.0000001}
	badTexts   = []any{
		"", "\x00", "a\x00b", "../evil", "..", ".", "/etc/passwd", "a\nb", "\x1b[31mred", "=1+1", "Möwe 🦉", "\u202egnp", strings.Repeat("x", 600), strings.Repeat("9", 400), "1e308", "-1", "0",
		"NaN", "-Infinity", "1e400", "0x10", "9223372036854775808", "275760-09-13T00:00:00Z", "0000-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "2199-12-31T23:59:59.999999999Z", "'; --", "%00", "\\u0000", "\xff\xfe",
	}
	badOthers = []any{nil, true, []any{}, map[string]any{}, []any{[]any{[]any{}}}, map[string]any{"\x00": 1}}
)

// bad is what does not belong there, mostly of the kind that does.
func (g *generator) bad(s *openapi3.Schema) any {
	number := s.Type.Is("integer") || s.Type.Is("number")
	all := slices.Concat(badNumbers, badTexts, badOthers)
	switch {
	case g.chance(0.2):
	case number:
		all = badNumbers
	case s.Type.Is("string"):
		all = badTexts
	}
	return all[g.IntN(len(all))]
}

func (g *generator) object(s *openapi3.Schema, depth int) any {
	out := map[string]any{}
	required := map[string]bool{}
	for _, r := range s.Required {
		required[r] = !g.chance(g.hostile / 4)
	}
	for name, p := range s.Properties {
		if required[name] || depth < 4 && !g.chance(g.sparse) {
			out[name] = g.value(name, p.Value, depth+1)
		}
	}
	if more := s.AdditionalProperties.Schema; more != nil {
		for range g.IntN(4) {
			out[g.pick([]string{"samples", "gpu", "cpu", "load", "launcher", "a b", "ü", ""})] = g.value("", more.Value, depth+1)
		}
	} else if g.chance(g.hostile / 4) {
		out["nobody_knows"] = true
	}
	return out
}

func (g *generator) list(name string, s *openapi3.Schema, depth int) any {
	number := g.IntN(4)
	if s.MaxItems != nil {
		number = min(number, int(*s.MaxItems))
		if *s.MaxItems < 2000 && g.chance(g.hostile) {
			number = int(*s.MaxItems) + g.IntN(2)
		}
	}
	number = max(number, int(s.MinItems))
	out := make([]any, number)
	for i := range out {
		out[i] = g.value(strings.TrimSuffix(name, "s"), s.Items.Value, depth+1)
	}
	return out
}

// bounds of a number; what has none in the contract gets some.
func bounds(s *openapi3.Schema) (low, high float64) {
	low, high = -1000, 1000
	if s.Min != nil {
		low = *s.Min
	}
	if s.Max != nil {
		high = *s.Max
	}
	return low, high
}

func (g *generator) whole(s *openapi3.Schema) any {
	from, to := bounds(s)
	low, high := int64(from), int64(to)
	switch g.IntN(5) {
	case 0:
		return low
	case 1:
		return high
	case 2:
		return low + g.Int64N(min(high-low, 100)+1)
	}
	return low + g.Int64N(high-low+1)
}

func (g *generator) number(s *openapi3.Schema) any {
	low, high := bounds(s)
	switch g.IntN(5) {
	case 0:
		return low
	case 1:
		return high
	case 2:
		return math.Nextafter(low, high)
	}
	return low + g.Float64()*min(high-low, 100)
}

var patterned = map[string]*rapid.Generator[string]{}

func (g *generator) text(name string, s *openapi3.Schema) any {
	switch {
	case len(s.Enum) > 0:
		return s.Enum[g.IntN(len(s.Enum))]
	case s.Format == "uuid":
		if all := g.known[name]; len(all) > 0 && !g.chance(0.1) {
			return g.pick(all)
		}
		return fmt.Sprintf("%08x-0000-4000-8000-%012x", g.Uint32(), g.Uint32())
	case s.Format == "date-time":
		return time.Now().UTC().Add(time.Duration(g.IntN(200)-20) * time.Hour).Format(time.RFC3339)
	case s.Format == "date":
		return time.Now().UTC().Format(time.DateOnly)
	case name == "address":
		return g.pick([]string{"http://127.0.0.1:1", "https://127.0.0.1:1/a", "ssh://root@127.0.0.1:1", "ftp://x", "mailto:a@lanternfish.example", "a@lanternfish.example", "http://"})
	}
	if all := g.known[name]; len(all) > 0 && !g.chance(0.2) {
		return g.pick(all)
	}
	if s.Pattern != "" {
		if patterned[s.Pattern] == nil {
			patterned[s.Pattern] = rapid.StringMatching(regexp.MustCompile(s.Pattern).String())
		}
		return patterned[s.Pattern].Example(int(g.Uint32() >> 1))
	}
	length := g.IntN(12)
	if s.MaxLength != nil && *s.MaxLength < 20000 && g.chance(g.hostile) {
		length = int(*s.MaxLength) + g.IntN(2)
	}
	letters := []rune("abc012 -_./+=,;:\"'\\üß雪\t\x1b")
	out := make([]rune, max(length, int(s.MinLength)))
	for i := range out {
		out[i] = letters[g.IntN(len(letters))]
	}
	return string(out)
}

// csv is a file that is of a kind, mostly.
func (g *generator) csv(head string) string {
	var out strings.Builder
	if g.chance(g.hostile) {
		head = g.pick([]string{"", "shot", head + ",nobody", strings.Repeat("a,", 500), "\xff"})
	}
	out.WriteString(head + "\n")
	for range g.IntN(5) {
		var row []string
		for _, column := range strings.Split(head, ",") {
			cell := map[string][]string{
				"shot": g.known["shot"], "host": g.known["host"], "crew": {"g0", "g0", "g0", "g0", "cpu", "g0+cpu", "g9"}, "seconds": {"10", "12.5", "0.001", "2678400", "20", "30", "1e308", "-1", "NaN", "1e-300", "2678401"},
				"models": {"a", "a", "a", "a", "a+b", ""}, "frame": {"1", "2", "3", "-5", "", "9999999", "9007199254740993", "1.5"}, "warm_up": {"true", "false", ""},
				"date": {"2031-03-07", "2031-03-08", "2031-03-09", "2031-04-01", "0001-01-01", "9999-12-31", "20310307"}, "from": {"USD", "EUR"}, "to": {"EUR", "GBP"}, "rate": {"1.1", "0.9", "1", "0.000001", "1e300", "-1", strings.Repeat("9", 300), "0"},
			}[column]
			if len(cell) == 0 || g.chance(g.hostile) {
				cell = []string{"", "x", "\x00", "\"", "=1+1", strings.Repeat("y", 3000), "ü"}
			}
			if g.chance(0.95) { // the first of them are right
				cell = cell[:min(2, len(cell))]
			}
			row = append(row, g.pick(cell))
		}
		out.WriteString(strings.Join(row, ",") + "\n")
	}
	return out.String()
}
