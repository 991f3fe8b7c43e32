package memory_test

import (
	"fmt"

	"rotanex.example/core/memory"
)

// A crew's limit is its smallest device: without it the shot would fit.
func ExampleJudge() {
	need := memory.Need{Scene: memory.GB(18), Buffers: memory.Buffers(1920, 1080, 4), Host: memory.GB(20)}
	fit := memory.Judge(need, memory.Crew{Host: memory.GB(64), Devices: []memory.Device{{ID: "g0", Total: memory.GB(24)}, {ID: "g1", Total: memory.GB(12)}}})
	fmt.Println(fit.Verdict, "because of", fit.Limiting)
	fmt.Println("without it:", fit.Without.Verdict)
	// Output:
	// does not fit because of g1
	// without it: fits
}
