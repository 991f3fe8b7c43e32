package discover

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"

	"rotanex.example/core/stock"
)

const amdVendor = "0x1002"

var card = regexp.MustCompile(`/card[0-9]+$`)

// AMD lists AMD GPUs by the files that Linux shows of them below sys ("/sys").
func AMD(sys string) ([]stock.Device, []string) {
	var out []stock.Device
	var findings []string
	cards, _ := filepath.Glob(filepath.Join(sys, "class/drm/card*"))
	slices.Sort(cards)
	for _, path := range cards {
		if !card.MatchString(path) { // connectors are card0-DP-1 and the like
			continue
		}
		device := filepath.Join(path, "device")
		if word(filepath.Join(device, "vendor")) != amdVendor {
			continue
		}
		d := amdDevice(sys, device, filepath.Base(path))
		if d.Unusable != "" {
			findings = append(findings, d.Model+" cannot be used: "+d.Unusable)
		}
		out = append(out, d)
	}
	return out, findings
}

func amdDevice(sys, device, name string) stock.Device {
	d := stock.Device{ID: "amd " + name, Model: word(filepath.Join(device, "product_name"))}
	if d.Model == "" {
		d.Model = "AMD GPU " + word(filepath.Join(device, "device"))
	}
	total, _ := strconv.ParseFloat(word(filepath.Join(device, "mem_info_vram_total")), 64)
	used, _ := strconv.ParseFloat(word(filepath.Join(device, "mem_info_vram_used")), 64)
	d.MemoryGB, d.InUseGB = round1(total/1e9), round1(used/1e9)
	d.LinkWidth, _ = strconv.Atoi(word(filepath.Join(device, "current_link_width")))
	if caps, _ := filepath.Glob(filepath.Join(device, "hwmon/hwmon*/power1_cap")); len(caps) > 0 {
		microwatts, _ := strconv.Atoi(word(caps[0]))
		d.Watts = microwatts / 1_000_000
	}
	driver, err := os.Readlink(filepath.Join(device, "driver"))
	switch {
	case err != nil:
		d.Unusable = "no driver is bound to it: load amdgpu"
	case filepath.Base(driver) != "amdgpu":
		d.Unusable = fmt.Sprintf("its driver is %s: compute needs amdgpu", filepath.Base(driver))
	case total == 0:
		d.Unusable = "its driver does not tell its memory: it is too old for compute"
	default:
		nodes, _ := filepath.Glob(filepath.Join(sys, "class/kfd/kfd/topology/nodes/*/gpu_id"))
		if !slices.ContainsFunc(nodes, func(n string) bool { id := word(n); return id != "" && id != "0" }) {
			d.Unusable = "the kernel has no compute node for it: the device is too old, or the kfd module is missing"
		} else {
			d.Backends = []string{"hip", "opencl"}
		}
	}
	return d
}
