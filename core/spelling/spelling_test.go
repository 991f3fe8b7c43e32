package spelling_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"rotanex.example/core/spelling"
)

func ExampleNearest() {
	fmt.Println(spelling.Nearest("deadlne", []string{"frames", "deadline", "scene"}))
	// Output: deadline
}

func TestNearest(t *testing.T) {
	t.Parallel()
	known := []string{"povray", "simulated"}
	assert.Equal(t, "simulated", spelling.Nearest("simulatd", known))
	assert.Equal(t, "povray", spelling.Nearest("pov-ray", known))
	assert.Empty(t, spelling.Nearest("foam", known))
	assert.Empty(t, spelling.Nearest("", known), "nothing is near to nothing")
}
