package questions

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Where the chance that is wanted cannot be had, and money can be spent on the way, more is planned for only as far as
// the chance is worth it.
func TestAPlanThatIsNotSureEnoughIsNoDearerThanItsChanceIsWorth(t *testing.T) {
	t.Parallel()
	of := func(chance, expected float64) Confident { return Confident{Chance: chance, expected: expected} }
	assert.True(t, of(0.86, 5.9).surer(of(0.8, 5), 20), "six points of EUR 20 are EUR 1.20")
	assert.False(t, of(0.86, 6.3).surer(of(0.8, 5), 20))
	assert.False(t, of(0.82, 5).surer(of(0.8, 5), 20), "by luck")
	assert.True(t, of(0.86, 90).surer(of(0.8, 5), 0), "nothing can be spent on the way: the surest is made")
}
