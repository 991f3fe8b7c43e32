package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
)

func TestAPriceOfNothingIsAskedTwice(t *testing.T) {
	f := stockFile{
		Offers: []stock.Offer{{Name: "dear", PriceH: pricing.MustMoney("1.20")}, {Name: "once", Fee: pricing.MustMoney("5")}, {Name: "forgotten"}, {Name: "said", PriceH: pricing.MustMoney("0.00")}},
		Farms:  []stock.Farm{{Name: "by-frame", Work: pricing.Work{Frame: pricing.MustMoney("0.1")}}, {Name: "free"}},
	}
	assert.Equal(t, []string{"offer forgotten", "offer said", "farm free"}, f.costNothing())
	assert.Empty(t, stockFile{}.costNothing())
}
