package preflight_test

import (
	"fmt"
	"time"

	"rotanex.example/core/preflight"
)

// A rented server that nobody has asked yet is no place to spend money on.
func ExampleCheck() {
	shot := preflight.Shot{Name: "coda-060", Launcher: "simulated", Frames: 24}
	crew := preflight.Crew{
		Host: "tern-solo", Crew: "g0", GPUs: 1, Rented: true, Launchers: []string{"simulated"}, Carry: true,
		Source: preflight.Source{Name: "tern", Address: "https://tern.example"},
	}
	all := preflight.Check(shot, crew, time.Now())
	fmt.Println(preflight.Judge(all))
	for _, f := range all {
		fmt.Printf("%s: %s\n  %s\n", f.Level, f.Text, f.Fix)
	}
	// Output:
	// blocked
	// blocker: coda-060 has no package: nothing of it could be opened there
	//   rotanex packages make coda-060 FOLDER FILE…
	// unknown: nobody has asked tern anything yet
	//   ask again in a few seconds
}
