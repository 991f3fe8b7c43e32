// Package stock describes the machines at hand: hosts, their devices and the
// links between them, what their time costs, when they are free, and which crews
// they can form.
package stock

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/pricing"
)

// Host is one machine. Sizes are in gigabytes of 10^9 bytes.
type Host struct {
	Name     string  `json:"name" yaml:"name"`
	Source   string  `json:"source" yaml:"source"` // where it comes from, such as loft
	Note     string  `json:"note,omitempty" yaml:"note,omitempty"`
	CPU      CPU     `json:"cpu" yaml:"cpu"`
	MemoryGB float64 `json:"memory_gb" yaml:"memory_gb"`
	// OnACPower is false where it runs on its battery; left out it is true.
	OnACPower *bool `json:"on_ac_power,omitempty" yaml:"on_ac_power,omitempty"`

	Open    []Hours  `json:"open,omitempty" yaml:"open,omitempty"` // none: always
	Power   Power    `json:"power" yaml:"power"`
	Devices []Device `json:"devices,omitempty" yaml:"devices,omitempty"`
}

// OnBattery reports whether the host runs on its battery.
func (h Host) OnBattery() bool { return h.OnACPower != nil && !*h.OnACPower }

// CPU is a host's processor.
type CPU struct {
	Model   string `json:"model" yaml:"model"`
	Cores   int    `json:"cores" yaml:"cores"`
	Threads int    `json:"threads,omitempty" yaml:"threads,omitempty"`
	Watts   int    `json:"watts,omitempty" yaml:"watts,omitempty"` // under full load
	MHz     int    `json:"mhz,omitempty" yaml:"mhz,omitempty"`     // of a core, where a farm bills by it

	DepreciationH pricing.Money `json:"depreciation_h,omitzero" yaml:"depreciation_h,omitempty"`
}

// Power is what electricity costs where the host stands.
type Power struct {
	PriceKWh  pricing.Money `json:"price_kwh" yaml:"price_kwh"`
	IdleWatts int           `json:"idle_watts,omitempty" yaml:"idle_watts,omitempty"`
}

// Device is one GPU.
type Device struct {
	ID        string   `json:"id" yaml:"id"` // g0, g1, …
	Model     string   `json:"model" yaml:"model"`
	MemoryGB  float64  `json:"memory_gb" yaml:"memory_gb"`
	InUseGB   float64  `json:"in_use_gb,omitempty" yaml:"in_use_gb,omitempty"`   // by a display or another program
	Backends  []string `json:"backends,omitempty" yaml:"backends,omitempty"`     // compute backends it can use
	LinkWidth int      `json:"link_width,omitempty" yaml:"link_width,omitempty"` // lanes to the CPU
	LinkedTo  string   `json:"linked_to,omitempty" yaml:"linked_to,omitempty"`   // the device it shares a memory link with
	Watts     int      `json:"watts,omitempty" yaml:"watts,omitempty"`           // under full load

	Price         pricing.Money `json:"price,omitzero" yaml:"price,omitempty"`                   // what one costs to buy
	DepreciationH pricing.Money `json:"depreciation_h,omitzero" yaml:"depreciation_h,omitempty"` // what an hour of its use is counted for
	Unusable      string        `json:"unusable,omitempty" yaml:"unusable,omitempty"`            // why it is there but cannot be used
}

// CPUDevice is the id that a host's processor has as a member of a crew.
const CPUDevice = "cpu"

// CPUBackend is the compute backend of every processor.
const CPUBackend = "cpu"

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// ValidName says what is wrong with the name of a host, shot or offer, or nil.
func ValidName(kind, name string) error {
	if !nameForm.MatchString(name) {
		return fmt.Errorf("%s %q: want up to 63 small letters, digits, dots, dashes and underscores, beginning with a letter or digit", kind, name)
	}
	return nil
}

// Validate says what is wrong with the host, all of it, or nil.
func (h Host) Validate() error {
	faults := []error{ValidName("host", h.Name)}
	fault := func(format string, args ...any) {
		faults = append(faults, fmt.Errorf("host %q: "+format, append([]any{h.Name}, args...)...))
	}
	if h.Source == "" {
		fault("source is missing: want where it comes from, such as loft")
	}
	if h.CPU.Cores < 1 {
		fault("cpu.cores %d: want 1 or more", h.CPU.Cores)
	}
	if h.MemoryGB <= 0 {
		fault("memory_gb %g: want above 0", h.MemoryGB)
	}
	seen := map[string]bool{CPUDevice: true}
	for _, d := range h.Devices {
		if d.ID == "" || seen[d.ID] || strings.Contains(d.ID, "+") {
			fault("device id %q: want a short id of its own, such as g0", d.ID)
		}
		seen[d.ID] = true
		if d.MemoryGB <= 0 && d.Unusable == "" {
			fault("device %s: memory_gb %g: want above 0", d.ID, d.MemoryGB)
		}
	}
	for _, d := range h.Devices {
		if d.LinkedTo != "" {
			other := h.Device(d.LinkedTo)
			if other == nil || other.LinkedTo != d.ID || other.Model != d.Model {
				fault("device %s: linked_to %q: a memory link joins two devices of one model, each naming the other", d.ID, d.LinkedTo)
			}
		}
	}
	for _, o := range h.Open {
		if err := o.Validate(); err != nil {
			fault("open: %w", err)
		}
	}
	return errors.Join(faults...)
}

// Device returns the host's device of that id, or nil.
func (h Host) Device(id string) *Device {
	for i := range h.Devices {
		if h.Devices[i].ID == id {
			return &h.Devices[i]
		}
	}
	return nil
}

// Crew is devices of one host that render one frame together.
type Crew struct {
	ID       string   `json:"id"` // the devices joined with +
	Devices  []string `json:"devices"`
	Models   []string `json:"models"`    // of the devices, in the same order
	Backends []string `json:"backends"`  // that all members share
	Linked   bool     `json:"linked"`    // all members share one memory link
	MemoryGB float64  `json:"memory_gb"` // free on the smallest member; 0 for the CPU alone
}

// MaxDevices is how many devices of a host are made use of: its first ones.
const MaxDevices = 64

// Crews lists the crews that the host can form: every device by itself, linked
// pairs, neighbouring halves of four and more like devices, all GPUs together,
// the CPU, and GPUs with the CPU. A crew can use only backends that all its
// members share; sets that share none are left out.
func (h Host) Crews() []Crew {
	var usable []Device
	for _, d := range h.Devices[:min(len(h.Devices), MaxDevices)] {
		if d.Unusable == "" {
			usable = append(usable, d)
		}
	}
	var out []Crew
	add := func(devices []Device, withCPU bool) {
		if c, ok := h.crew(devices, withCPU); ok && !slices.ContainsFunc(out, func(o Crew) bool { return o.ID == c.ID }) {
			out = append(out, c)
		}
	}
	for _, d := range usable {
		add([]Device{d}, false)
	}
	for _, d := range usable {
		if other := h.Device(d.LinkedTo); other != nil && d.ID < other.ID && other.Unusable == "" {
			add([]Device{d, *other}, false)
		}
	}
	if n := len(usable); n >= 4 && n%2 == 0 {
		add(usable[:n/2], false)
		add(usable[n/2:], false)
	}
	if len(usable) > 1 {
		add(usable, false)
	}
	add(nil, true)
	for _, d := range usable {
		add([]Device{d}, true)
	}
	if len(usable) > 1 {
		add(usable, true)
	}
	return out
}

func (h Host) crew(devices []Device, withCPU bool) (Crew, bool) {
	c := Crew{Linked: len(devices) == 2 && devices[0].LinkedTo == devices[1].ID}
	for i, d := range devices {
		c.Devices, c.Models = append(c.Devices, d.ID), append(c.Models, d.Model)
		free := d.MemoryGB - d.InUseGB
		if i == 0 {
			c.Backends, c.MemoryGB = slices.Clone(d.Backends), free
		} else {
			c.Backends = slices.DeleteFunc(c.Backends, func(b string) bool { return !slices.Contains(d.Backends, b) })
			c.MemoryGB = min(c.MemoryGB, free)
		}
	}
	if len(devices) > 0 && len(c.Backends) == 0 {
		return Crew{}, false
	}
	if withCPU {
		c.Devices, c.Models = append(c.Devices, CPUDevice), append(c.Models, h.CPU.Model)
		if len(devices) == 0 {
			c.Backends = []string{CPUBackend}
		}
	}
	c.ID = strings.Join(c.Devices, "+")
	return c, true
}

// FindCrew returns the host's crew of that id.
func (h Host) FindCrew(id string) (Crew, bool) {
	for _, c := range h.Crews() {
		if c.ID == id {
			return c, true
		}
	}
	return Crew{}, false
}

// BusyPrice is what an hour of the crew's work costs: the electricity for the load
// of its devices, and what their hour is written off for. What the host draws when
// idle is not counted: it is drawn anyway.
func (h Host) BusyPrice(c Crew) pricing.Money {
	watts := 0
	var writeOff pricing.Money
	for _, id := range c.Devices {
		if d := h.Device(id); d != nil {
			watts += d.Watts
			writeOff = writeOff.Plus(d.DepreciationH)
		} else {
			watts += h.CPU.Watts
			writeOff = writeOff.Plus(h.CPU.DepreciationH)
		}
	}
	// A watt for an hour is a thousandth of a kilowatt-hour.
	return pricing.PerHour(h.Power.PriceKWh.Times(int64(watts)), time.Hour/1000).Plus(writeOff)
}

// Offer is one kind of machine that a rented source lets.
type Offer struct {
	Name       string        `json:"name" yaml:"name"`
	Source     string        `json:"source" yaml:"source"`
	Note       string        `json:"note,omitempty" yaml:"note,omitempty"`
	MaxServers int           `json:"max_servers" yaml:"max_servers"`
	PriceH     pricing.Money `json:"price_h" yaml:"price_h"`
	Fee        pricing.Money `json:"fee" yaml:"fee"`
	IncrementS int           `json:"increment_s" yaml:"increment_s"`
	MinimumS   int           `json:"minimum_s,omitempty" yaml:"minimum_s,omitempty"`
	BootS      int           `json:"boot_s" yaml:"boot_s"`                             // from asking for it until it can render
	SetupS     int           `json:"setup_s,omitempty" yaml:"setup_s,omitempty"`       // more the first time, until an image is kept
	ShutdownS  int           `json:"shutdown_s,omitempty" yaml:"shutdown_s,omitempty"` // from its last frame until it is gone
	CPU        CPU           `json:"cpu" yaml:"cpu"`
	MemoryGB   float64       `json:"memory_gb" yaml:"memory_gb"`
	Devices    []Device      `json:"devices,omitempty" yaml:"devices,omitempty"`
	Launchers  []string      `json:"launchers,omitempty" yaml:"launchers,omitempty"` // that its servers have; none: not known
}

// Server returns the host that a server of the offer is.
func (o Offer) Server(name string) Host {
	return Host{Name: name, Source: o.Source, Note: "server of " + o.Name, CPU: o.CPU, MemoryGB: o.MemoryGB, Devices: o.Devices}
}

// Validate says what is wrong with the offer, all of it, or nil.
func (o Offer) Validate() error {
	faults := []error{ValidName("offer", o.Name)}
	if o.MaxServers < 1 {
		faults = append(faults, fmt.Errorf("offer %q: max_servers %d: want 1 or more", o.Name, o.MaxServers))
	}
	if o.IncrementS < 1 {
		faults = append(faults, fmt.Errorf("offer %q: increment_s %d: want 1 or more", o.Name, o.IncrementS))
	}
	if o.MinimumS < 0 || o.BootS < 0 || o.SetupS < 0 || o.ShutdownS < 0 {
		faults = append(faults, fmt.Errorf("offer %q: a time below 0", o.Name))
	}
	if o.PriceH.Cmp(pricing.Money{}) < 0 || o.Fee.Cmp(pricing.Money{}) < 0 {
		faults = append(faults, fmt.Errorf("offer %q: a price below 0", o.Name))
	}
	return errors.Join(append(faults, o.Server(o.Name).Validate())...)
}

// Crews lists the crews that a server of the offer can form.
func (o Offer) Crews() []Crew { return o.Server(o.Name).Crews() }

// Meter returns how the offer's servers are billed.
func (o Offer) Meter() pricing.Meter {
	return pricing.Meter{
		Price: o.PriceH, Fee: o.Fee,
		Increment: time.Duration(o.IncrementS) * time.Second, Minimum: time.Duration(o.MinimumS) * time.Second,
	}
}
