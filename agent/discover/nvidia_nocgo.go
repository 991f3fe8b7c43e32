//go:build !cgo

package discover

import (
	"context"
	"os/exec"
	"time"

	"rotanex.example/core/stock"
)

// asks is how long the driver's program may take.
const asks = 10 * time.Second

func nvidiaCommand(args ...string) ([]byte, error) {
	ctx, stop := context.WithTimeout(context.Background(), asks)
	defer stop()
	return exec.CommandContext(ctx, "nvidia-smi", args...).Output()
}

func nvidiaSamples() map[string]Sample { return NvidiaSamplesByCommand(nvidiaCommand) }

// Nvidia lists NVIDIA GPUs by the driver's own program, as this agent was built without cgo.
func Nvidia() ([]stock.Device, []string) { return NvidiaByCommand(nvidiaCommand) }
