package stock

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"path"
	"slices"
	"strings"

	"rotanex.example/core/pricing"
)

// Kinds of sources that are not one's own.
const (
	RentedSource = "rented" // lets servers by the hour
	FarmSource   = "farm"   // takes frames and bills for work
)

// Source is where hosts come from that are not one's own.
type Source struct {
	Name string `json:"name" yaml:"name"`
	Kind string `json:"kind" yaml:"kind"`
	Note string `json:"note,omitempty" yaml:"note,omitempty"`
	// Address is where its interface answers: http:// or https:// for Rotanex's own
	// protocol, ssh://user@host:port for servers that stand already.
	Address string `json:"address,omitempty" yaml:"address,omitempty"`
	// Plain says that its address may be http:// though it is not on this machine: its secret crosses the network in
	// the clear.
	Plain bool             `json:"plain,omitempty" yaml:"plain,omitempty"`
	Card  pricing.RateCard `json:"card" yaml:"card"`
	// Cap is what may never be exceeded there, over all runs, in the service's currency.
	Cap *pricing.Money `json:"cap,omitempty" yaml:"cap,omitempty"`
	// UploadMBps limits how fast packages are sent, in megabytes of 10^6 bytes a second;
	// 0 is no limit.
	UploadMBps float64 `json:"upload_mb_s,omitempty" yaml:"upload_mb_s,omitempty"`
	// KnownHosts are the host keys that an ssh source may show, as lines of a
	// known_hosts file.
	KnownHosts []string `json:"known_hosts,omitempty" yaml:"known_hosts,omitempty"`
	// Launchers are the renderers that the agent of an ssh source may start; none: povray.
	Launchers []string `json:"launchers,omitempty" yaml:"launchers,omitempty"`
	// Scenes is the folder on an ssh source in which scenes lie already: nothing is sent
	// there then. Without it shots' packages are.
	Scenes string `json:"scenes,omitempty" yaml:"scenes,omitempty"`
}

// Starts are the launchers that the agent may start on a source that is reached by ssh,
// povray where it names none; nil of any other.
func (s Source) Starts() []string {
	if !strings.HasPrefix(s.Address, "ssh://") {
		return nil
	}
	if len(s.Launchers) == 0 {
		return []string{"povray"}
	}
	return s.Launchers
}

// Validate says what is wrong with the source, all of it, or nil.
func (s Source) Validate() error {
	faults := []error{ValidName("source", s.Name), s.Card.Validate()}
	fault := func(format string, args ...any) {
		faults = append(faults, fmt.Errorf("source %q: "+format, append([]any{s.Name}, args...)...))
	}
	if s.Kind != RentedSource && s.Kind != FarmSource {
		fault("kind %q: want rented or farm", s.Kind)
	}
	if s.Address != "" {
		u, err := url.Parse(s.Address)
		switch {
		case err != nil || u.Host == "" || !slices.Contains([]string{"http", "https", "ssh"}, u.Scheme):
			fault("address %q: want http://, https:// or ssh:// and a host", s.Address)
		case u.User != nil && u.Scheme != "ssh":
			fault("address %q: give its secret by itself, not in the address", u.Redacted())
		case u.Scheme == "http" && !s.Plain && !Loopback(u.Hostname()):
			fault("address %q: its secret would cross the network in the clear: want https://, or say `plain: true`", s.Address)
		case u.Scheme == "ssh" && s.Kind != RentedSource:
			fault("address %q: only a rented source is reached by ssh", s.Address)
		case u.Scheme == "ssh" && len(s.KnownHosts) == 0:
			fault("known_hosts is missing: a server is reached only by a host key that is known; ssh-keyscan prints it")
		}
	}
	over := strings.HasPrefix(s.Address, "ssh://")
	for _, name := range s.Launchers {
		if err := ValidName("launcher", name); err != nil {
			faults = append(faults, err)
		}
	}
	if !over && (len(s.Launchers) > 0 || s.Scenes != "") {
		fault("launchers and scenes are of a source that is reached by ssh; an offer's servers say theirs in the offer")
	}
	if s.Scenes != "" && !path.IsAbs(s.Scenes) {
		fault("scenes %q: want the whole path of the folder there, such as /srv/scenes", s.Scenes)
	}
	if s.Cap != nil && s.Cap.Cmp(pricing.Money{}) < 0 {
		fault("cap %s: want 0 or more", *s.Cap)
	}
	if s.UploadMBps < 0 {
		fault("upload_mb_s %g: want 0 or more", s.UploadMBps)
	}
	return errors.Join(faults...)
}

// Farm is one tier of a render farm: it takes frames, renders them on its nodes and
// bills for the work.
type Farm struct {
	Name   string `json:"name" yaml:"name"`
	Source string `json:"source" yaml:"source"`
	Note   string `json:"note,omitempty" yaml:"note,omitempty"`
	// Nodes is how many work on a job side by side.
	Nodes int `json:"nodes" yaml:"nodes"`
	// LeadS is how long it takes from a job's being sent to its first frame: analysis,
	// proof frames and queue, in seconds.
	LeadS int          `json:"lead_s" yaml:"lead_s"`
	Work  pricing.Work `json:"work" yaml:"work"`
	// CPU, MemoryGB and Devices are of one node.
	CPU       CPU      `json:"cpu" yaml:"cpu"`
	MemoryGB  float64  `json:"memory_gb" yaml:"memory_gb"`
	Devices   []Device `json:"devices,omitempty" yaml:"devices,omitempty"`
	Launchers []string `json:"launchers,omitempty" yaml:"launchers,omitempty"` // none: not known
	// NamedUser says that shots with a named-user licence are taken.
	NamedUser bool `json:"named_user,omitempty" yaml:"named_user,omitempty"`
}

// Node returns one of the farm's nodes as a host.
func (f Farm) Node() Host {
	return Host{Name: f.Name, Source: f.Source, Note: "node of " + f.Name, CPU: f.CPU, MemoryGB: f.MemoryGB, Devices: f.Devices}
}

// Crew returns what of a node renders a frame: all its GPUs together, or without any
// its processor.
func (f Farm) Crew() Crew {
	c, _ := f.Node().crew(f.Devices, len(f.Devices) == 0)
	return c
}

// HourPrice returns what an hour of a node costs, in the currency of the source.
func (f Farm) HourPrice() pricing.Money { return f.Work.Hour(f.CPU.Cores, f.CPU.MHz) }

// Validate says what is wrong with the farm, all of it, or nil.
func (f Farm) Validate() error {
	faults := []error{ValidName("farm", f.Name)}
	fault := func(format string, args ...any) {
		faults = append(faults, fmt.Errorf("farm %q: "+format, append([]any{f.Name}, args...)...))
	}
	if f.Nodes < 1 {
		fault("nodes %d: want 1 or more", f.Nodes)
	}
	if f.LeadS < 0 {
		fault("lead_s %d: want 0 or more", f.LeadS)
	}
	for name, price := range map[string]pricing.Money{"node_hour": f.Work.NodeHour, "core_ghz_hour": f.Work.CoreGHzHour, "frame": f.Work.Frame, "minimum_charge": f.Work.MinimumCharge} {
		if price.Cmp(pricing.Money{}) < 0 {
			fault("work.%s %s: want 0 or more", name, price)
		}
	}
	if !f.Work.CoreGHzHour.IsZero() && f.CPU.MHz < 1 {
		fault("cpu.mhz is missing: work.core_ghz_hour is billed by it")
	}
	return errors.Join(append(faults, f.Node().Validate())...)
}

// Loopback reports whether a host's name is this machine's.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
