package exr

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What the wavelet does to two values, as the format's reference has it.
func do14(a, b uint16) (mean, difference uint16) {
	x, y := int16(a), int16(b)
	return uint16((int32(x) + int32(y)) >> 1), uint16(x - y)
}

func do16(a, b uint16) (mean, difference uint16) {
	ao := (int(a) + 1<<15) & 0xffff
	m, d := (ao+int(b))>>1, ao-int(b)
	if d < 0 {
		m = (m + 1<<15) & 0xffff
	}
	return uint16(m), uint16(d & 0xffff)
}

func TestTheWaveletIsUndone(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 100_000 {
		a, b := uint16(r.Uint32()), uint16(r.Uint32())
		x, y := undo16(do16(a, b))
		assert.Equal(t, [2]uint16{a, b}, [2]uint16{x, y})
		a, b = a>>2, b>>2
		x, y = undo14(do14(a, b))
		assert.Equal(t, [2]uint16{a, b}, [2]uint16{x, y})
	}
}
