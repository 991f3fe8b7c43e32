package hosts

import (
	"rotanex.example/api"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/service/httpapi"
)

func (h *Hosts) record(host Host) (api.Host, error) {
	spec, err := httpapi.Convert[api.HostSpec](host.Spec)
	if err != nil {
		return api.Host{}, err
	}
	out := api.Host{
		Spec: spec, Found: host.Found, Draining: host.Draining, Server: host.Server, Agent: api.HostAgentNone,
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
		if host.Up(h.clock.WallNow()) {
			out.Agent = api.HostAgentUp
		}
	}
	return out, nil
}

func offerRecord(o PricedOffer) (api.Offer, error) {
	spec, err := httpapi.Convert[api.OfferSpec](o.Spec)
	return api.Offer{Spec: spec, Crews: crewRecords(o.Spec.Server(o.Name)), Currency: o.Currency}, err
}

func reportOf(r api.StockReport) (out Report, err error) {
	out = Report{
		Boot: r.Boot, CPU: stock.CPU{Model: r.Cpu.Model, Cores: r.Cpu.Cores, Threads: r.Cpu.Threads}, MemoryGB: float64(r.MemoryGb), OnACPower: r.OnAcPower,
		Launchers: r.Launchers, Findings: r.Findings,
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
