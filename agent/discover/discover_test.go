package discover_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/agent/discover"
	"rotanex.example/core/stock"
)

// tree makes files below a folder, as Linux would show them in sysfs.
func tree(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text+"\n"), 0o600))
	}
	return root
}

func TestAMD(t *testing.T) {
	good := map[string]string{
		"class/drm/card0/device/vendor":                  "0x1002",
		"class/drm/card0/device/product_name":            "Halyard 24",
		"class/drm/card0/device/mem_info_vram_total":     "24000000000",
		"class/drm/card0/device/mem_info_vram_used":      "1200000000",
		"class/drm/card0/device/current_link_width":      "16",
		"class/drm/card0/device/hwmon/hwmon3/power1_cap": "300000000",
		"class/drm/card0-DP-1/device/vendor":             "0x1002", // a connector, no device
		"class/drm/card1/device/vendor":                  "0x8086", // another maker's
		"class/kfd/kfd/topology/nodes/0/gpu_id":          "0",      // the processor
		"class/kfd/kfd/topology/nodes/1/gpu_id":          "51234",
	}
	root := tree(t, good)
	driver := filepath.Join(root, "class/drm/card0/device/driver")
	require.NoError(t, os.Symlink("/sys/bus/pci/drivers/amdgpu", driver))
	devices, findings := discover.AMD(root)
	require.Len(t, devices, 1)
	assert.Empty(t, findings)
	assert.Equal(t, stock.Device{ID: "amd card0", Model: "Halyard 24", MemoryGB: 24, InUseGB: 1.2, LinkWidth: 16, Watts: 300, Backends: []string{"hip", "opencl"}}, devices[0])

	require.NoError(t, os.Remove(filepath.Join(root, "class/kfd/kfd/topology/nodes/1/gpu_id")))
	devices, findings = discover.AMD(root)
	assert.Contains(t, devices[0].Unusable, "no compute node")
	assert.Contains(t, findings[0], "Halyard 24 cannot be used")

	require.NoError(t, os.Remove(driver))
	require.NoError(t, os.Symlink("/sys/bus/pci/drivers/vfio-pci", driver))
	devices, _ = discover.AMD(root)
	assert.Equal(t, "its driver is vfio-pci: compute needs amdgpu", devices[0].Unusable)

	require.NoError(t, os.Remove(driver))
	devices, _ = discover.AMD(root)
	assert.Contains(t, devices[0].Unusable, "no driver is bound")
	devices, findings = discover.AMD(t.TempDir())
	assert.Empty(t, devices)
	assert.Empty(t, findings)
}

func TestHostFindsWhatThisMachineHas(t *testing.T) {
	f, err := discover.Host("here")
	require.NoError(t, err)
	assert.Positive(t, f.Host.CPU.Cores)
	assert.Positive(t, f.Host.MemoryGB)
	assert.NotEmpty(t, f.Host.CPU.Model)
}

func TestSimulated(t *testing.T) {
	all := []stock.Host{{Name: "punt", Devices: []stock.Device{{ID: "g0", Unusable: "plug it in"}}}}
	f, err := discover.Simulated(all, "punt")
	require.NoError(t, err)
	assert.Contains(t, f.Findings, "g0 cannot be used: plug it in")
	_, err = discover.Simulated(all, "skiff")
	assert.ErrorContains(t, err, `no host "skiff"; it has punt`)
}
