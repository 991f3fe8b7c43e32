//go:build !cgo

package discover

import "rotanex.example/core/stock"

func nvidiaSamples() map[string]Sample { return nil }

// Nvidia cannot look without cgo, and says so.
func Nvidia() ([]stock.Device, []string) {
	return nil, []string{"this agent was built without cgo: NVIDIA devices are not looked for"}
}
