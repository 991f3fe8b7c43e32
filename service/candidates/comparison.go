package candidates

import (
	"rotanex.example/core/pricing"
	"rotanex.example/core/timing"
	"rotanex.example/service/shots"
)

// Comparison is a shot's crews side by side, and what follows from it.
type Comparison struct {
	Shot      shots.Shot
	Currency  string
	LeftS     float64 // until the shot's deadline
	Baseline  string  // the crew to which speed-ups are; "": nothing was timed
	Note      string
	Crews     []Figures
	Unlike    []UnlikeSettings
	Divisions []HostDivision
	Devices   []DeviceValue
	Stretches []Stretch
	Scaling   []ScalingPoint
}

// Basis says where a crew's seconds come from: measured or predicted, as the timing model
// says, or why there are none.
type Basis string

// Why a crew has no seconds: nothing is known of it, or something keeps the shot from it.
const (
	Unknown Basis = "unknown"
	Blocked Basis = "blocked"
)

// Figures is what is known of a crew for a shot. What is not known is 0.
type Figures struct {
	Place, Source, Crew              string
	Models                           []string
	Devices                          int // GPUs
	CPU                              bool
	Backend                          string
	Basis                            Basis
	Note                             string
	Fit                              string
	Seconds, LowS, HighS             float64 // a frame, and its interval
	OpeningS                         float64 // of the scene, once a start; 0: not known
	InStart                          int     // frames of a start, which share that in Seconds
	Parts                            timing.Parts
	FramesHour                       float64
	WholeS                           float64 // all the shot's frames
	Meets                            bool    // the shot's deadline, alone and from now
	SamplesSecond                    float64
	FrameCost                        *pricing.Money
	FramesMoney                      float64 // frames for one unit of currency
	MeasuredS                        float64 // median of those timed
	Timed                            int
	PeakGB, HostPeakGB               float64
	Use                              float64 // of the devices, 0 to 1
	Speedup, SpeedupLow, SpeedupHigh float64 // to the baseline
	Efficiency                       float64 // of what its devices give one by one
	Difference                       timing.Difference
	Cautions                         []string
}

// UnlikeSettings is what was timed of the shot with other settings than it has now.
type UnlikeSettings struct {
	Place, Crew string
	Seconds     float64
	Timed       int
	Settings    []SettingChange
}

// SettingChange is a setting that is not as it was.
type SettingChange struct{ Name, Now, Then string }

// HostDivision advises into which crews to divide a place.
type HostDivision struct {
	Place, Source string
	Renderers     int // that fit beside each other
	Cores         int
	Best          string
	Ways          []timing.Division
	BreakEven     BreakEven
}

// BreakEven is from which weight of a frame on one large crew beats several small ones.
type BreakEven struct {
	Large, Small string
	Weight       float64 // times the shot's work; 0: there is none
	Seconds      float64 // of such a frame on the first of the small
	Text         string
}

// DeviceValue is what one more of a device would change, and what it gives for its price.
type DeviceValue struct {
	Model, Place       string
	FramesHour         float64
	HoursSaved         float64 // of the whole shot
	Price              pricing.Money
	FramesHourPerPrice float64 // for a thousand
	FramesPerMoney     float64
}

// Stretch is a part of the shot and how heavy it is, beside the shot's mean.
type Stretch struct {
	From, To int
	Weight   float64
	Frames   int // timed
}

// ScalingPoint is what so many devices of a model do together.
type ScalingPoint struct {
	Place, Model         string
	Devices              int
	Seconds, LowS, HighS float64
	MeasuredS            float64
}
