//go:build cgo

package discover

import (
	"fmt"

	"github.com/NVIDIA/go-nvml/pkg/nvml"

	"rotanex.example/core/stock"
)

// Nvidia lists NVIDIA GPUs by the driver's management library.
func Nvidia() ([]stock.Device, []string) { return NvidiaBy(nvml.New()) }

// NvidiaBy is Nvidia with the library given.
func NvidiaBy(lib nvml.Interface) (out []stock.Device, findings []string) {
	switch status := lib.Init(); status {
	case nvml.SUCCESS:
	case nvml.ERROR_LIBRARY_NOT_FOUND:
		return nil, nil // no NVIDIA driver: nothing to say
	default:
		return nil, []string{"NVIDIA devices are not seen: " + lib.ErrorString(status)}
	}
	defer lib.Shutdown()
	count, status := lib.DeviceGetCount()
	if status != nvml.SUCCESS {
		return nil, []string{"NVIDIA devices are not seen: " + lib.ErrorString(status)}
	}
	for i := range count {
		device, status := lib.DeviceGetHandleByIndex(i)
		if status != nvml.SUCCESS {
			findings = append(findings, fmt.Sprintf("NVIDIA device %d is not seen: %s", i, lib.ErrorString(status)))
			continue
		}
		d := nvidiaDevice(lib, device, i)
		if d.Unusable != "" {
			findings = append(findings, d.Model+" cannot be used: "+d.Unusable)
		}
		out = append(out, d)
	}
	return out, findings
}

func nvidiaDevice(lib nvml.Interface, device nvml.Device, i int) stock.Device {
	d := stock.Device{ID: fmt.Sprintf("nvidia %d", i), Model: fmt.Sprintf("NVIDIA device %d", i)}
	if name, status := device.GetName(); status == nvml.SUCCESS {
		d.Model = name
	}
	if pci, status := device.GetPciInfo(); status == nvml.SUCCESS {
		d.ID = busID(pci)
	}
	if width, status := device.GetCurrPcieLinkWidth(); status == nvml.SUCCESS {
		d.LinkWidth = width
	}
	if milliwatts, status := device.GetPowerManagementLimit(); status == nvml.SUCCESS {
		d.Watts = int(milliwatts) / 1000
	}
	memory, status := device.GetMemoryInfo()
	if status != nvml.SUCCESS {
		d.Unusable = "its memory cannot be read: " + lib.ErrorString(status)
		return d
	}
	d.MemoryGB, d.InUseGB = round1(float64(memory.Total)/1e9), round1(float64(memory.Used)/1e9)
	major, minor, status := device.GetCudaComputeCapability()
	mode, modeStatus := device.GetComputeMode()
	switch {
	case status != nvml.SUCCESS:
		d.Unusable = "it has no compute backend that its driver supports: " + lib.ErrorString(status)
	case major < 5:
		d.Unusable = fmt.Sprintf("its generation (%d.%d) is too old: 5.0 is needed", major, minor)
	case modeStatus == nvml.SUCCESS && mode == nvml.COMPUTEMODE_PROHIBITED:
		d.Unusable = "its compute mode is set to prohibited"
	default:
		d.Backends = []string{"cuda", "opencl"}
	}
	for link := range 18 { // the most links that a device has
		state, status := device.GetNvLinkState(link)
		if status != nvml.SUCCESS {
			break
		}
		if remote, status := device.GetNvLinkRemotePciInfo(link); state == nvml.FEATURE_ENABLED && status == nvml.SUCCESS {
			d.LinkedTo = busID(remote)
		}
	}
	return d
}

func busID(pci nvml.PciInfo) string {
	return fmt.Sprintf("pci %04x:%02x:%02x", pci.Domain, pci.Bus, pci.Device)
}

func nvidiaSamples() map[string]Sample { return NvidiaSamplesBy(nvml.New()) }

// NvidiaSamplesBy reads what NVIDIA devices do, by their address on the bus, with the
// library given.
func NvidiaSamplesBy(lib nvml.Interface) map[string]Sample {
	if lib.Init() != nvml.SUCCESS {
		return nil
	}
	defer lib.Shutdown()
	out := map[string]Sample{}
	count, _ := lib.DeviceGetCount()
	for i := range count {
		device, status := lib.DeviceGetHandleByIndex(i)
		if status != nvml.SUCCESS {
			continue
		}
		pci, status := device.GetPciInfo()
		if status != nvml.SUCCESS {
			continue
		}
		var s Sample
		if use, status := device.GetUtilizationRates(); status == nvml.SUCCESS {
			s.Use = float64(use.Gpu) / 100
		}
		if memory, status := device.GetMemoryInfo(); status == nvml.SUCCESS {
			s.MemoryBytes = int64(memory.Used)
		}
		if celsius, status := device.GetTemperature(nvml.TEMPERATURE_GPU); status == nvml.SUCCESS {
			s.Celsius = float64(celsius)
		}
		if milliwatts, status := device.GetPowerUsage(); status == nvml.SUCCESS {
			s.Watts = float64(milliwatts) / 1000
		}
		if mhz, status := device.GetClockInfo(nvml.CLOCK_SM); status == nvml.SUCCESS {
			s.MHz = float64(mhz)
		}
		out[busID(pci)] = s
	}
	return out
}
