package simulator

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"

	"rotanex.example/core/stock"
)

// word is what a renderer that stays open says, as docs/protocols/renderer.md has it.
type word struct {
	Opened   bool     `json:"opened,omitempty"`
	Frame    *int     `json:"frame,omitempty"`
	Progress *float64 `json:"progress,omitempty"`
	Finished bool     `json:"finished,omitempty"`
	Failed   string   `json:"failed,omitempty"`
	Why      string   `json:"why,omitempty"`
}

func (r Render) say(w word) { _ = json.NewEncoder(r.Say).Encode(w) }

// stay renders what is ordered, until there are no more orders.
func (r Render) stay(ctx context.Context, scene Scene, host stock.Host) (int, error) {
	orders := bufio.NewScanner(r.Orders)
	for opens := true; orders.Scan(); opens = false {
		var order struct {
			Frame  int    `json:"frame"`
			Output string `json:"output"`
			Inputs string `json:"inputs"`
		}
		if err := json.Unmarshal(orders.Bytes(), &order); err != nil || order.Output == "" {
			return ExitCannotStart, fmt.Errorf("order %q: want such as {\"frame\": 12, \"output\": \"frame.12.png\"}", orders.Text())
		}
		r.Frame, r.Output, r.Inputs = order.Frame, order.Output, order.Inputs
		status, err := r.frame(ctx, scene, host, opens)
		switch cause := map[int]string{ExitOutOfMemory: "out-of-memory", ExitLicenceLost: "licence-lost"}[status]; {
		case err == nil:
			r.say(word{Frame: &r.Frame, Finished: true})
		case cause != "":
			r.say(word{Frame: &r.Frame, Failed: cause, Why: err.Error()})
		default:
			return status, err
		}
	}
	return 0, orders.Err()
}

// progress says how far the frame in hand is, 0 to 1.
func (r Render) progress(done float64) {
	if r.Orders != nil {
		r.say(word{Frame: &r.Frame, Progress: &done})
		return
	}
	_, _ = fmt.Fprintf(r.Say, "progress %d\n", int(100*done))
}

// opened says that the scene is open.
func (r Render) opened() {
	if r.Orders != nil {
		r.say(word{Opened: true})
		return
	}
	_, _ = fmt.Fprintln(r.Say, "opened")
}
