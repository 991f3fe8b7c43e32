package leadtimes_test

import (
	"fmt"
	"time"

	"rotanex.example/core/leadtimes"
)

// Three servers took longer than their source declares. Plans go by what they took.
func ExampleLearn() {
	k := leadtimes.Learn([]float64{1.5, 1.6, 1.4}, leadtimes.Boot)
	lead := time.Duration(k.Typical * float64(10*time.Minute)).Round(time.Minute)
	fmt.Println(lead, "instead of 10m0s, from", k.Seen)
	// Output: 13m0s instead of 10m0s, from 3
}
