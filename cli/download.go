package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/paths"
)

// manifest is the name of the file of checksums in each shot's folder. It has the
// form that sha256sum --check reads.
const manifest = "SHA256SUMS"

// How frames are named, which sorts by number, and proof frames, of which there are a few.
const (
	usualName = "{shot}/{pass}/{shot}.{frame:4}.{ext}"
	proofName = "{shot}.{frame:4}.{ext}"
)

// nameHoles are what a name may have in it.
var nameHoles = []string{"shot", "pass", "frame", "ext"}

func (a *app) download() *cobra.Command {
	var to, name string
	c := &cobra.Command{
		Use: "download RUN --to DIR", Short: "Copy a run's frames to a folder, verified", Args: cobra.ExactArgs(1),
		Long: `Copies every finished frame to DIR/SHOT/SHOT.NNNN.png, those of a pass to
DIR/SHOT/PASS/SHOT.NNNN.png, or as --name says, verifies each by its SHA-256, and writes a
manifest of checksums, SHA256SUMS, in each folder. Started again, it copies only what is not
there yet or not whole. Exit status: 0 when every frame of the run is there, 6 when some are
not done yet.

--name has the placeholders {shot}, {pass} (nothing for a shot that has none, and no folder then),
{frame}, {frame:4} with so many digits at least, and {ext}, the ending of the file. That two
frames have one name is found before anything is copied.`,
		Example: "  rotanex download latest --to frames\n  (cd frames/orrery-020 && sha256sum --check SHA256SUMS)\n  rotanex download latest --to out --name '{shot}_v003.{frame:5}.{ext}'",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if to == "" {
				return errors.New("--to is needed: the folder to copy the frames to")
			}
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			named, err := paths.ParseTemplate(name, nameHoles...)
			if err != nil {
				return fmt.Errorf("--name %w", err)
			}
			return a.downloadRun(cmd, c, id, to, named)
		}),
	}
	c.Flags().StringVar(&to, "to", "", "folder to copy to; it is made if it is not there")
	c.Flags().StringVar(&name, "name", usualName, "how frames are named below it")
	return c
}

// namedFrame is a finished frame and the path that it is copied to, with slashes.
type namedFrame struct {
	api.Frame
	path string
}

// nameFrames names the finished ones of some frames. No two of them are one file, also where small letters and capital ones are one.
func nameFrames(frames []api.Frame, shots []api.RunShot, named paths.Template) (out []namedFrame, err error) {
	var all paths.Set
	passes := map[string]api.RunShot{}
	for _, s := range shots {
		passes[s.Shot] = s
	}
	for _, f := range frames {
		if f.State != api.FrameStateDone {
			continue
		}
		format := cmp.Or(f.Format, api.FrameFormatPng)
		pass := passes[f.Shot]
		values := map[string]string{"shot": cmp.Or(pass.PassOf, f.Shot), "frame": strconv.Itoa(f.Frame), "ext": string(format)}
		if pass.Pass != "" {
			values["pass"] = pass.Pass
		}
		path, err := named.Fill(values)
		if err != nil {
			return nil, fmt.Errorf("frame %d of %q would be the file %q: %w", f.Frame, f.Shot, path, err)
		}
		if err := all.Add(strings.ToLower(path)); err != nil {
			return nil, fmt.Errorf("frame %d of %s would be the file %s, which is another frame's or in its way: tell them apart by {shot}, {pass} and {frame} in --name", f.Frame, f.Shot, path)
		}
		out = append(out, namedFrame{f, path})
	}
	return out, nil
}

// atOnce is how many frames are copied side by side.
const atOnce = 4

func (a *app) downloadRun(cmd *cobra.Command, c *client.Client, id uuid.UUID, to string, named paths.Template) error {
	frames, err := pages(func(cursor string) ([]api.Frame, string, error) {
		page, err := client.Decode[api.FrameList](c.ListFrames(cmd.Context(), id, &api.ListFramesParams{Cursor: some(cursor), Limit: new(5000)}))
		return page.Items, page.Next, err
	})
	if err != nil {
		return err
	}
	run, err := client.Decode[api.Run](c.GetRun(cmd.Context(), id))
	if err != nil {
		return err
	}
	work, err := nameFrames(frames, run.Shots, named)
	if err != nil {
		return err
	}
	root, err := openFolder(to)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	sums, missing := map[string]*strings.Builder{}, len(frames)-len(work)
	for _, f := range work {
		folder, file := path.Split(f.path)
		if sums[folder] == nil {
			sums[folder] = &strings.Builder{}
			if err := root.MkdirAll(filepath.FromSlash(path.Clean(folder)), 0o755); err != nil {
				return err
			}
		}
		fmt.Fprintf(sums[folder], "%s  %s\n", f.Sha256, file)
	}
	bar := newBar(cmd, "downloading", len(work))
	var done, copied atomic.Int64
	group, ctx := errgroup.WithContext(cmd.Context())
	group.SetLimit(atOnce)
	for _, f := range work {
		group.Go(func() error {
			file := filepath.FromSlash(f.path)
			if sum, err := sumOf(root, file); err != nil || sum != f.Sha256 {
				if err := fetch(ctx, c, id, f.Frame, root, file); err != nil {
					return fmt.Errorf("%s frame %d: %w", f.Shot, f.Frame.Frame, err)
				}
				copied.Add(1)
			}
			bar.set(int(done.Add(1)), len(work))
			return nil
		})
	}
	err = group.Wait()
	bar.clear()
	if err != nil {
		return fmt.Errorf("%w; start it again to go on: %d of %d frames are there", err, done.Load(), len(frames))
	}
	for folder, text := range sums {
		if err := writeBelow(root, filepath.Join(filepath.FromSlash(folder), manifest), strings.NewReader(text.String())); err != nil {
			return err
		}
	}
	report := struct {
		Folder  string `json:"folder"`
		Frames  int    `json:"frames"`
		Copied  int    `json:"copied"`
		Missing int    `json:"missing"`
	}{to, len(work), int(copied.Load()), missing}
	if err := a.did(cmd, report, "%s in %s, every checksum verified; %d copied now, %d there before.", several(len(work), "frame"), to, report.Copied, len(work)-report.Copied); err != nil {
		return err
	}
	if missing > 0 {
		return exit{ExitIncomplete, fmt.Sprintf("%d frames are not done yet: download again later.", missing)}
	}
	return nil
}

// openFolder opens a folder to write below of, which is made if it is not there: what the service calls things is not trusted with a
// path of this machine.
func openFolder(path string) (*os.Root, error) {
	if err := os.MkdirAll(path, 0o755); err != nil {
		return nil, err
	}
	return os.OpenRoot(path)
}

func sumOf(root *os.Root, path string) (string, error) {
	file, err := root.Open(path)
	if err != nil {
		return "", err
	}
	defer func() { _ = file.Close() }()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return "", err
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

// fetch copies one frame aside, verifies it and then renames it into its place.
func fetch(ctx context.Context, c *client.Client, id uuid.UUID, f api.Frame, root *os.Root, path string) error {
	answer, err := c.GetPicture(ctx, id, f.Shot, f.Frame, &api.GetPictureParams{})
	if err := client.Check(answer, err); err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	hash := sha256.New()
	return writeBelow(root, path, io.TeeReader(answer.Body, hash), func() error {
		if sum := hex.EncodeToString(hash.Sum(nil)); sum != f.Sha256 {
			return fmt.Errorf("what arrived has SHA-256 %s, want %s", sum, f.Sha256)
		}
		return nil
	})
}

// writeBelow writes a file aside, and renames it into its place once it is whole and all that is asked of it is so.
func writeBelow(root *os.Root, path string, from io.Reader, checks ...func() error) error {
	aside := filepath.Join(filepath.Dir(path), ".rotanex-"+rand.Text())
	file, err := root.OpenFile(aside, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer func() { _ = root.Remove(aside) }()
	_, err = io.Copy(file, from)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	for _, check := range checks {
		if err := check(); err != nil {
			return err
		}
	}
	return root.Rename(aside, path)
}
