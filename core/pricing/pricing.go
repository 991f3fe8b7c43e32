// Package pricing holds money, exact to the last fraction, and the rules by
// which a source bills time and work.
//
// Amounts are exact rational numbers while they are added up and are rounded
// once, half up, to a hundredth of the currency, when they are shown or stored
// as a total. They are never floating point.
package pricing

import (
	"fmt"
	"math/big"
	"time"

	"github.com/shopspring/decimal"
)

// Money is an exact amount in some currency that the caller keeps. The zero
// value is nothing. Money is immutable.
type Money struct {
	amount *big.Rat
}

// What an amount may be as it is read: more than any budget, finer than any price.
const mostWhole, mostDecimals = 18, 12

// ParseMoney reads a decimal such as "184.20".
func ParseMoney(text string) (Money, error) {
	d, err := decimal.NewFromString(text)
	if err != nil {
		return Money{}, fmt.Errorf("money %q: not a decimal such as 184.20", text)
	}
	if whole := d.NumDigits() + int(d.Exponent()); d.Exponent() < -mostDecimals || whole > mostWhole {
		return Money{}, fmt.Errorf("money %q: at most %d digits before the point and %d after it", text, mostWhole, mostDecimals)
	}
	return Money{d.Rat()}, nil
}

// MustMoney is ParseMoney for constants; it panics on bad text.
func MustMoney(text string) Money {
	m, err := ParseMoney(text)
	if err != nil {
		panic(err)
	}
	return m
}

// FromRat returns the exact amount r.
func FromRat(r *big.Rat) Money { return Money{new(big.Rat).Set(r)} }

// Rat returns the exact amount.
func (m Money) Rat() *big.Rat {
	if m.amount == nil {
		return new(big.Rat)
	}
	return new(big.Rat).Set(m.amount)
}

// Plus returns m + n.
func (m Money) Plus(n Money) Money { return Money{new(big.Rat).Add(m.Rat(), n.Rat())} }

// Minus returns m - n.
func (m Money) Minus(n Money) Money { return Money{new(big.Rat).Sub(m.Rat(), n.Rat())} }

// Times returns m times a whole number.
func (m Money) Times(n int64) Money {
	return Money{new(big.Rat).Mul(m.Rat(), new(big.Rat).SetInt64(n))}
}

// Cmp returns -1, 0 or 1 as m is less than, equal to or more than n, exactly.
func (m Money) Cmp(n Money) int { return m.Rat().Cmp(n.Rat()) }

// Max returns the larger of the two.
func (m Money) Max(n Money) Money {
	if m.Cmp(n) < 0 {
		return n
	}
	return m
}

// IsZero reports whether there is none of it.
func (m Money) IsZero() bool { return m.Rat().Sign() == 0 }

// Float returns the amount for a search or a chart, where a rounding error does
// no harm. Nothing that is shown as money comes from it.
func (m Money) Float() float64 {
	f, _ := m.Rat().Float64()
	return f
}

// Rounded returns the amount rounded half up to hundredths.
func (m Money) Rounded() Money {
	scaled := new(big.Rat).Mul(m.Rat(), big.NewRat(100, 1))
	scaled.Add(scaled, big.NewRat(1, 2))
	return Money{new(big.Rat).SetFrac(floor(scaled), big.NewInt(100))}
}

func floor(r *big.Rat) *big.Int {
	// Div is Euclidean, which is floor for a positive denominator.
	return new(big.Int).Div(r.Num(), r.Denom())
}

// String prints the amount rounded half up, with two decimals: "184.20".
func (m Money) String() string { return m.Rounded().Rat().FloatString(2) }

// MarshalText writes the amount with as many decimals as it has, at least two. One
// that has no end, or more than twelve, is rounded to twelve.
func (m Money) MarshalText() ([]byte, error) {
	text := m.Rat().FloatString(12)
	for len(text) > 0 && text[len(text)-1] == '0' && text[len(text)-3] != '.' {
		text = text[:len(text)-1]
	}
	return []byte(text), nil
}

// UnmarshalText reads a decimal.
func (m *Money) UnmarshalText(text []byte) (err error) {
	*m, err = ParseMoney(string(text))
	return err
}

// PerHour returns what d costs at a price per hour, exact to the millisecond.
func PerHour(price Money, d time.Duration) Money {
	return Money{new(big.Rat).Mul(price.Rat(), big.NewRat(d.Milliseconds(), time.Hour.Milliseconds()))}
}

// Meter says how a rented server's time becomes billed time.
type Meter struct {
	Price     Money         // per billed hour
	Fee       Money         // once for each server
	Increment time.Duration // billed time is a whole number of these; 0 is one millisecond
	Minimum   time.Duration // the least that is billed
}

// Billed returns the time charged for a server that existed for d.
func (m Meter) Billed(d time.Duration) time.Duration {
	step := max(m.Increment, time.Millisecond)
	return max(m.Minimum, (d+step-1)/step*step)
}

// Charge returns what a server that existed for d costs.
func (m Meter) Charge(d time.Duration) Money { return PerHour(m.Price, m.Billed(d)).Plus(m.Fee) }
