package timing

// Measurement is what an agent measured of one try of a frame. It is kept as it is; what an
// agent could not read is missing.
type Measurement struct {
	Seconds         float64            `json:"seconds"`                     // by the service's clock, with its part of opening the scene
	OpeningS        float64            `json:"opening_s,omitempty"`         // of the start that rendered it; 0 is not known
	OpeningPartS    float64            `json:"opening_part_s,omitempty"`    // how much of that is in Seconds
	Stages          map[string]float64 `json:"stages,omitempty"`            // seconds of each part
	PeakMemoryBytes int64              `json:"peak_memory_bytes,omitempty"` // of the renderer's process tree
	DevicePeakBytes int64              `json:"device_peak_bytes,omitempty"` // on the fullest device
	DeviceUse       float64            `json:"device_use,omitempty"`        // of the crew's devices on average, 0 to 1
	Conditions      map[string]string  `json:"conditions,omitempty"`        // power, load before the start
	Settings        map[string]string  `json:"settings,omitempty"`          // as the launcher settled them
}

// Alone is what the frame would have taken in a start of its own, in seconds.
func (m Measurement) Alone() float64 { return m.Seconds - m.OpeningPartS + m.OpeningS }
