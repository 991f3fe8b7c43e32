package shots

import "time"

// Spec is a shot as it is kept, and copied into each of its runs. A change of the contract
// does not change it: what is added here has a meaning where it is missing, and what is
// renamed is migrated.
type Spec struct {
	Name     string            `json:"name"`
	Title    string            `json:"title,omitempty"`
	Scene    string            `json:"scene"`  // below the agents' scene folder
	Frames   string            `json:"frames"` // as of a frames.Set
	Width    int               `json:"width"`
	Height   int               `json:"height"`
	Launcher string            `json:"launcher"`
	Settings map[string]string `json:"settings,omitempty"`
	FPS      float64           `json:"fps,omitempty"`     // at which it plays; 0: 24
	Deadline time.Time         `json:"deadline,omitzero"` // zero: none of its own
	Inputs   []string          `json:"inputs,omitempty"`  // files beside the scene
	Files    []string          `json:"files,omitempty"`   // names of those that each frame must have beside its picture

	Passes []Pass `json:"passes,omitempty"` // in which it is rendered; each is a shot of its own as well
	// Of a pass: its shot, its name there, and the shots whose frame it needs for its own.
	PassOf string   `json:"pass_of,omitempty"`
	Pass   string   `json:"pass,omitempty"`
	After  []string `json:"after,omitempty"`

	// What its renderer must be and have.
	Backend  string   `json:"backend,omitempty"`
	Devices  []string `json:"devices,omitempty"` // what may render it: gpu, cpu, hybrid, a model, HOST/CREW; none is any
	Version  string   `json:"version,omitempty"` // a constraint, such as ">= 4.2"
	Plugins  []string `json:"plugins,omitempty"`
	Features []string `json:"features,omitempty"`
	Accepts  []string `json:"accepts,omitempty"` // features whose lack was accepted by name
	Licence  string   `json:"licence,omitempty"` // the pool that a renderer takes a seat from

	// What it needs of memory, in gigabytes of 10^9 bytes.
	HostMemoryGB   float64  `json:"host_memory_gb,omitempty"`   // of one running renderer
	DeviceMemoryGB float64  `json:"device_memory_gb,omitempty"` // geometry and textures on each device
	TexturesGB     float64  `json:"textures_gb,omitempty"`      // the part of it that could be spilled
	Buffers        int      `json:"buffers,omitempty"`          // of the picture; 0 is one
	OutOfMemory    []string `json:"out_of_memory,omitempty"`    // what is permitted, in the order in which to try it
}
