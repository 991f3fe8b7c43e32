package hosts

import (
	"cmp"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/desks"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/core/version"
	"rotanex.example/service/httpapi"
)

func (h *Hosts) record(host Host, habits desks.Habits) (api.Host, error) {
	spec, err := httpapi.Convert[api.HostSpec](host.Spec)
	if err != nil {
		return api.Host{}, err
	}
	out := api.Host{
		Spec: spec, Found: host.Found, Draining: host.Draining, Trouble: host.Trouble, AgentVersion: host.AgentVersion, Server: host.Server, Agent: api.HostAgentNone,
		Launchers: host.Launchers, Findings: host.Findings, Crews: crewRecords(host.Spec), Missing: host.Missing,
	}
	if out.Renderers, err = httpapi.Convert[[]api.Renderer](host.Renderers); err != nil {
		return out, err
	}
	if f := host.Folder; f != nil {
		out.Folder = api.Folder{Writable: f.Writable, Network: f.Network, Filesystem: f.Filesystem, FreeGb: f.FreeGB}
	}
	if host.AgentSeen != nil {
		out.AgentSeen, out.Agent = host.AgentSeen.UTC(), api.HostAgentLost
		if host.Up(h.Clock.WallNow()) {
			out.Agent = api.HostAgentUp
		}
	}
	if d := host.Desk; d != nil {
		out.Desk = api.Desk{
			State: api.DeskState(d.State), Since: d.Since.UTC(), ByHand: d.ByHand, Why: d.Why, Kept: d.Kept,
			TakenBack: habits.Taken, TypicallyS: habits.For.Seconds(), LentShare: habits.Share(),
		}
		if !d.Until.IsZero() {
			out.Desk.Until = d.Until.UTC()
		}
	}
	return out, nil
}

func offerRecord(o PricedOffer) (api.Offer, error) {
	spec, err := httpapi.Convert[api.OfferSpec](o.Spec)
	return api.Offer{Spec: spec, Crews: crewRecords(o.Spec.Server(o.Name)), Currency: o.Currency}, err
}

// DeskOf is what an agent says of its desk; nil: it says nothing.
func DeskOf(r api.DeskReport, real func(time.Time) time.Time) *Desk {
	if r.State == "" {
		return nil
	}
	d := &Desk{State: DeskState(r.State), ByHand: r.ByHand, Why: cmp.Or(r.Why, "its agent does not say why"), Kept: append([]string{}, r.Kept...)}
	if !r.Until.IsZero() {
		d.Until = real(r.Until)
	}
	return d
}

func reportOf(r api.StockReport, real func(time.Time) time.Time) (out Report, err error) {
	if err := version.Apart(r.Version, version.Ours); err != nil {
		return out, httpapi.Conflict(err.Error())
	}
	out = Report{
		Boot: r.Boot, Version: r.Version, CPU: stock.CPU{Model: r.Cpu.Model, Cores: r.Cpu.Cores, Threads: r.Cpu.Threads}, MemoryGB: float64(r.MemoryGb), OnACPower: r.OnAcPower,
		Launchers: r.Launchers, Findings: r.Findings, Desk: DeskOf(r.Desk, real),
	}
	if r.Folder != (api.Folder{}) {
		out.Folder = &preflight.Folder{Writable: r.Folder.Writable, Network: r.Folder.Network, Filesystem: r.Folder.Filesystem, FreeGB: r.Folder.FreeGb}
	}
	if out.Devices, err = httpapi.Convert[[]stock.Device](r.Devices); err == nil {
		out.Renderers, err = httpapi.Convert[[]preflight.Renderer](r.Renderers)
	}
	return out, err
}

func crewRecords(spec stock.Host) []api.Crew {
	out := []api.Crew{}
	for _, c := range spec.Crews() {
		out = append(out, api.Crew{
			Id: c.ID, Devices: c.Devices, Models: c.Models, Backends: c.Backends, Linked: c.Linked,
			MemoryGb: float32(c.MemoryGB), BusyPriceHour: spec.BusyPrice(c).Rat().FloatString(4),
		})
	}
	return out
}
