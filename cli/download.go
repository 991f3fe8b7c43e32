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
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync/atomic"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/paths"
	"rotanex.example/core/results"
)

// proofName is how proof frames are named, of which there are a few.
const proofName = "{shot}.{frame:4}.{ext}"

func (a *app) download() *cobra.Command {
	var to, name, files string
	c := &cobra.Command{
		Use: "download RUN --to DIR", Short: "Copy a run's frames to a folder, verified", Args: cobra.ExactArgs(1),
		Long: `Copies every finished frame to DIR/SHOT/SHOT.NNNN.png, those of a pass to
DIR/SHOT/PASS/SHOT.NNNN.png, and what a frame has beside its picture to a folder of its own
there, such as DIR/SHOT/depth/SHOT.NNNN.exr; or as --name says. Verifies each by its SHA-256, and
writes a manifest of checksums, SHA256SUMS, in each folder. Started again, it copies only what is
not there yet or not whole. Exit status: 0 when every frame of the run is there, 6 when some are
not done yet.

With --to FILE.zip all of it is in one ZIP file, which is not gone on with when it is cut short.

--name has the placeholders {shot}, {pass} (nothing for a shot that has none, and no folder then),
{file} (the name of a file beside the picture, nothing for the picture itself), {frame}, {frame:4}
with so many digits at least, and {ext}, the ending of the file. That two files have one name is
found before anything is copied.`,
		Example: "  rotanex download latest --to frames\n  (cd frames/orrery-020 && sha256sum --check SHA256SUMS)\n  rotanex download latest --to out --name '{shot}_v003.{frame:5}.{ext}' --files none\n  rotanex download latest --to comp --files picture,depth\n  rotanex download latest --to friday.zip",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if to == "" {
				return errors.New("--to is needed: the folder to copy the frames to, or FILE.zip")
			}
			id, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			named, err := paths.ParseTemplate(name, results.Holes...)
			if err != nil {
				return fmt.Errorf("--name %w", err)
			}
			wanted, err := results.ParseWanted(files)
			if err != nil {
				return fmt.Errorf("--files %s: %w", files, err)
			}
			if strings.HasSuffix(strings.ToLower(to), ".zip") {
				return a.downloadArchive(cmd, c, id, to, api.GetResultsArchiveParams{Name: name, Files: files})
			}
			return a.downloadRun(cmd, c, id, to, named, wanted)
		}),
	}
	c.Flags().StringVar(&to, "to", "", "folder to copy to, which is made if it is not there; or FILE.zip")
	c.Flags().StringVar(&name, "name", results.UsualName, "how frames are named below it")
	c.Flags().StringVar(&files, "files", "all", "what of each frame: all, none for the picture alone, or names by comma, of which picture is one")
	return c
}

// finished are the frames of a run that are done, with their files.
func finished(frames []api.Frame, shots []api.RunShot) (out []results.Frame) {
	passes := map[string]api.RunShot{}
	for _, s := range shots {
		passes[s.Shot] = s
	}
	for _, f := range frames {
		if f.State != api.FrameStateDone {
			continue
		}
		frame := results.Frame{Shot: f.Shot, PassOf: passes[f.Shot].PassOf, Pass: passes[f.Shot].Pass, Number: f.Frame}
		frame.Files = append(frame.Files, results.File{Ending: string(cmp.Or(f.Format, api.FrameFormatPng)), SHA256: f.Sha256, Bytes: f.Bytes})
		for _, x := range f.Files {
			frame.Files = append(frame.Files, results.File{Name: x.Name, Ending: x.Ending, SHA256: x.Sha256, Bytes: x.Bytes})
		}
		out = append(out, frame)
	}
	return out
}

// atOnce is how many frames are copied side by side.
const atOnce = 4

func (a *app) downloadRun(cmd *cobra.Command, c *client.Client, id uuid.UUID, to string, named paths.Template, wanted results.Wanted) error {
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
	all := finished(frames, run.Shots)
	work, err := results.Name(all, named, wanted)
	if err != nil {
		return err
	}
	missing := len(frames) - len(all)
	root, err := openFolder(to)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	sums := results.Manifests(work)
	for folder := range sums {
		if err := root.MkdirAll(filepath.FromSlash(path.Clean(folder)), 0o755); err != nil {
			return err
		}
	}
	bar := newBar(cmd, "downloading", len(work))
	var there, copied atomic.Int64
	group, ctx := errgroup.WithContext(cmd.Context())
	group.SetLimit(atOnce)
	for _, f := range work {
		group.Go(func() error {
			file := filepath.FromSlash(f.Path)
			if sum, err := sumOf(root, file); err != nil || sum != f.SHA256 {
				if err := fetch(ctx, c, id, f, root, file); err != nil {
					return fmt.Errorf("%s frame %d: %w", f.Shot, f.Number, err)
				}
				copied.Add(1)
			}
			bar.set(int(there.Add(1)), len(work))
			return nil
		})
	}
	err = group.Wait()
	bar.clear()
	if err != nil {
		return fmt.Errorf("%w; start it again to go on: %d of %d files are there", err, there.Load(), len(work))
	}
	for folder, text := range sums {
		if err := writeBelow(root, filepath.Join(filepath.FromSlash(folder), results.Manifest), strings.NewReader(text)); err != nil {
			return err
		}
	}
	report := struct {
		Folder  string `json:"folder"`
		Frames  int    `json:"frames"`
		Files   int    `json:"files"`
		Copied  int    `json:"copied"`
		Missing int    `json:"missing"` // frames that are not done
	}{to, len(all), len(work), int(copied.Load()), missing}
	what := several(len(all), "frame")
	if len(work) != len(all) {
		what = several(len(work), "file") + " of " + what
	}
	if err := a.did(cmd, report, "%s in %s, every checksum verified; %d copied now, %d there before.", what, to, report.Copied, len(work)-report.Copied); err != nil {
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
	return sumAll(file)
}

// sumAll is the SHA-256 of what is read.
func sumAll(r io.Reader) (string, error) {
	hash := sha256.New()
	_, err := io.Copy(hash, r)
	return hex.EncodeToString(hash.Sum(nil)), err
}

// fetch copies one file aside, verifies it and then renames it into its place.
func fetch(ctx context.Context, c *client.Client, id uuid.UUID, f results.Named, root *os.Root, path string) error {
	var answer *http.Response
	var err error
	if f.Name == "" {
		answer, err = c.GetPicture(ctx, id, f.Shot, f.Number, &api.GetPictureParams{})
	} else {
		answer, err = c.GetFrameFile(ctx, id, f.Shot, f.Number, f.Name, &api.GetFrameFileParams{})
	}
	if err := client.Check(answer, err); err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	hash := sha256.New()
	return writeBelow(root, path, io.TeeReader(answer.Body, hash), func(string) error {
		if sum := hex.EncodeToString(hash.Sum(nil)); sum != f.SHA256 {
			return fmt.Errorf("what arrived has SHA-256 %s, want %s", sum, f.SHA256)
		}
		return nil
	})
}

// writeBelow writes a file aside, and renames it into its place once it is whole and all that is asked of it is so.
func writeBelow(root *os.Root, path string, from io.Reader, checks ...func(aside string) error) error {
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
		if err := check(aside); err != nil {
			return err
		}
	}
	return root.Rename(aside, path)
}
