//go:build !linux

// Package standback lets renderers stand back behind whoever works at a machine. On this system they do not: a desk keeps its
// devices to itself while somebody works at it.
package standback

import (
	"fmt"
	"runtime"
)

// Back is how renderers stand back on this machine.
type Back struct{}

// New makes it ready. Neither renderers with a low priority nor cores that are kept back are to be had.
func New(nice, keep int) (*Back, error) {
	if nice != 0 || keep != 0 {
		return nil, fmt.Errorf("--nice %d, --desk-keep-cores %d: on %s renderers cannot stand back; leave both out", nice, keep, runtime.GOOS)
	}
	return &Back{}, nil
}

// Groups is the folder in which renderers may have control groups of their own: there are none.
func (*Back) Groups() string { return "" }

// Threads is how many threads a renderer has beside whoever works here.
func (*Back) Threads() int { return runtime.NumCPU() }

// Join takes in a renderer that has just begun.
func (*Back) Join(int, bool, bool) {}

// Stand takes in whether a renderer shall stand back.
func (*Back) Stand(int, bool) {}

// Weigh takes in whether somebody works here.
func (*Back) Weigh(bool) {}
