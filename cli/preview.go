package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/picture"
)

// previewing is what a preview is made of.
type previewing struct {
	shot, layer, to string
	width, columns  int
	exposure, fps   float64
}

// usualFPS is at how many frames a second a shot plays that does not say.
const usualFPS = 24

// encoders are ffmpeg's options by the ending of the file.
var encoders = map[string][]string{
	".mp4":  {"-c:v", "libx264", "-crf", "18", "-preset", "fast", "-pix_fmt", "yuv420p", "-movflags", "+faststart"},
	".webm": {"-c:v", "libvpx-vp9", "-crf", "30", "-b:v", "0", "-row-mt", "1", "-pix_fmt", "yuv420p"},
}

func (a *app) preview() *cobra.Command {
	var p previewing
	c := &cobra.Command{
		Use: "preview RUN --shot SHOT --to FILE", Short: "Make a video or a contact sheet of a shot's frames", Args: cobra.ExactArgs(1),
		Long: `Makes a file to look at of a shot's frames, as they are now; its ending says what: .mp4
and .webm a video, for which ffmpeg must be installed here, .png a contact sheet. Frames that
are not done are grey. OpenEXR is shown in sRGB, by --layer and --exposure.`,
		Example: "  rotanex preview latest --shot orrery-020 --to orrery-020.mp4\n  rotanex preview latest --shot orrery-020 --to sheet.png --columns 12",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			ending := strings.ToLower(filepath.Ext(p.to))
			if ending != ".png" && encoders[ending] == nil {
				return fmt.Errorf("--to %q: want a file that ends in .mp4, .webm or .png", p.to)
			}
			if _, err := exec.LookPath("ffmpeg"); err != nil && ending != ".png" {
				return fmt.Errorf("a %s file needs ffmpeg, which is not on the path here: install it, or make a contact sheet with --to SHEET.png", ending)
			}
			if p.width < 16 || p.width > 1920 {
				return fmt.Errorf("--width %d: want 16 to 1920 pixels", p.width)
			}
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			return a.makePreview(cmd, c, id, p, ending)
		}),
	}
	f := c.Flags()
	f.StringVar(&p.shot, "shot", "", "which shot")
	f.StringVar(&p.to, "to", "", "file to write: .mp4, .webm or .png")
	f.IntVar(&p.width, "width", 960, "of a frame, pixels; of a contact sheet 240 unless it is said")
	f.IntVar(&p.columns, "columns", 8, "of a contact sheet")
	f.Float64Var(&p.fps, "fps", 0, "frames a second; without it the shot's, else 24")
	f.StringVar(&p.layer, "layer", "", "of OpenEXR frames; without it the main one")
	f.Float64Var(&p.exposure, "exposure", 0, "of OpenEXR frames: stops brighter")
	_, _ = c.MarkFlagRequired("shot"), c.MarkFlagRequired("to")
	return c
}

func (a *app) makePreview(cmd *cobra.Command, c *client.Client, id uuid.UUID, p previewing, ending string) error {
	ctx := cmd.Context()
	run, err := client.Decode[api.Run](c.GetRun(ctx, id))
	if err != nil {
		return err
	}
	at := slices.IndexFunc(run.Shots, func(s api.RunShot) bool { return s.Shot == p.shot })
	if at < 0 {
		var names []string
		for _, s := range run.Shots {
			names = append(names, s.Shot)
		}
		return fmt.Errorf("--shot %q is not in this run; it has %s", p.shot, strings.Join(names, ", "))
	}
	shot := run.Shots[at]
	frames, err := pages(func(cursor string) ([]api.Frame, string, error) {
		page, err := client.Decode[api.FrameList](c.ListFrames(ctx, id, &api.ListFramesParams{Shot: new(p.shot), Cursor: some(cursor), Limit: new(5000)}))
		return page.Items, page.Next, err
	})
	if err != nil {
		return err
	}
	if ending == ".png" && !cmd.Flags().Changed("width") {
		p.width = 240
	}
	p.width = min(p.width, shot.Width)
	if p.fps == 0 {
		if p.fps = shot.Fps; p.fps == 0 {
			p.fps = usualFPS
		}
	}
	aside, err := os.MkdirTemp("", "rotanex-preview-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(aside) }()
	missing, err := fetchLooks(cmd, c, id, p, shot, frames, aside)
	if err == nil && ending == ".png" {
		err = contactSheet(p, shot, frames, aside)
	} else if err == nil {
		err = encodeVideo(ctx, p, ending, aside)
	}
	if err != nil {
		return err
	}
	return a.did(cmd, struct {
		File    string  `json:"file"`
		Frames  int     `json:"frames"`
		Missing int     `json:"missing"`
		FPS     float64 `json:"fps"`
	}{p.to, len(frames), missing, p.fps}, "%s: %s, %d of them not done and grey.", p.to, several(len(frames), "frame"), missing)
}

// look is the file of a frame, by its place in the shot.
func look(folder string, i int) string { return filepath.Join(folder, fmt.Sprintf("%06d.png", i)) }

// fetchLooks fetches the pictures of frames, and makes grey ones of those that are not done.
func fetchLooks(cmd *cobra.Command, c *client.Client, id uuid.UUID, p previewing, shot api.RunShot, frames []api.Frame, folder string) (missing int, err error) {
	var grey bytes.Buffer
	// Videos want even sizes.
	blank := picture.Sheet([]picture.Cell{{}}, 1, p.width, shot.Width, shot.Height)
	if err := png.Encode(&grey, blank.SubImage(image.Rect(8, 8, 8+p.width, 8+max(1, p.width*shot.Height/shot.Width)))); err != nil {
		return 0, err
	}
	bar := newBar(cmd, "fetching", len(frames))
	defer bar.clear()
	var done atomic.Int64
	group, ctx := errgroup.WithContext(cmd.Context())
	group.SetLimit(atOnce)
	for i, f := range frames {
		if f.State != api.FrameStateDone {
			missing++
			if err := os.WriteFile(look(folder, i), grey.Bytes(), 0o600); err != nil {
				return 0, err
			}
			continue
		}
		group.Go(func() error {
			if err := fetchLook(ctx, c, id, p, f, look(folder, i)); err != nil {
				return fmt.Errorf("%s frame %d: %w", f.Shot, f.Frame, err)
			}
			bar.set(int(done.Add(1)), len(frames))
			return nil
		})
	}
	return missing, group.Wait()
}

func fetchLook(ctx context.Context, c *client.Client, id uuid.UUID, p previewing, f api.Frame, to string) error {
	params := api.GetPictureParams{Width: new(p.width), Exposure: new(p.exposure), Layer: some(p.layer)}
	if p.exposure == 0 {
		params.Exposure = nil
	}
	answer, err := c.GetPicture(ctx, id, f.Shot, f.Frame, &params)
	if err := client.Check(answer, err); err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	img, _, err := image.Decode(answer.Body) // some widths are JPEG
	if err != nil {
		return err
	}
	file, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	return errors.Join((&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(file, img), file.Close())
}

func contactSheet(p previewing, shot api.RunShot, frames []api.Frame, folder string) error {
	if p.columns < 1 || p.columns > 100 {
		return fmt.Errorf("--columns %d: want 1 to 100", p.columns)
	}
	const most = 2000
	if len(frames) > most {
		return fmt.Errorf("the shot has %d frames, and a contact sheet at most %d: make a video", len(frames), most)
	}
	var cells []picture.Cell
	for i, f := range frames {
		cell := picture.Cell{Label: strconv.Itoa(f.Frame)}
		if f.State != api.FrameStateDone {
			cell.Label += " " + string(f.State)
		} else {
			data, err := os.ReadFile(look(folder, i))
			if err != nil {
				return err
			}
			if cell.Image, err = png.Decode(bytes.NewReader(data)); err != nil {
				return err
			}
		}
		cells = append(cells, cell)
	}
	var out bytes.Buffer
	if err := png.Encode(&out, picture.Sheet(cells, p.columns, p.width, shot.Width, shot.Height)); err != nil {
		return err
	}
	return os.WriteFile(p.to, out.Bytes(), 0o644)
}

// encodeVideo has ffmpeg make the video aside, and puts it in its place once it is whole.
func encodeVideo(ctx context.Context, p previewing, ending, folder string) error {
	aside := filepath.Join(folder, "video"+ending)
	args := []string{"-v", "error", "-y", "-framerate", strconv.FormatFloat(p.fps, 'f', -1, 64), "-i", filepath.Join(folder, "%06d.png"), "-vf", "pad=ceil(iw/2)*2:ceil(ih/2)*2"}
	cmd := exec.CommandContext(ctx, "ffmpeg", append(append(args, encoders[ending]...), aside)...)
	if said, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("ffmpeg: %w: %s", err, strings.TrimSpace(string(said)))
	}
	data, err := os.ReadFile(aside)
	if err != nil {
		return err
	}
	return os.WriteFile(p.to, data, 0o644)
}
