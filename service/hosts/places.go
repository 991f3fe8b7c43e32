package hosts

import (
	"context"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm"

	"rotanex.example/core/memory"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
	"rotanex.example/core/timing"
)

// Place is where frames can be rendered: a host of one's own, or a server of an offer.
type Place struct {
	Name   string
	Source string
	Spec   stock.Host
	Host   *Host  // nil but for a host of one's own
	Offer  *Offer // nil but for an offer
	Farm   *Farm  // nil but for a tier of a farm
}

// Crews lists the crews that may render at a place: of a farm's node the one that does.
func (p Place) Crews() []stock.Crew {
	if p.Farm != nil {
		return []stock.Crew{p.Farm.Spec.Crew()}
	}
	return p.Spec.Crews()
}

// Launchers are the renderers that a place is declared to have; none: not known.
func (p Place) Launchers() []string {
	switch {
	case p.Host != nil:
		return p.Host.Launchers
	case p.Offer != nil:
		return p.Offer.Spec.Launchers
	}
	return p.Farm.Spec.Launchers
}

// Rented reports whether it is somebody else's machine, on which a licence for a
// single user is of no use.
func (p Place) Rented() bool { return p.Offer != nil || p.Farm != nil && !p.Farm.Spec.NamedUser }

// Places returns the hosts that are one's own, the offers and the farms, each by name.
func (h *Hosts) Places(ctx context.Context) ([]Place, error) {
	owned, err := h.Owned(ctx)
	if err != nil {
		return nil, err
	}
	offers, err := h.Offers(ctx)
	if err != nil {
		return nil, err
	}
	farms, err := h.Farms(ctx)
	if err != nil {
		return nil, err
	}
	var out []Place
	for i := range owned {
		out = append(out, Place{Name: owned[i].Name, Source: owned[i].Source, Spec: owned[i].Spec, Host: &owned[i]})
	}
	for i := range offers {
		out = append(out, Place{Name: offers[i].Name, Source: offers[i].Source, Spec: offers[i].Spec.Server(offers[i].Name), Offer: &offers[i]})
	}
	for i := range farms {
		out = append(out, Place{Name: farms[i].Name, Source: farms[i].Source, Spec: farms[i].Spec.Node(), Farm: &farms[i]})
	}
	return out, nil
}

// Backend is the compute backend that a crew renders a shot with: the wanted one if
// all its members have it, else their first; "" for the CPU alone.
func Backend(c stock.Crew, wanted string) string {
	if len(c.Devices) == 1 && c.Devices[0] == stock.CPUDevice || len(c.Backends) == 0 {
		return ""
	}
	if slices.Contains(c.Backends, wanted) {
		return wanted
	}
	return c.Backends[0]
}

// TimingPlace is a crew of a host as far as time goes, with the renderer there.
func TimingPlace(host stock.Host, c stock.Crew, backend, renderer string) timing.Place {
	p := timing.Place{Host: host.Name, Crew: c.ID, Backend: backend, Renderer: renderer}
	for i, id := range c.Devices {
		m := timing.Member{Model: c.Models[i], CPU: id == stock.CPUDevice}
		if d := host.Device(id); d != nil && d.LinkWidth > 0 {
			m.Link = strconv.Itoa(d.LinkWidth)
		}
		p.Members = append(p.Members, m)
	}
	return p
}

// MemoryCrew is a crew of a host as far as memory goes; r is the renderer there, nil
// where it is not known.
func MemoryCrew(host stock.Host, c stock.Crew, r *preflight.Renderer) memory.Crew {
	out := memory.Crew{Linked: c.Linked, Host: memory.GB(host.MemoryGB)}
	for _, id := range c.Devices {
		if d := host.Device(id); d != nil {
			out.Devices = append(out.Devices, memory.Device{ID: id, Total: memory.GB(d.MemoryGB), Held: memory.GB(d.InUseGB)})
		}
	}
	if r != nil {
		out.CanShare, out.CanSpill, out.CanFallBack = r.Shares, r.Spills, r.Falls
	}
	return out
}

// Renderer is the program of a launcher as the host's agent told of it; nil where
// none did.
func (h Host) Renderer(launcher string) *preflight.Renderer {
	for i := range h.Renderers {
		if h.Renderers[i].Launcher == launcher {
			return &h.Renderers[i]
		}
	}
	return nil
}

// OpensAt is when the host's hours next begin, if it is closed at a time; zero else.
func (h Host) OpensAt(now time.Time, zone *time.Location) time.Time {
	const ahead = 8 * 24 * time.Hour
	windows := h.Opens(now, now.Add(ahead), zone)
	if len(windows) == 0 || !windows[0].Start.After(now) {
		return time.Time{}
	}
	return windows[0].Start
}

// Fit judges whether what needs so much memory fits a crew of a host, and says whether its
// renderer can fall back to the CPU. On a server that is yet to come nothing fits.
func Fit(tx *gorm.DB, host, crew string, need memory.Need, launcher string) (fit memory.Fit, falls bool, err error) {
	fit = memory.Fit{Verdict: memory.DoesNotFit, Why: "the host cannot form the crew"}
	var found []Host
	if err := tx.Where("name = ?", host).Find(&found).Error; err != nil || len(found) == 0 {
		return fit, false, err
	}
	if c, ok := found[0].Spec.FindCrew(crew); ok {
		renderer := found[0].Renderer(launcher)
		return memory.Judge(need, MemoryCrew(found[0].Spec, c, renderer)), renderer != nil && renderer.Falls, nil
	}
	return fit, false, nil
}
