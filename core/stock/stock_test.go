package stock_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
)

func host(devices ...stock.Device) stock.Host {
	return stock.Host{
		Name: "bellows", Source: "loft", CPU: stock.CPU{Model: "Keel 16", Cores: 16, Watts: 120}, MemoryGB: 64,
		Power: stock.Power{PriceKWh: pricing.MustMoney("0.30")}, Devices: devices,
	}
}

func gpu(id, model string, gb float64, backends ...string) stock.Device {
	return stock.Device{ID: id, Model: model, MemoryGB: gb, Backends: backends, Watts: 300}
}

func ids(crews []stock.Crew) []string {
	var out []string
	for _, c := range crews {
		out = append(out, c.ID)
	}
	return out
}

func TestCrewsOfAnUnequalPair(t *testing.T) {
	h := host(gpu("g0", "Halyard 24", 24, "compute2", "compute1"), gpu("g1", "Halyard 12", 12, "compute1"))
	require.NoError(t, h.Validate())
	assert.Equal(t, []string{"g0", "g1", "g0+g1", "cpu", "g0+cpu", "g1+cpu", "g0+g1+cpu"}, ids(h.Crews()))
	both, ok := h.FindCrew("g0+g1")
	require.True(t, ok)
	assert.InDelta(t, 12, both.MemoryGB, 0, "the smaller device is the limit, not the sum")
	assert.Equal(t, []string{"compute1"}, both.Backends, "only what both can use")
	assert.Equal(t, "0.18", h.BusyPrice(both).String())
}

func TestCrewsLeaveOutWhatCannotWork(t *testing.T) {
	broken := gpu("g1", "Halyard 8", 8, "compute1")
	broken.Unusable = "driver 3.1 is older than 4.0"
	h := host(gpu("g0", "Halyard 24", 24, "compute2"), broken, gpu("g2", "Topsail 24", 24, "other"))
	assert.Equal(t, []string{"g0", "g2", "cpu", "g0+cpu", "g2+cpu"}, ids(h.Crews()), "g0 and g2 share no backend, g1 is unusable")
}

func TestLinkedPair(t *testing.T) {
	a, b := gpu("g0", "Topsail 24", 24, "compute2"), gpu("g1", "Topsail 24", 24, "compute2")
	a.LinkedTo, b.LinkedTo = "g1", "g0"
	pair, ok := host(a, b).FindCrew("g0+g1")
	require.True(t, ok)
	assert.True(t, pair.Linked)
	b.LinkedTo = ""
	assert.ErrorContains(t, host(a, b).Validate(), "a memory link joins two devices of one model")
}

func TestValidateNamesWhatIsWrong(t *testing.T) {
	bad := stock.Host{Name: "Bad Host", Open: []stock.Hours{{Days: "someday"}}, Devices: []stock.Device{{ID: "cpu"}}}
	err := bad.Validate()
	for _, want := range []string{`"Bad Host"`, "source is missing", "cpu.cores 0", "memory_gb 0", `device id "cpu"`, `days "someday"`} {
		assert.ErrorContains(t, err, want)
	}
	offer := stock.Offer{Name: "tern-solo", Source: "tern", CPU: stock.CPU{Cores: 8}, MemoryGB: 32}
	assert.ErrorContains(t, offer.Validate(), "max_servers 0")
	assert.ErrorContains(t, offer.Validate(), "increment_s 0")
}

func TestWindows(t *testing.T) {
	desk := host()
	desk.Open = []stock.Hours{{Days: "mon-fri", From: "19:00", To: "08:00"}, {Days: "sat,sun"}}
	require.NoError(t, desk.Validate())
	friday := time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)
	got := desk.Windows(friday, friday.Add(72*time.Hour), time.UTC)
	require.Len(t, got, 1, "Friday night, the weekend: one stretch; Monday until 08:00 belongs to Sunday's end only")
	assert.Equal(t, friday.Add(time.Hour), got[0].Start)
	assert.Equal(t, time.Date(2031, 3, 10, 0, 0, 0, 0, time.UTC), got[0].End)

	monday := time.Date(2031, 3, 10, 12, 0, 0, 0, time.UTC)
	week := desk.Windows(monday, monday.Add(48*time.Hour), time.UTC)
	require.Len(t, week, 2)
	assert.Equal(t, 13*time.Hour, week[0].End.Sub(week[0].Start))
	assert.Equal(t, []stock.Window{{Start: monday, End: monday.Add(time.Hour)}}, host().Windows(monday, monday.Add(time.Hour), time.UTC))
}

func TestOfferIsBilledLikeItsRateCard(t *testing.T) {
	o := stock.Offer{Name: "tern-quad", Source: "tern", MaxServers: 2, PriceH: pricing.MustMoney("8.20"), IncrementS: 3600, MinimumS: 10800, CPU: stock.CPU{Cores: 8}, MemoryGB: 64}
	require.NoError(t, o.Validate())
	assert.Equal(t, "24.60", o.Meter().Charge(15*time.Minute).String())
}
