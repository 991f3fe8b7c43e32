package sources_test

import (
	"fmt"
	"math/big"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/service/clock"
	"rotanex.example/service/sources"
	"rotanex.example/service/testdb"
)

// Charges are entered once each, one after another: the discount that an amount earns
// holds for the next, however many come at once.
func TestChargesThatComeTogetherEarnTheirDiscountInTurn(t *testing.T) {
	s := testdb.Open(t)
	c := clock.Wall()
	all, err := sources.New(s, c, sources.Config{Currency: "EUR", Key: make([]byte, 32)})
	require.NoError(t, err)
	require.NoError(t, all.Put(t.Context(), stock.Source{Name: "tern", Kind: stock.RentedSource, Card: pricing.RateCard{
		Currency: "EUR", Tax: pricing.MustShare("0.20"), Steps: []pricing.Step{{From: pricing.MustMoney("50"), Off: pricing.MustShare("0.10")}},
	}}, nil))
	var group sync.WaitGroup
	for i := range 20 {
		for range 2 { // each is entered twice
			group.Go(func() {
				err := s.WithContext(t.Context()).Transaction(func(tx *gorm.DB) error {
					_, err := all.Enter(tx, sources.Charge{Source: "tern", Place: fmt.Sprint("server-", i), Metered: 3600, Amount: pricing.MustMoney("5.00")})
					return err
				})
				assert.NoError(t, err)
			})
		}
	}
	group.Wait()
	charged, err := all.Charged(t.Context(), "tern")
	require.NoError(t, err)
	assert.Equal(t, "100.00", charged.String(), "twenty charges of five, each once")
	var full, less int
	require.NoError(t, s.Raw("SELECT count(*) FILTER (WHERE cost = 6), count(*) FILTER (WHERE cost = 5.4) FROM charges").Row().Scan(&full, &less))
	assert.Equal(t, []int{10, 10}, []int{full, less}, "the first fifty without, the rest with a tenth off, tax on all")
	factor, err := all.Factor(t.Context(), "tern")
	require.NoError(t, err)
	assert.Zero(t, factor.Cmp(big.NewRat(108, 100)))
}

func TestAnUnknownSourceBillsInTheServicesCurrency(t *testing.T) {
	s := testdb.Open(t)
	c := clock.Wall()
	all, err := sources.New(s, c, sources.Config{Currency: "EUR", Key: make([]byte, 32)})
	require.NoError(t, err)
	factor, err := all.Factor(t.Context(), "attic")
	require.NoError(t, err)
	assert.Zero(t, factor.Cmp(big.NewRat(1, 1)))
	_, err = all.Servers(t.Context(), "attic")
	assert.ErrorContains(t, err, "there is no way to attic")
	_, err = sources.New(s, c, sources.Config{Key: []byte("short")})
	assert.ErrorContains(t, err, "the key for secrets")
	waits, err := all.Waits(t.Context())
	require.NoError(t, err)
	assert.Empty(t, waits)
}
