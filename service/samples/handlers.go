package samples

import (
	"net/http"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// usual is how many minutes are answered unless others are asked for.
const usual = 120

// Get answers with the samples of a host.
func (q *Samples) Get(w http.ResponseWriter, r *http.Request, host string, params api.GetSamplesParams) {
	minutes := usual
	if params.Minutes != nil {
		minutes = *params.Minutes
	}
	all, step, err := q.Of(r.Context(), host, minutes)
	out := api.Samples{Host: host, StepS: step, Devices: []api.SampleSeries{}}
	for _, s := range all {
		out.Devices = append(out.Devices, api.SampleSeries{
			Device: s.Device, Model: s.Model, MemoryLimitBytes: s.MemoryLimitBytes, At: s.At, Use: s.Use, MemoryBytes: s.MemoryBytes,
			Celsius: s.Celsius, Watts: s.Watts, Mhz: s.MHz, Crew: s.Crew,
		})
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}
