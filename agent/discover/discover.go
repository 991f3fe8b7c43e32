// Package discover finds out what a host has: processor, memory, power and GPUs.
// A device that is there but cannot be used is listed with the reason.
package discover

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/mem"

	"rotanex.example/core/stock"
)

// Found is what was found, and what was noticed on the way.
type Found struct {
	Host     stock.Host
	Findings []string
	Sampler  *Sampler // reads what its devices do
	Displays []string // devices that a display is connected to
}

// Host looks at the machine that it runs on.
func Host(name string) (Found, error) {
	f := Found{Host: stock.Host{Name: name, OnACPower: new(onACPower("/sys"))}}
	memory, err := mem.VirtualMemory()
	if err != nil {
		return f, fmt.Errorf("host memory: %w", err)
	}
	f.Host.MemoryGB = round1(float64(memory.Total) / 1e9)
	threads, _ := cpu.Counts(true)
	cores, err := cpu.Counts(false)
	if err != nil || cores < 1 {
		cores = max(1, threads)
	}
	f.Host.CPU = stock.CPU{Model: "CPU", Cores: cores, Threads: max(threads, runtime.NumCPU())}
	if info, err := cpu.Info(); err == nil && len(info) > 0 && info[0].ModelName != "" {
		f.Host.CPU.Model = info[0].ModelName
	}
	for _, look := range []func() ([]stock.Device, []string){Nvidia, func() ([]stock.Device, []string) { return AMD("/sys") }} {
		devices, findings := look()
		f.Host.Devices = append(f.Host.Devices, devices...)
		f.Findings = append(f.Findings, findings...)
	}
	f.Sampler = &Sampler{address: number(f.Host.Devices), sys: "/sys", devices: f.Host.Devices}
	for id, address := range f.Sampler.address {
		if slices.Contains(displays("/sys"), address) {
			f.Displays = append(f.Displays, id)
		}
	}
	return f, nil
}

// number gives the devices their ids, and the links between them with them. Until
// then a device's id is its address on the bus; it returns these by id.
func number(devices []stock.Device) map[string]string {
	ids, address := map[string]string{}, map[string]string{}
	for i := range devices {
		ids[devices[i].ID] = fmt.Sprintf("g%d", i)
		address[ids[devices[i].ID]] = devices[i].ID
	}
	for i := range devices {
		devices[i].ID, devices[i].LinkedTo = ids[devices[i].ID], ids[devices[i].LinkedTo]
	}
	return address
}

func round1(x float64) float64 { return float64(int64(x*10+0.5)) / 10 }

// displays lists the addresses, in each of the forms that devices have, of graphics cards
// that a display is connected to.
func displays(sys string) (out []string) {
	connectors, _ := filepath.Glob(filepath.Join(sys, "class/drm/card*-*/status"))
	for _, status := range connectors {
		if word(status) != "connected" {
			continue
		}
		name, _, _ := strings.Cut(filepath.Base(filepath.Dir(status)), "-")
		out = append(out, "amd "+name)
		if device, err := filepath.EvalSymlinks(filepath.Join(sys, "class/drm", name, "device")); err == nil {
			address, _, _ := strings.Cut(filepath.Base(device), ".") // without its function
			out = append(out, "pci "+address)
		}
	}
	return out
}

// onACPower reads sysfs: true unless there is a battery and no power supply is on.
func onACPower(sys string) bool {
	supplies, _ := filepath.Glob(filepath.Join(sys, "class/power_supply/*"))
	battery := false
	for _, s := range supplies {
		switch word(filepath.Join(s, "type")) {
		case "Mains":
			if word(filepath.Join(s, "online")) == "1" {
				return true
			}
		case "Battery":
			battery = true
		}
	}
	return !battery
}

// word reads a file of one word, "" if it cannot be read.
func word(path string) string {
	data, err := os.ReadFile(path)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(data))
}

// Simulated takes the devices of a host from a file of simulated machines instead
// of from this one. The rest is simulated too.
func Simulated(all []stock.Host, name string) (Found, error) {
	i := slices.IndexFunc(all, func(h stock.Host) bool { return h.Name == name })
	if i < 0 {
		var names []string
		for _, h := range all {
			names = append(names, h.Name)
		}
		return Found{}, fmt.Errorf("the simulation has no host %q; it has %s", name, strings.Join(names, ", "))
	}
	f := Found{Host: all[i], Findings: []string{"simulated"}, Sampler: &Sampler{devices: all[i].Devices, simulated: true}}
	for _, d := range f.Host.Devices {
		if d.Unusable != "" {
			f.Findings = append(f.Findings, d.ID+" cannot be used: "+d.Unusable)
		}
	}
	if f.Host.OnBattery() {
		f.Findings = append(f.Findings, "runs on its battery: times will be long and change")
	}
	return f, nil
}
