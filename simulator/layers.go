package simulator

import (
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
)

// writeBeside writes what the frame in hand has beside its picture: layers/depth.0012.png, light where it is near;
// layers/matte.0012.png, a colour for each planet; and stats/0012.json.
func (r Render) writeBeside(scene Scene, stages []stage) error {
	depth, matte := layersOf(scene, r.Frame, r.Width, r.Height)
	stats := map[string]any{"frame": r.Frame, "samples": r.Samples, "devices": r.Devices}
	for _, s := range stages {
		stats[s.name+"_s"] = math.Round(s.seconds*1000) / 1000
	}
	text, err := json.Marshal(stats)
	if err != nil {
		return err
	}
	if err := r.beside("layers/depth.%04d.png", func(f *os.File) error { return png.Encode(f, depth) }); err != nil {
		return err
	}
	if err := r.beside("layers/matte.%04d.png", func(f *os.File) error { return png.Encode(f, matte) }); err != nil {
		return err
	}
	return r.beside("stats/%04d.json", func(f *os.File) error {
		_, err := fmt.Fprintf(f, "%s\n", text)
		return err
	})
}

// beside writes a file below the folder of the picture.
func (r Render) beside(name string, write func(*os.File) error) error {
	path := filepath.Join(filepath.Dir(r.Output), filepath.FromSlash(fmt.Sprintf(name, r.Frame)))
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := write(f); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

// layersOf are how near each point of a frame is, and to which planet it belongs.
func layersOf(s Scene, frame, width, height int) (depth *image.Gray, matte *image.NRGBA) {
	depth, matte = image.NewGray(image.Rect(0, 0, width, height)), image.NewNRGBA(image.Rect(0, 0, width, height))
	scale := float64(height)
	k := s.sky(float64(frame)/float64(max(1, s.Frames)), 1.15/scale)
	for y := range height {
		for x := range width {
			u, v := (float64(x)+0.5-float64(width)/2)/scale*1.15, (float64(y)+0.5-float64(height)/2)/scale*1.15
			near, of := k.near(u, v)
			depth.SetGray(x, y, color.Gray{Y: uint8(255 * near)})
			if of != nil {
				c := of.colour.colour()
				matte.SetNRGBA(x, y, color.NRGBA{c.R, c.G, c.B, 255})
			} else {
				matte.SetNRGBA(x, y, color.NRGBA{0, 0, 0, 255})
			}
		}
	}
	return depth, matte
}

// near is how near a point is, 0 to 1, and the planet that is there: those that are lower in the picture are nearer.
func (k *sky) near(u, v float64) (near float64, of *ball) {
	for i, p := range k.balls {
		dx, dy := (u-p.x)/p.size, (v-p.y)/p.size
		if d := dx*dx + dy*dy; d <= 1 {
			near, of = min(1, max(0, 0.5+0.8*p.y+0.5*p.size*math.Sqrt(1-d))), &k.balls[i]
		}
	}
	return near, of
}
