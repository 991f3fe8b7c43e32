package planning

import (
	"context"
	"fmt"
	"os"
	"testing"
)

func TestDebug(t *testing.T) {
	f, _ := os.Open(os.Getenv("PROB"))
	p, err := ParseProblem(f)
	if err != nil {
		t.Fatal(err)
	}
	due := make([]Millis, len(p.Shots))
	for i, s := range p.Shots {
		due[i] = s.Deadline
	}
	debug = true
	x := newSearch(context.Background(), newModel(p, due), &effort{allowance(p)})
	o := x.run()
	fmt.Println("OUT", o.cost, o.bound, "left", x.work.left, "of", allowance(p), "open", len(x.open), "closed", x.closed, "ways", len(x.master.ways))
}
