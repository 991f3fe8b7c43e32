package desks_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/desks"
	"rotanex.example/core/stock"
)

var seven = time.Date(2031, 3, 7, 19, 0, 0, 0, time.UTC)

func window(from, to time.Duration) stock.Window {
	return stock.Window{Start: seven.Add(from), End: seven.Add(to)}
}

// A desk that is taken back for an hour each evening is counted on for the rest of it.
func Example() {
	open := []stock.Window{window(-24*time.Hour, -11*time.Hour)}
	uses := []desks.Use{{Began: seven.Add(-20 * time.Hour), Ended: seven.Add(-19 * time.Hour)}, {Began: seven.Add(-17 * time.Hour), Ended: seven.Add(-14 * time.Hour)}}
	h := desks.Learn(uses, open)
	fmt.Printf("taken back %d times, every %.1f h for %.1f h: lent for %.0f %%\n", h.Taken, h.Every.Hours(), h.For.Hours(), 100*h.Share())
	for _, w := range h.Bookable([]stock.Window{window(0, 13*time.Hour)}, []time.Time{seven.Add(5 * time.Hour)}) {
		fmt.Println(w.Start.Format("15:04"), "to", w.End.Format("15:04"))
	}
	// Output:
	// taken back 2 times, every 5.7 h for 1.7 h: lent for 77 %
	// 19:00 to 22:51
	// 00:00 to 06:10
}

func TestUsesOutsideItsHoursSayNothing(t *testing.T) {
	t.Parallel()
	nothing := desks.Learn(nil, nil)
	assert.Equal(t, desks.Habits{Every: desks.DefaultEvery, For: desks.DefaultFor}, nothing)
	open := []stock.Window{window(0, 10*time.Hour)}
	h := desks.Learn([]desks.Use{{Began: seven.Add(-5 * time.Hour), Ended: seven}, {Began: seven.Add(11 * time.Hour), Ended: seven.Add(12 * time.Hour)}}, open)
	assert.Zero(t, h.Taken)
	assert.Equal(t, 18*time.Hour, h.Every, "it was lent all the time")
	h = desks.Learn([]desks.Use{{Began: seven.Add(-time.Hour), Ended: seven.Add(3 * time.Hour)}}, open)
	assert.Equal(t, desks.Habits{Taken: 1, Every: 7*time.Hour + 30*time.Minute, For: 2 * time.Hour}, h, "only what lay inside counts")
}

func TestWhatIsLentByHandIsOpen(t *testing.T) {
	t.Parallel()
	hours := []stock.Window{window(2*time.Hour, 10*time.Hour), window(26*time.Hour, 30*time.Hour)}
	assert.Equal(t, []stock.Window{window(0, time.Hour), hours[0], hours[1]}, desks.Lent(hours, seven, time.Time{}))
	assert.Equal(t, []stock.Window{window(0, 10*time.Hour), hours[1]}, desks.Lent(hours, seven, seven.Add(2*time.Hour)))
	assert.Equal(t, hours, desks.Lent(hours, seven, seven.Add(-time.Hour)), "that is over")
	assert.Equal(t, []stock.Window{window(0, 40*time.Hour)}, desks.Lent(hours, seven, seven.Add(40*time.Hour)))
	assert.Equal(t, []stock.Window{window(3*time.Hour, 10*time.Hour), hours[1]}, desks.From(hours, seven.Add(3*time.Hour)))
	assert.Empty(t, desks.From(hours, seven.Add(30*time.Hour)))
}

// Whatever its habits and hours: what may be booked lies inside the hours, in order, and a
// stretch before each deadline is free.
func TestTheLastFramesBeforeADeadlineNeverRestOnADesk(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		minutes := func(low, high int, what string) time.Duration {
			return time.Duration(rapid.IntRange(low, high).Draw(t, what)) * time.Minute
		}
		var open []stock.Window
		at := time.Duration(0)
		for range rapid.IntRange(1, 4).Draw(t, "windows") {
			from := at + minutes(1, 600, "closed")
			at = from + minutes(1, 900, "open")
			open = append(open, window(from, at))
		}
		var uses []desks.Use
		for range rapid.IntRange(0, 5).Draw(t, "uses") {
			began := seven.Add(minutes(0, 3000, "began"))
			uses = append(uses, desks.Use{Began: began, Ended: began.Add(minutes(0, 600, "for"))})
		}
		var deadlines []time.Time
		for range rapid.IntRange(0, 4).Draw(t, "deadlines") {
			deadlines = append(deadlines, seven.Add(minutes(0, 4000, "deadline")))
		}
		h := desks.Learn(uses, open)
		assert.True(t, h.Share() > 0 && h.Share() < 1, "%v", h)
		book := h.Bookable(open, deadlines)
		for i, b := range book {
			assert.True(t, b.Start.Before(b.End), "%v", b)
			assert.True(t, i == 0 || !b.Start.Before(book[i-1].End))
			inside := false
			for _, w := range open {
				inside = inside || !b.Start.Before(w.Start) && !b.End.After(w.End)
			}
			assert.True(t, inside, "%v", b)
			for _, d := range deadlines {
				if d.After(b.Start) {
					free := min(15*time.Minute, d.Sub(b.Start)/2)
					assert.False(t, b.End.After(d.Add(-free)), "%v before %v", b, d)
				}
			}
		}
	})
}
