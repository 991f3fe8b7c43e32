package ledger_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
)

var friday = time.Date(2026, 11, 20, 18, 0, 0, 0, time.UTC)

func TestExtraSeatsArePaidByTheDayThatIsBegun(t *testing.T) {
	h := ledger.Hired{Pool: "fathom", Seats: 2, Price: pricing.MustMoney("24.50"), From: friday, Days: 3, Until: friday.Add(25 * time.Hour)}
	all := h.Entries()
	assert.Len(t, all, 3)
	assert.Equal(t, []string{"2 extra seats for a day", "2 extra seats for a day", "2 extra seats for a day, not begun"}, []string{all[0].Why, all[1].Why, all[2].Why})
	assert.Equal(t, "2026-11-21", all[1].Day.Format(time.DateOnly))
	estimated, charged := ledger.Total(all)
	assert.Equal(t, "147.00 98.00", estimated.String()+" "+charged.String())

	h.Days, h.Seats = 1, 1
	all = h.Entries()
	assert.Equal(t, "an extra seat for a day; the run went on for longer than planned", all[1].Why)
}

func TestHiredSeatsAddUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := ledger.Hired{
			Seats: rapid.IntRange(1, 9).Draw(t, "seats"), Price: pricing.MustMoney("0.07"), From: friday, Days: rapid.IntRange(1, 9).Draw(t, "days"),
			Until: friday.Add(time.Duration(rapid.IntRange(0, 20*24*60).Draw(t, "minutes")) * time.Minute),
		}
		estimated, charged := ledger.Total(h.Entries())
		assert.Zero(t, estimated.Cmp(h.Price.Times(int64(h.Seats*h.Days))))
		begun := int64(1)
		for at := friday.Add(24 * time.Hour); at.Before(h.Until); at = at.Add(24 * time.Hour) {
			begun++
		}
		assert.Zero(t, charged.Cmp(h.Price.Times(begun*int64(h.Seats))))
	})
}
