package pricing_test

import (
	"bytes"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/pricing"
)

// amount draws money with up to six decimals.
func amount(t *rapid.T, name string) pricing.Money {
	text := fmt.Sprintf("%d.%06d", rapid.IntRange(0, 100_000).Draw(t, name), rapid.IntRange(0, 999_999).Draw(t, name+" decimals"))
	return pricing.MustMoney(text)
}

func TestMoneyIsWrittenAndReadAsItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := amount(t, "money")
		if rapid.Bool().Draw(t, "owed") {
			m = pricing.Money{}.Minus(m)
		}
		text, err := m.MarshalText()
		require.NoError(t, err)
		var again pricing.Money
		require.NoError(t, again.UnmarshalText(text))
		assert.Zero(t, m.Cmp(again), "%s", text)
		assert.GreaterOrEqual(t, len(text)-bytes.IndexByte(text, '.')-1, 2, "at least two decimals: %s", text)
	})
}

// Rounding half up, held against a well-known package, which rounds half away from zero:
// the two agree on what is not below zero.
func TestTotalsAreRoundedHalfUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := amount(t, "money")
		text, _ := m.MarshalText()
		assert.Equal(t, decimal.RequireFromString(string(text)).Round(2).StringFixed(2), m.String())
	})
	assert.Equal(t, "-0.01", pricing.MustMoney("-0.015").String(), "up is up, below zero as well")
	assert.Equal(t, "0.02", pricing.MustMoney("0.015").String())
}

// Rounded once: the sum of what is exact, not the sum of what was rounded.
func TestManySmallChargesAreNotRoundedOneByOne(t *testing.T) {
	var sum pricing.Money
	for range 1000 {
		sum = sum.Plus(pricing.PerHour(pricing.MustMoney("0.014"), time.Minute)) // a four-thousandth each
	}
	assert.Equal(t, "0.23", sum.String())
}

func TestBilledTimeIsWholeIncrementsAndNeverLess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ms := func(name string, most int) time.Duration {
			return time.Duration(rapid.IntRange(0, most).Draw(t, name)) * time.Millisecond
		}
		m := pricing.Meter{Price: amount(t, "price"), Fee: amount(t, "fee"), Increment: ms("increment", 7_200_000), Minimum: ms("minimum", 20_000_000)}
		d := ms("existed", 90_000_000)
		billed := m.Billed(d)
		assert.GreaterOrEqual(t, billed, d)
		assert.GreaterOrEqual(t, billed, m.Minimum)
		if billed > m.Minimum {
			step := max(m.Increment, time.Millisecond)
			assert.Zero(t, billed%step, "whole increments")
			assert.Less(t, billed-d, step, "and not one too many")
		}
		longer := d + ms("more", 1_000_000)
		assert.GreaterOrEqual(t, m.Charge(longer).Cmp(m.Charge(d)), 0, "longer never costs less")
		assert.Zero(t, m.Charge(d).Cmp(pricing.PerHour(m.Price, billed).Plus(m.Fee)))
	})
}

// There and back again is where one was, and a later rate does not change an earlier day.
func TestExchangeGoesBothWays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var rates pricing.Rates
		for i := range rapid.IntRange(1, 6).Draw(t, "rates") {
			rates = append(rates, pricing.Rate{Day: day("2031-03-01").AddDate(0, 0, 3*i), From: "GBP", To: "EUR", Rate: amount(t, "rate").Plus(pricing.MustMoney("0.01"))})
		}
		on := day("2031-03-01").AddDate(0, 0, rapid.IntRange(0, 30).Draw(t, "day"))
		there, err := rates.Factor("GBP", "EUR", on)
		require.NoError(t, err)
		back, err := rates.Factor("EUR", "GBP", on)
		require.NoError(t, err)
		assert.Zero(t, new(big.Rat).Mul(there, back).Cmp(big.NewRat(1, 1)))
		later := append(rates, pricing.Rate{Day: on.AddDate(0, 0, 1), From: "EUR", To: "GBP", Rate: pricing.MustMoney("7")})
		same, err := later.Factor("GBP", "EUR", on)
		require.NoError(t, err)
		assert.Zero(t, there.Cmp(same))
	})
}

func TestMoreWorkNeverCostsLessAndNeverUnderTheLeast(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := pricing.Work{NodeHour: amount(t, "node"), CoreGHzHour: amount(t, "core"), Frame: amount(t, "frame"), MinimumCharge: amount(t, "least")}
		cores, mhz := rapid.IntRange(1, 128).Draw(t, "cores"), rapid.IntRange(1000, 5000).Draw(t, "mhz")
		took, frames := time.Duration(rapid.IntRange(0, 100_000).Draw(t, "seconds"))*time.Second, rapid.IntRange(0, 500).Draw(t, "frames")
		charge := w.Charge(cores, mhz, took, frames)
		assert.GreaterOrEqual(t, charge.Cmp(w.MinimumCharge), 0)
		assert.GreaterOrEqual(t, w.Charge(cores, mhz, took+time.Minute, frames).Cmp(charge), 0)
		assert.GreaterOrEqual(t, w.Charge(cores, mhz, took, frames+1).Cmp(charge), 0)
	})
}

// A discount is never for less than was charged, and steps are taken in order.
func TestTheMoreWasChargedTheGreaterTheDiscount(t *testing.T) {
	card := pricing.RateCard{Currency: "EUR", Steps: []pricing.Step{
		{From: pricing.MustMoney("50"), Off: pricing.MustShare("0.05")}, {From: pricing.MustMoney("200"), Off: pricing.MustShare("0.10")},
	}}
	rapid.Check(t, func(t *rapid.T) {
		a, b := amount(t, "one"), amount(t, "other")
		if a.Cmp(b) > 0 {
			a, b = b, a
		}
		assert.LessOrEqual(t, card.Discount(a).Rat().Cmp(card.Discount(b).Rat()), 0)
		factor, err := card.Factor("EUR", nil, time.Time{}, b)
		require.NoError(t, err)
		assert.LessOrEqual(t, factor.Cmp(big.NewRat(1, 1)), 0)
	})
}

// Whatever the file is, it is read whole or not at all, and what was read can be used.
func FuzzRates(f *testing.F) {
	f.Add("date,from,to,rate\n2031-03-07,GBP,EUR,1.18\n")
	f.Add("date,from,to,rate\n2031-03-07,GBP,EUR,1e3\n2031-03-08,EUR,GBP,0.000001\n")
	f.Add("date,from,to,rate\n\"2031-03-07\",GBP,EUR,\n")
	f.Fuzz(func(t *testing.T, text string) {
		rates, err := pricing.ParseRates(strings.NewReader(text))
		if err != nil {
			assert.Empty(t, rates)
			return
		}
		for _, r := range rates {
			factor, err := rates.Factor(r.From, r.To, r.Day)
			require.NoError(t, err)
			assert.Positive(t, factor.Sign())
		}
	})
}

func FuzzMoney(f *testing.F) {
	for _, text := range []string{"184.20", "-0.015", "1e3", "", "1,5", ".5", "0x10", "9999999999999999999999999999999"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, err := pricing.ParseMoney(text)
		if err != nil {
			assert.ErrorContains(t, err, "money")
			return
		}
		again, err := m.MarshalText()
		require.NoError(t, err)
		same, err := pricing.ParseMoney(string(again))
		require.NoError(t, err, "%q became %q", text, again)
		assert.Zero(t, m.Cmp(same))
	})
}
