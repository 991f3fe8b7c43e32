package pricing_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/pricing"
)

func TestMoneyIsExactAndRoundsHalfUpOnce(t *testing.T) {
	for text, want := range map[string]string{
		"0.005": "0.01", "0.0049": "0.00", "1.995": "2.00", "184.2": "184.20", "-0.005": "0.00", "12": "12.00",
	} {
		m, err := pricing.ParseMoney(text)
		require.NoError(t, err)
		assert.Equal(t, want, m.String(), text)
	}
	third := pricing.PerHour(pricing.MustMoney("1"), 20*time.Minute)
	assert.Equal(t, "1.00", third.Times(3).String(), "three thirds are whole again")
	assert.Zero(t, third.Times(3).Cmp(pricing.MustMoney("1")))
	for _, bad := range []string{"", "1,20", "eur 3", "1e99", "NaN"} {
		_, err := pricing.ParseMoney(bad)
		assert.Error(t, err, bad)
	}
}

func TestMeter(t *testing.T) {
	m := pricing.Meter{Price: pricing.MustMoney("8.20"), Fee: pricing.MustMoney("1.50"), Increment: time.Hour, Minimum: 3 * time.Hour}
	assert.Equal(t, 3*time.Hour, m.Billed(15*time.Minute), "fifteen minutes pay three hours")
	assert.Equal(t, "26.10", m.Charge(15*time.Minute).String())
	assert.Equal(t, 4*time.Hour, m.Billed(3*time.Hour+time.Millisecond))
	assert.Equal(t, 4*time.Hour, m.Billed(4*time.Hour))
}

func TestMeterNeverBillsLessThanUsed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := pricing.Meter{
			Price:     pricing.MustMoney("0.86"),
			Increment: time.Duration(rapid.IntRange(0, 7200).Draw(t, "increment")) * time.Second,
			Minimum:   time.Duration(rapid.IntRange(0, 10800).Draw(t, "minimum")) * time.Second,
		}
		used := time.Duration(rapid.Int64Range(1, 1e8).Draw(t, "used")) * time.Millisecond
		more := used + time.Duration(rapid.Int64Range(0, 1e6).Draw(t, "more"))*time.Millisecond
		assert.GreaterOrEqual(t, m.Billed(used), used)
		assert.LessOrEqual(t, m.Billed(used), m.Billed(more))
	})
}

func TestMoneyIsWrittenWithAllItsDecimals(t *testing.T) {
	for text, want := range map[string]string{"184.2": "184.20", "0.1234": "0.1234", "0.117000": "0.117", "12.340": "12.34"} {
		out, err := pricing.MustMoney(text).MarshalText()
		assert.NoError(t, err)
		assert.Equal(t, want, string(out))
	}
}
