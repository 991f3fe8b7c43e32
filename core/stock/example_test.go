package stock_test

import (
	"fmt"
	"strings"
	"time"

	"rotanex.example/core/stock"
)

// A host with two GPUs can be put to work in seven ways.
func ExampleHost_Crews() {
	h := stock.Host{
		Name: "eddy", CPU: stock.CPU{Model: "Keel 24", Cores: 24}, MemoryGB: 64,
		Devices: []stock.Device{{ID: "g0", Model: "Halyard 12", MemoryGB: 12, Backends: []string{"compute2"}}, {ID: "g1", Model: "Halyard 12", MemoryGB: 12, Backends: []string{"compute2"}}},
		Open:    []stock.Hours{{Days: "mon-fri", From: "19:00", To: "08:00"}},
	}
	var ids []string
	for _, c := range h.Crews() {
		ids = append(ids, c.ID)
	}
	fmt.Println(strings.Join(ids, " "))
	friday := time.Date(2031, 3, 7, 12, 0, 0, 0, time.UTC)
	for _, w := range h.Windows(friday, friday.Add(24*time.Hour), time.UTC) {
		fmt.Println(w.Start.Format("Mon 15:04"), "to", w.End.Format("Mon 15:04"))
	}
	// Output:
	// g0 g1 g0+g1 cpu g0+cpu g1+cpu g0+g1+cpu
	// Fri 19:00 to Sat 08:00
}
