package discover

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/mem"

	"rotanex.example/core/stock"
)

// Sample is what a device does at one time. What cannot be read is 0.
type Sample struct {
	Device      string
	Use         float64 // 0 to 1
	MemoryBytes int64
	Celsius     float64
	Watts       float64
	MHz         float64
}

// Sampler reads what a host's devices do. It is made by Host or Simulated, and used by
// one goroutine.
type Sampler struct {
	devices   []stock.Device
	address   map[string]string // of each device on its bus, by id
	simulated bool
	sys       string
}

// Sample reads all devices, the processor with the host's memory last.
func (s *Sampler) Sample(ctx context.Context) []Sample {
	var out []Sample
	if s.simulated {
		for _, d := range s.devices {
			out = append(out, Sample{Device: d.ID, MemoryBytes: int64(d.InUseGB * 1e9), Celsius: 36, Watts: 0.06 * float64(d.Watts), MHz: 210})
		}
		return append(out, Sample{Device: stock.CPUDevice, Use: 0.02, Celsius: 41})
	}
	nvidia := nvidiaSamples()
	for _, d := range s.devices {
		address := s.address[d.ID]
		x, ok := nvidia[address]
		if !ok {
			x = amdSample(s.sys, address)
		}
		x.Device = d.ID
		out = append(out, x)
	}
	return append(out, processor(ctx))
}

func processor(ctx context.Context) Sample {
	x := Sample{Device: stock.CPUDevice}
	if use, err := cpu.PercentWithContext(ctx, 0, false); err == nil && len(use) == 1 {
		x.Use = min(1, use[0]/100)
	}
	if memory, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		x.MemoryBytes = int64(memory.Used)
	}
	if info, err := cpu.InfoWithContext(ctx); err == nil && len(info) > 0 {
		x.MHz = info[0].Mhz
	}
	return x
}

// amdSample reads the files that Linux shows of an AMD device below sys.
func amdSample(sys, address string) Sample {
	name, ok := strings.CutPrefix(address, "amd ")
	if !ok {
		return Sample{}
	}
	device := filepath.Join(sys, "class/drm", name, "device")
	number := func(pattern string) float64 {
		found, _ := filepath.Glob(filepath.Join(device, pattern))
		if len(found) == 0 {
			return 0
		}
		n, _ := strconv.ParseFloat(word(found[0]), 64)
		return n
	}
	return Sample{
		Use: number("gpu_busy_percent") / 100, MemoryBytes: int64(number("mem_info_vram_used")), Celsius: number("hwmon/hwmon*/temp1_input") / 1000,
		Watts: number("hwmon/hwmon*/power1_average") / 1e6, MHz: currentClock(filepath.Join(device, "pp_dpm_sclk")),
	}
}

// currentClock reads a table of clocks in which the current one is starred.
func currentClock(path string) float64 {
	data, err := os.ReadFile(path)
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(data)) {
		fields := strings.Fields(line)
		if i := slices.Index(fields, "*"); i == 2 {
			n, _ := strconv.ParseFloat(strings.TrimRight(fields[1], "MmhHzZ"), 64)
			return n
		}
	}
	return 0
}
