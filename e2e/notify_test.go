package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jonboulle/clockwork"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/testdb"
)

// A run that ends is told to a web hook that was stored from the command line; the console
// shows what was told, makes receivers, and tries them.
func TestAReceiverIsToldWhatEnds(t *testing.T) {
	said := make(chan string, 10)
	board := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		said <- r.Header.Get("Webhook-Signature") + " " + string(body)
	}))
	t.Cleanup(board.Close)
	var clock *clockwork.FakeClock
	heard := func() (text string) {
		testdb.Until(t, "the web hook to be told", func() bool {
			select {
			case text = <-said:
			default:
				clock.Advance(3 * time.Second) // it is looked every two seconds what there is to tell
			}
			return text != ""
		})
		return text
	}

	h, on, one, two, run := playedHouse(t, "1-6")
	clock = on
	assert.Contains(t, h.good("notify", "list"), "Nobody is told")
	assert.Contains(t, h.bad("notify", "put", "board", "--to", "board.example"), "is no address")
	assert.Contains(t, h.bad("notify", "put", "ada", "--to", "mailto:ada@lanternfish.example"), "--smtp")
	assert.Contains(t, h.good("notify", "put", "board", "--to", board.URL, "--about", "done"), "whsec_")
	assert.Contains(t, h.good("notify", "list"), "done")
	assert.Contains(t, h.good("notify", "test", "board"), "board was told")
	assert.Contains(t, heard(), "This is a test")

	h.until("the run to be complete", func() bool {
		for _, a := range []hand{one, two} {
			for _, l := range a.lease() {
				a.deliver(l)
			}
		}
		return h.run(run).State == "complete"
	})
	told := heard()
	assert.True(t, strings.HasPrefix(told, "v1,"))
	assert.Contains(t, told, "is complete: all 6 frames are done")
	h.until("the notice to be sent", func() bool { return strings.Contains(h.good("notify", "sent"), "sent") })

	b := h.open("dark")
	b.goTo("/notifications")
	b.shows("is complete: all 6 frames are done")
	b.do(chromedp.SendKeys(`input[placeholder=board]`, "wall"), chromedp.SendKeys(`input[placeholder^="https://hooks"]`, board.URL), chromedp.Click(`button[type=submit]`))
	b.shows("whsec_")
	b.do(chromedp.Click(`[aria-label=Receivers] tbody tr:nth-child(2) button`)) // they are listed by name
	b.shows("It was told.")
	assert.Contains(t, heard(), "wall is told by Rotanex")
	assert.Empty(t, b.axe())

	board.Close()
	assert.Contains(t, h.bad("notify", "test", "board"), "board could not be told")
	h.good("notify", "remove", "wall")
	require.NotContains(t, h.good("notify", "list"), "wall")
}
