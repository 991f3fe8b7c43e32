package simulator

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/memory"
	"rotanex.example/core/stock"
)

// Exit statuses of the renderer, which its launcher reads.
const (
	ExitCannotStart = 2
	ExitOutOfMemory = 12
	ExitLicenceLost = 13
	ExitCrashed     = 70
)

// Render is one start of the simulated renderer.
type Render struct {
	Scene, Output, Stock   string
	Frames                 []int // in the order in which they are rendered; of several each is written beside Output, see FileOf
	Frame, Width, Height   int   // Frame is the one in hand
	Devices                []string
	Samples                int
	ClockFactor            float64
	Backend                string
	MemoryMode             string // "", spill or cpu
	Inputs                 string // folder of the frames of other passes, of a composite
	AdaptiveError          float64
	Denoise, DenoiseDevice string
	Bucket                 int
	Layers                 bool // files beside the picture, see writeBeside
	Fail                   string
	Lacks                  string // what is left out without a word: "lamp" is the light in the middle
	Say                    io.Writer
	Orders                 io.Reader // of one that stays open, instead of Frames and Output; nil: it does not
}

// Run opens the scene, renders the frames and returns the exit status.
func (r Render) Run(ctx context.Context) int {
	status, err := r.run(ctx)
	if err != nil {
		_, _ = fmt.Fprintln(r.Say, "error:", err)
	}
	return status
}

func (r Render) run(ctx context.Context) (int, error) {
	scene, err := ReadScene(r.Scene)
	if err != nil {
		return ExitCannotStart, fmt.Errorf("scene %s: %w", r.Scene, err)
	}
	var host stock.Host
	data, err := os.ReadFile(r.Stock)
	if err == nil {
		err = json.Unmarshal(data, &host)
	}
	if err != nil {
		return ExitCannotStart, fmt.Errorf("stock %s: %w", r.Stock, err)
	}
	if r.Orders != nil {
		return r.stay(ctx, scene, host)
	}
	output := r.Output
	for i, frame := range r.Frames {
		r.Frame = frame
		if len(r.Frames) > 1 {
			r.Output = FileOf(output, frame)
		}
		if status, err := r.frame(ctx, scene, host, i == 0); err != nil {
			return status, err
		}
		_, _ = fmt.Fprintf(r.Say, "finished %d\n", frame)
	}
	return 0, nil
}

// FileOf is where a frame is written that is one of several: frame.png becomes
// frame.000012.png.
func FileOf(output string, frame int) string {
	ending := filepath.Ext(output)
	return fmt.Sprintf("%s.%06d%s", strings.TrimSuffix(output, ending), frame, ending)
}

// frame renders the frame in hand. The first one of a start opens the scene.
func (r Render) frame(ctx context.Context, scene Scene, host stock.Host, opens bool) (int, error) {
	fail, err := failFor(r.Fail, r.Frame, host.Name)
	if err != nil {
		return ExitCannotStart, err
	}
	stages, err := r.stages(scene, host, time.Now())
	if fail == "out-of-memory" && err == nil {
		err = outOfMemory{"out of device memory, on demand", memory.GB(scene.DeviceMemoryGB)}
	}
	if err != nil {
		if out := (outOfMemory{}); errors.As(err, &out) {
			_, _ = fmt.Fprintf(r.Say, "device_peak %d\n", int64(out.at))
			return ExitOutOfMemory, err
		}
		return ExitCannotStart, err
	}
	_, _ = fmt.Fprintf(r.Say, "simulator renderer, frame %d of %s on %s\n", r.Frame, scene.Title, strings.Join(r.Devices, ", "))
	_, _ = fmt.Fprintf(r.Say, "device_peak %d\n", int64(r.peak(scene, host)))
	// The picture is painted while the frame's time goes by: what that takes of the real
	// machine is no part of what the simulated one takes.
	whole, err := r.composite()
	if err != nil {
		return ExitCannotStart, err
	}
	painted := make(chan image.Image, 1)
	go func() { painted <- r.paint(scene, fail, whole) }()
	if !opens {
		stages = slices.DeleteFunc(stages, func(s stage) bool { return s.opening() })
	}
	if status, err := r.pass(ctx, stages, fail, host, r.peak(scene, host)); err != nil {
		return status, err
	}
	if r.Layers {
		if err := r.writeBeside(scene, stages); err != nil {
			return ExitCrashed, err
		}
	}
	return r.write(<-painted, fail)
}

// tick is how often progress is told, in real time.
const tick = 200 * time.Millisecond

// pass lets the frame's time go by.
func (r Render) pass(ctx context.Context, stages []stage, fail string, host stock.Host, peak memory.Bytes) (int, error) {
	total, gone := 0.0, 0.0
	for _, s := range stages {
		total += s.seconds
	}
	for _, s := range stages {
		end := time.Now().Add(time.Duration(s.seconds / r.ClockFactor * float64(time.Second)))
		for left := time.Until(end); left > 0; left = time.Until(end) {
			done := gone + s.seconds - left.Seconds()*r.ClockFactor
			r.progress(done / total)
			r.tell(s.name, host, peak)
			select {
			case <-ctx.Done():
				return ExitCrashed, ctx.Err()
			case <-time.After(min(left, tick)):
			}
		}
		if s.name == "work" {
			if status, err := failed(ctx, fail); err != nil {
				return status, err
			}
		}
		gone += s.seconds
		_, _ = fmt.Fprintf(r.Say, "stage %s %.3f\n", s.name, s.seconds)
		if s.name == lastToOpen {
			r.opened()
		}
	}
	return 0, nil
}

// tell says what each device of the crew does in a stage of the frame.
func (r Render) tell(stage string, host stock.Host, peak memory.Bytes) {
	use := map[string]float64{"load": 0.25, "work": 0.97, "finish": 0.1}[stage]
	for _, id := range r.Devices {
		watts, held := host.CPU.Watts, memory.Bytes(0)
		if d := host.Device(id); d != nil {
			watts, held = d.Watts, memory.GB(d.InUseGB)
		} else if stage == "prepare" || stage == "finish" {
			use = 0.8
		}
		bytes := held
		if stage != "prepare" && id != stock.CPUDevice {
			bytes += peak
		}
		_, _ = fmt.Fprintf(r.Say, "device %s use %.2f bytes %d celsius %.0f watts %.0f mhz %.0f\n",
			id, use, int64(bytes), 38+34*use, float64(watts)*(0.12+0.86*use), 600+1350*use)
	}
}

// TellAbout prints what the renderer is, as installed on the host that a file describes.
func TellAbout(w io.Writer, stockFile string) error {
	var host stock.Host
	data, err := os.ReadFile(stockFile)
	if err == nil {
		err = json.Unmarshal(data, &host)
	}
	if err != nil {
		return fmt.Errorf("stock %s: %w", stockFile, err)
	}
	version, plugins := installedOn(host.Name)
	_, _ = fmt.Fprintln(w, "version", version)
	for _, p := range plugins {
		_, _ = fmt.Fprintln(w, "plugin", p)
	}
	return nil
}

// failed fails on demand, when the work is nearly done.
func failed(ctx context.Context, fail string) (int, error) {
	switch fail {
	case "crash":
		return ExitCrashed, errors.New("crashed, on demand")
	case "licence-lost":
		return ExitLicenceLost, errors.New("the licence seat was lost, on demand")
	case "hang":
		<-ctx.Done()
		return ExitCrashed, ctx.Err()
	}
	return 0, nil
}

// paint is the picture: of a composite, that.
func (r Render) paint(scene Scene, fail string, composite image.Image) image.Image {
	if composite != nil {
		return composite
	}
	scene.lampless = r.Lacks == "lamp"
	if fail != "blank" {
		img := Paint(scene, r.Frame, r.Width, r.Height)
		if fail == "dim" { // it is whole, but not as the frames around it
			for i := range img.Pix {
				if i%4 < 3 {
					img.Pix[i] = img.Pix[i] / 4 * 3
				}
			}
		}
		return img
	}
	flat := image.NewNRGBA(image.Rect(0, 0, r.Width, r.Height))
	for i := range flat.Pix {
		flat.Pix[i] = color.NRGBA{40, 40, 40, 40}.R
	}
	return flat
}

func (r Render) write(img image.Image, fail string) (int, error) {
	var file bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&file, img); err != nil {
		return ExitCrashed, err
	}
	data := file.Bytes()
	if fail == "half-written" {
		data = data[:len(data)/2]
	}
	if err := os.WriteFile(r.Output, data, 0o600); err != nil {
		return ExitCrashed, err
	}
	r.progress(1)
	return 0, nil
}
