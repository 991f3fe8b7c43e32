package pricing

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Share is a part of a whole, exact, such as a tax of "0.23".
type Share struct{ part Money }

// MustShare is for constants; it panics on bad text.
func MustShare(text string) Share { return Share{MustMoney(text)} }

// Rat returns the share as a number.
func (s Share) Rat() *big.Rat { return s.part.Rat() }

// Of returns the share of an amount.
func (s Share) Of(m Money) Money { return m.Scaled(s.Rat()) }

// IsZero reports whether it is nothing.
func (s Share) IsZero() bool { return s.part.IsZero() }

// MarshalText writes a decimal such as "0.23".
func (s Share) MarshalText() ([]byte, error) { return s.part.MarshalText() }

// UnmarshalText reads a decimal such as "0.23".
func (s *Share) UnmarshalText(text []byte) error { return s.part.UnmarshalText(text) }

// Scaled returns m times a number, exactly.
func (m Money) Scaled(by *big.Rat) Money { return Money{new(big.Rat).Mul(m.Rat(), by)} }

// EachOf is what each of so many frames costs of the amount, to a hundredth of a cent: one may cost less than that.
func (m Money) EachOf(n int) string { return m.Scaled(big.NewRat(1, int64(n))).Rat().FloatString(4) }

// RateCard is in what a source's prices are and what comes on top of them. The
// prices themselves are with what they are for: a meter, a farm's work.
type RateCard struct {
	// Currency of the prices: a code of ISO 4217 such as EUR, or where the source sells
	// credits, what it calls them.
	Currency string `json:"currency" yaml:"currency"`
	// Credit is what one credit costs; nil where prices are in a currency.
	Credit *Credit `json:"credit,omitempty" yaml:"credit,omitempty"`
	// Tax is added to every charge.
	Tax Share `json:"tax,omitzero" yaml:"tax,omitempty"`
	// Steps are volume discounts: what was charged there before decides which holds
	// for the whole of the next charge.
	Steps []Step `json:"steps,omitempty" yaml:"steps,omitempty"`
}

// Credit is what one credit costs.
type Credit struct {
	Price    Money  `json:"price" yaml:"price"`
	Currency string `json:"currency" yaml:"currency"`
}

// Step is a discount from a volume on: an amount charged before, in the card's
// currency, discounts taken off and tax not counted.
type Step struct {
	From Money `json:"from" yaml:"from"`
	Off  Share `json:"off" yaml:"off"`
}

var codeForm = regexp.MustCompile(`^[A-Z]{3}$`)

// ValidCurrency says what is wrong with a currency's code, or nil.
func ValidCurrency(code string) error {
	if !codeForm.MatchString(code) {
		return fmt.Errorf("currency %q: want a code of three capital letters (ISO 4217), such as EUR", code)
	}
	return nil
}

// Validate says what is wrong with the card, all of it, or nil.
func (c RateCard) Validate() error {
	var faults []error
	if c.Credit == nil {
		faults = append(faults, ValidCurrency(c.Currency))
	} else {
		faults = append(faults, ValidCurrency(c.Credit.Currency))
		if c.Currency == "" {
			faults = append(faults, errors.New("currency is missing: want what the source calls its credits"))
		}
		if c.Credit.Price.Cmp(Money{}) <= 0 {
			faults = append(faults, fmt.Errorf("credit.price %s: want above 0", c.Credit.Price))
		}
	}
	one := big.NewRat(1, 1)
	if t := c.Tax.Rat(); t.Sign() < 0 || t.Cmp(one) > 0 {
		faults = append(faults, fmt.Errorf("tax %s: want a rate from 0 to 1, such as 0.23", t.FloatString(4)))
	}
	for i, s := range c.Steps {
		if o := s.Off.Rat(); o.Sign() < 0 || o.Cmp(one) > 0 {
			faults = append(faults, fmt.Errorf("steps[%d].off %s: want a rate from 0 to 1, such as 0.10", i, o.FloatString(4)))
		}
		if i > 0 && s.From.Cmp(c.Steps[i-1].From) <= 0 {
			faults = append(faults, fmt.Errorf("steps[%d].from %s: want them in rising order", i, s.From))
		}
	}
	return errors.Join(faults...)
}

// Discount returns the discount that holds after the source charged an amount.
func (c RateCard) Discount(before Money) Share {
	var out Share
	for _, s := range c.Steps {
		if before.Cmp(s.From) >= 0 {
			out = s.Off
		}
	}
	return out
}

// Factor returns what one unit of the card's prices comes to in a currency on a day,
// the discount after what was charged before taken off and tax added. It is exact:
// amounts are multiplied by it and rounded once, when they are shown.
func (c RateCard) Factor(to string, rates Rates, day time.Time, before Money) (*big.Rat, error) {
	one := big.NewRat(1, 1)
	out, from := big.NewRat(1, 1), c.Currency
	if c.Credit != nil {
		out, from = c.Credit.Price.Rat(), c.Credit.Currency
	}
	if from == "" {
		from = to
	}
	exchange, err := rates.Factor(from, to, day)
	if err != nil {
		return nil, err
	}
	out.Mul(out, exchange)
	out.Mul(out, new(big.Rat).Sub(one, c.Discount(before).Rat()))
	return out.Mul(out, new(big.Rat).Add(one, c.Tax.Rat())), nil
}

// Rate is what one unit of a currency was worth in another from a day on.
type Rate struct {
	Day  time.Time // midnight UTC
	From string
	To   string
	Rate Money
}

// Rates are exchange rates that the user gave.
type Rates []Rate

// Factor returns what one unit of a currency is worth in another on a day: by the
// last rate given on or before it, in either direction.
func (r Rates) Factor(from, to string, day time.Time) (*big.Rat, error) {
	if from == to {
		return big.NewRat(1, 1), nil
	}
	var best *Rate
	for i := range r {
		x := &r[i]
		fits := x.From == from && x.To == to || x.From == to && x.To == from
		if fits && !x.Day.After(day) && (best == nil || x.Day.After(best.Day)) {
			best = x
		}
	}
	if best == nil {
		return nil, fmt.Errorf("there is no exchange rate from %s to %s on or before %s: import one with rotanex exchange-rates import FILE.csv", from, to, day.UTC().Format(time.DateOnly))
	}
	out := best.Rate.Rat()
	if best.From != from {
		out.Inv(out)
	}
	return out, nil
}

// ratesHeader is the first line of a file of exchange rates.
var ratesHeader = []string{"date", "from", "to", "rate"}

// ParseRates reads a CSV file of exchange rates: date,from,to,rate with dates such
// as 2031-03-07 and rates as decimals, one unit of from being worth rate units of to.
func ParseRates(file io.Reader) (Rates, error) {
	reader := csv.NewReader(file)
	rows, err := reader.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("exchange rates: %w", err)
	}
	if len(rows) == 0 || !slices.Equal(rows[0], ratesHeader) {
		return nil, fmt.Errorf("exchange rates: the first line must be %s", strings.Join(ratesHeader, ","))
	}
	var out Rates
	seen := map[string]int{}
	for i, row := range rows[1:] {
		line := i + 2
		day, err := time.Parse(time.DateOnly, row[0])
		if err != nil {
			return nil, fmt.Errorf("line %d: date %q: want one such as 2031-03-07", line, row[0])
		}
		for _, code := range row[1:3] {
			if err := ValidCurrency(code); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
		}
		rate, err := ParseMoney(row[3])
		if err != nil || rate.Cmp(Money{}) <= 0 || row[1] == row[2] {
			return nil, fmt.Errorf("line %d: rate %q from %s to %s: want a decimal above 0 between two currencies", line, row[3], row[1], row[2])
		}
		key := strings.Join(row[:3], " ")
		if before := seen[key]; before > 0 {
			return nil, fmt.Errorf("line %d: %s is given on line %d already", line, key, before)
		}
		seen[key] = line
		out = append(out, Rate{day, row[1], row[2], rate})
	}
	slices.SortFunc(out, func(a, b Rate) int {
		return cmp.Or(a.Day.Compare(b.Day), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return out, nil
}

// Work is how a farm bills: for the time of its nodes or of their processors, for
// frames, or both, and never less than a minimum charge for a job.
type Work struct {
	NodeHour      Money `json:"node_hour,omitzero" yaml:"node_hour,omitempty"`
	CoreGHzHour   Money `json:"core_ghz_hour,omitzero" yaml:"core_ghz_hour,omitempty"`
	Frame         Money `json:"frame,omitzero" yaml:"frame,omitempty"`
	MinimumCharge Money `json:"minimum_charge,omitzero" yaml:"minimum_charge,omitempty"`
}

// Hour returns what an hour of a node with so many cores of so many megahertz costs.
func (w Work) Hour(cores, mhz int) Money {
	return w.NodeHour.Plus(w.CoreGHzHour.Scaled(big.NewRat(int64(cores)*int64(mhz), 1000)))
}

// Charge returns what a job costs that took so much time of such nodes for so many
// frames that are charged.
func (w Work) Charge(cores, mhz int, nodeTime time.Duration, frames int) Money {
	return PerHour(w.Hour(cores, mhz), nodeTime).Plus(w.Frame.Times(int64(frames))).Max(w.MinimumCharge)
}
