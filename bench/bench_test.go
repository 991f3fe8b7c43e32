package bench

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is missed is missed by more than rounds differ.
func TestALineSaysWhatWasMissed(t *testing.T) {
	t.Parallel()
	assert.False(t, atLeast("", 0.9, []float64{0.8, 0.85, 1.0}).Short, "0.85, give or take 0.1")
	assert.True(t, atLeast("", 0.9, []float64{0.5, 0.5, 0.6}).Short)
	assert.False(t, atMost("", "ms", 20, []float64{19}).Short)
	assert.True(t, atMost("", "ms", 20, []float64{21}).Short)
	assert.Equal(t, Line{"", "at most 3000", "1880 ± 0", false}, atMost("", "", 3000, []float64{1880}))
	assert.Equal(t, "9.68 ± 0 ms", atMost("", "ms", 20, []float64{9.684}).Found)
}
