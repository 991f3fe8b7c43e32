package discover

import (
	"encoding/csv"
	"errors"
	"fmt"
	"math"
	"os/exec"
	"strconv"
	"strings"

	"rotanex.example/core/stock"
)

// A static agent cannot load the driver's management library. It asks the program that comes with it,
// in the form that is documented for scripts. What links devices to each other is not told there.

// Command runs the driver's program; a test gives its own.
type Command func(args ...string) ([]byte, error)

// asked are the values of some properties, of each device.
func (run Command) asked(properties string) ([][]string, error) {
	said, err := run("--query-gpu="+properties, "--format=csv,noheader,nounits")
	if err != nil {
		return nil, err
	}
	r := csv.NewReader(strings.NewReader(string(said)))
	r.TrimLeadingSpace, r.FieldsPerRecord = true, strings.Count(properties, ",")+1
	return r.ReadAll()
}

// NvidiaByCommand lists NVIDIA GPUs as the driver's program tells of them.
func NvidiaByCommand(run Command) (out []stock.Device, findings []string) {
	rows, err := run.asked("name,pci.bus_id,pcie.link.width.current,power.limit,memory.total,memory.used,compute_cap,compute_mode")
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return nil, nil // no NVIDIA driver: nothing to say
	case err != nil:
		return nil, []string{fmt.Sprintf("NVIDIA devices are not seen: nvidia-smi: %v", err)}
	}
	for i, row := range rows {
		d := stock.Device{ID: commandBusID(row[1]), Model: row[0], LinkWidth: int(told(row[2])), Watts: int(told(row[3])), MemoryGB: mebibytes(row[4]), InUseGB: mebibytes(row[5])}
		if d.ID == "" {
			d.ID = fmt.Sprintf("nvidia %d", i)
		}
		switch generation := told(row[6]); {
		case d.MemoryGB == 0:
			d.Unusable = "its memory cannot be read"
		case generation == 0:
			d.Unusable = "it has no compute backend that its driver supports"
		case generation < 5:
			d.Unusable = fmt.Sprintf("its generation (%.1f) is too old: 5.0 is needed", generation)
		case strings.EqualFold(row[7], "prohibited"):
			d.Unusable = "its compute mode is set to prohibited"
		default:
			d.Backends = []string{"cuda", "opencl"}
		}
		if d.Unusable != "" {
			findings = append(findings, d.Model+" cannot be used: "+d.Unusable)
		}
		out = append(out, d)
	}
	return out, findings
}

// NvidiaSamplesByCommand reads what NVIDIA devices do, by their address on the bus.
func NvidiaSamplesByCommand(run Command) map[string]Sample {
	rows, err := run.asked("pci.bus_id,utilization.gpu,memory.used,temperature.gpu,power.draw,clocks.sm")
	if err != nil {
		return nil
	}
	out := map[string]Sample{}
	for _, row := range rows {
		out[commandBusID(row[0])] = Sample{Use: told(row[1]) / 100, MemoryBytes: int64(told(row[2]) * (1 << 20)), Celsius: told(row[3]), Watts: told(row[4]), MHz: told(row[5])}
	}
	return out
}

// told is a number; 0 where the device does not tell it.
func told(text string) float64 {
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || !(n >= 0) || math.IsInf(n, 1) {
		return 0
	}
	return n
}

func mebibytes(text string) float64 { return round1(told(text) * (1 << 20) / 1e9) }

// commandBusID is an address on the bus as busID has it, of one such as 00000000:01:00.0; "": it is none.
func commandBusID(text string) string {
	parts := strings.Split(strings.SplitN(text, ".", 2)[0], ":")
	if len(parts) != 3 {
		return ""
	}
	domain, err := strconv.ParseUint(parts[0], 16, 32)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("pci %04x:%s:%s", domain, strings.ToLower(parts[1]), strings.ToLower(parts[2]))
}
