package pricing_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/pricing"
)

func day(text string) time.Time {
	t, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return t
}

func TestTheLastRateOnOrBeforeADayHolds(t *testing.T) {
	rates, err := pricing.ParseRates(strings.NewReader("date,from,to,rate\n2031-03-07,GBP,EUR,1.18\n2031-02-28,GBP,EUR,1.17\n2031-02-28,EUR,NOK,11.50\n"))
	require.NoError(t, err)
	for _, x := range []struct{ on, from, to, want string }{
		{"2031-03-06", "GBP", "EUR", "1.1700"},
		{"2031-03-07", "GBP", "EUR", "1.1800"},
		{"2032-01-01", "GBP", "EUR", "1.1800"},
		{"2031-03-01", "NOK", "EUR", "0.0870"},
		{"2000-01-01", "EUR", "EUR", "1.0000"},
	} {
		got, err := rates.Factor(x.from, x.to, day(x.on))
		require.NoError(t, err)
		assert.Equal(t, x.want, got.FloatString(4), "%+v", x)
	}
	_, err = rates.Factor("GBP", "EUR", day("2031-02-27"))
	assert.ErrorContains(t, err, "no exchange rate from GBP to EUR on or before 2031-02-27")
	_, err = rates.Factor("GBP", "NOK", day("2031-03-07"))
	assert.Error(t, err, "not through a third currency")
	for _, bad := range []string{
		"day,from,to,rate\n", "date,from,to,rate\n7.3.2031,GBP,EUR,1\n", "date,from,to,rate\n2031-03-07,gbp,EUR,1\n", "date,from,to,rate\n2031-03-07,GBP,EUR,-1\n",
		"date,from,to,rate\n2031-03-07,GBP,EUR,1\n2031-03-07,GBP,EUR,2\n", "date,from,to,rate\n2031-03-07,GBP,GBP,1\n", "date,from,to,rate\n2031-03-07,GBP\n",
	} {
		_, err := pricing.ParseRates(strings.NewReader(bad))
		assert.Error(t, err, bad)
	}
}

func TestACardsFactorIsCreditExchangeDiscountAndTax(t *testing.T) {
	rates := pricing.Rates{{Day: day("2031-01-01"), From: "GBP", To: "EUR", Rate: pricing.MustMoney("1.2")}}
	card := pricing.RateCard{
		Currency: "credits", Credit: &pricing.Credit{Price: pricing.MustMoney("0.05"), Currency: "GBP"}, Tax: pricing.MustShare("0.20"),
		Steps: []pricing.Step{{From: pricing.MustMoney("1000"), Off: pricing.MustShare("0.10")}, {From: pricing.MustMoney("5000"), Off: pricing.MustShare("0.25")}},
	}
	require.NoError(t, card.Validate())
	for before, want := range map[string]string{"0": "0.072000", "999.99": "0.072000", "1000": "0.064800", "7000": "0.054000"} {
		got, err := card.Factor("EUR", rates, day("2031-03-07"), pricing.MustMoney(before))
		require.NoError(t, err)
		assert.Equal(t, want, got.FloatString(6), "after %s credits", before)
	}
	for name, bad := range map[string]pricing.RateCard{
		"currency": {Currency: "crowns"}, "tax": {Currency: "EUR", Tax: pricing.MustShare("23")}, "credit": {Currency: "credits", Credit: &pricing.Credit{Currency: "EUR"}},
		"steps": {Currency: "EUR", Steps: []pricing.Step{{From: pricing.MustMoney("9")}, {From: pricing.MustMoney("8")}}},
	} {
		assert.ErrorContains(t, bad.Validate(), name)
	}
}

func TestAFarmBillsByCoreAndGigahertz(t *testing.T) {
	w := pricing.Work{CoreGHzHour: pricing.MustMoney("0.045"), Frame: pricing.MustMoney("0.01"), MinimumCharge: pricing.MustMoney("2")}
	assert.Equal(t, "7.78", w.Hour(64, 2700).String())
	assert.Equal(t, "15.65", w.Charge(64, 2700, 2*time.Hour, 10).String())
	assert.Equal(t, "2.00", w.Charge(64, 2700, time.Minute, 1).String(), "at the least")
}
