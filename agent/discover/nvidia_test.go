//go:build cgo

package discover_test

import (
	"testing"

	"github.com/NVIDIA/go-nvml/pkg/nvml"
	"github.com/NVIDIA/go-nvml/pkg/nvml/mock"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/discover"
)

// card is a device as the mock of the management library shows it.
func card(name string, bus uint32, major int, linkedTo uint32) *mock.Device {
	return &mock.Device{
		GetNameFunc:                 func() (string, nvml.Return) { return name, nvml.SUCCESS },
		GetPciInfoFunc:              func() (nvml.PciInfo, nvml.Return) { return nvml.PciInfo{Bus: bus}, nvml.SUCCESS },
		GetCurrPcieLinkWidthFunc:    func() (int, nvml.Return) { return 8, nvml.SUCCESS },
		GetPowerManagementLimitFunc: func() (uint32, nvml.Return) { return 320_000, nvml.SUCCESS },
		GetMemoryInfoFunc: func() (nvml.Memory, nvml.Return) {
			return nvml.Memory{Total: 24_000_000_000, Used: 900_000_000}, nvml.SUCCESS
		},
		GetCudaComputeCapabilityFunc: func() (int, int, nvml.Return) { return major, 0, nvml.SUCCESS },
		GetUtilizationRatesFunc:      func() (nvml.Utilization, nvml.Return) { return nvml.Utilization{Gpu: 87}, nvml.SUCCESS },
		GetTemperatureFunc:           func(nvml.TemperatureSensors) (uint32, nvml.Return) { return 71, nvml.SUCCESS },
		GetPowerUsageFunc:            func() (uint32, nvml.Return) { return 301_500, nvml.SUCCESS },
		GetClockInfoFunc:             func(nvml.ClockType) (uint32, nvml.Return) { return 0, nvml.ERROR_NOT_SUPPORTED },
		GetComputeModeFunc: func() (nvml.ComputeMode, nvml.Return) {
			if name == "Halyard locked" {
				return nvml.COMPUTEMODE_PROHIBITED, nvml.SUCCESS
			}
			return nvml.COMPUTEMODE_DEFAULT, nvml.SUCCESS
		},
		GetNvLinkStateFunc: func(link int) (nvml.EnableState, nvml.Return) {
			if linkedTo == 0 || link > 0 {
				return nvml.FEATURE_DISABLED, nvml.ERROR_NOT_SUPPORTED
			}
			return nvml.FEATURE_ENABLED, nvml.SUCCESS
		},
		GetNvLinkRemotePciInfoFunc: func(int) (nvml.PciInfo, nvml.Return) { return nvml.PciInfo{Bus: linkedTo}, nvml.SUCCESS },
	}
}

func library(initial nvml.Return, cards ...*mock.Device) *mock.Interface {
	return &mock.Interface{
		InitFunc:                   func() nvml.Return { return initial },
		ShutdownFunc:               func() nvml.Return { return nvml.SUCCESS },
		ErrorStringFunc:            func(r nvml.Return) string { return "status " + r.Error() },
		DeviceGetCountFunc:         func() (int, nvml.Return) { return len(cards), nvml.SUCCESS },
		DeviceGetHandleByIndexFunc: func(i int) (nvml.Device, nvml.Return) { return cards[i], nvml.SUCCESS },
	}
}

func TestNvidia(t *testing.T) {
	devices, findings := discover.NvidiaBy(library(nvml.SUCCESS,
		card("Topsail 24", 1, 8, 2), card("Topsail 24", 2, 8, 1), card("Halyard old", 3, 3, 0), card("Halyard locked", 4, 8, 0)))
	require.Len(t, devices, 4)
	assert.Equal(t, devices[1].ID, devices[0].LinkedTo)
	assert.Equal(t, devices[0].ID, devices[1].LinkedTo)
	assert.InDelta(t, 24, devices[0].MemoryGB, 0)
	assert.InDelta(t, 0.9, devices[0].InUseGB, 0)
	assert.Equal(t, 8, devices[0].LinkWidth)
	assert.Equal(t, 320, devices[0].Watts)
	assert.Equal(t, []string{"cuda", "opencl"}, devices[0].Backends)
	assert.Contains(t, devices[2].Unusable, "generation (3.0) is too old")
	assert.Contains(t, devices[3].Unusable, "prohibited")
	assert.Len(t, findings, 2)
}

func TestNvidiaSamples(t *testing.T) {
	got := discover.NvidiaSamplesBy(library(nvml.SUCCESS, card("Topsail 24", 1, 8, 0)))
	assert.Equal(t, map[string]discover.Sample{"pci 0000:01:00": {Use: 0.87, MemoryBytes: 900_000_000, Celsius: 71, Watts: 301.5}}, got)
	assert.Empty(t, discover.NvidiaSamplesBy(library(nvml.ERROR_LIBRARY_NOT_FOUND)))
}

func TestNvidiaWithoutADriver(t *testing.T) {
	devices, findings := discover.NvidiaBy(library(nvml.ERROR_LIBRARY_NOT_FOUND))
	assert.Empty(t, devices)
	assert.Empty(t, findings)
	_, findings = discover.NvidiaBy(library(nvml.ERROR_DRIVER_NOT_LOADED))
	assert.Contains(t, findings[0], "NVIDIA devices are not seen")
}
