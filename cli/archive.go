package cli

import (
	"archive/zip"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/results"
)

// downloadArchive copies a run's results into one ZIP file: aside, verified by the manifests in it, then renamed into its place.
func (a *app) downloadArchive(cmd *cobra.Command, c *client.Client, id uuid.UUID, to string, params api.GetResultsArchiveParams) error {
	found, err := client.Decode[api.Results](c.GetResults(cmd.Context(), id, &api.GetResultsParams{Name: params.Name, Files: params.Files}))
	if err != nil {
		return err
	}
	answer, err := c.GetResultsArchive(cmd.Context(), id, &params)
	if err := client.Check(answer, err); err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	root, err := openFolder(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	bar, files := newBar(cmd, "downloading", int(found.Bytes)), 0
	body := &counted{answer.Body, func(n int64) { bar.set(int(min(n, found.Bytes)), int(found.Bytes)) }, 0}
	err = writeBelow(root, filepath.Base(to), body, func(aside string) (err error) {
		files, err = verified(root, aside)
		return err
	})
	bar.clear()
	if err != nil {
		return fmt.Errorf("%s did not arrive whole: %w; start it again", to, err)
	}
	report := struct {
		File    string `json:"file"`
		Frames  int    `json:"frames"`
		Files   int    `json:"files"`
		Missing int    `json:"missing"` // frames that are not done
	}{to, found.Frames, files, found.Of - found.Frames}
	if err := a.did(cmd, report, "%s of %s in %s, every checksum verified.", several(files, "file"), several(found.Frames, "frame"), to); err != nil {
		return err
	}
	if report.Missing > 0 {
		return exit{ExitIncomplete, fmt.Sprintf("%d frames are not done yet: download again later.", report.Missing)}
	}
	return nil
}

// counted tells how much was read.
type counted struct {
	io.Reader
	tell func(int64)
	n    int64
}

func (r *counted) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.n += int64(n)
	r.tell(r.n)
	return n, err
}

// verified holds each file of an archive against the manifest of its folder, and says how many there are.
func verified(root *os.Root, name string) (files int, err error) {
	file, err := root.Open(name)
	if err != nil {
		return 0, err
	}
	defer func() { _ = file.Close() }()
	size, err := file.Stat()
	if err != nil {
		return 0, err
	}
	archive, err := zip.NewReader(file, size.Size())
	if err != nil {
		return 0, err
	}
	want := map[string]string{}
	for _, f := range archive.File {
		folder, base := path.Split(f.Name)
		if base != results.Manifest {
			continue
		}
		text, err := content(f)
		if err != nil {
			return 0, err
		}
		for line := range strings.Lines(text) {
			sum, file, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
			want[folder+file] = sum
		}
	}
	for _, f := range archive.File {
		if path.Base(f.Name) == results.Manifest {
			continue
		}
		sum, err := sumIn(f)
		if err == nil && sum != want[f.Name] {
			err = fmt.Errorf("%s has SHA-256 %s, want %q", f.Name, sum, want[f.Name])
		}
		if err != nil {
			return files, err
		}
		files++
	}
	if files != len(want) {
		err = fmt.Errorf("it has %d files, and its manifests have %d", files, len(want))
	}
	return files, err
}

func content(f *zip.File) (string, error) {
	r, err := f.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	text, err := io.ReadAll(r)
	return string(text), err
}

func sumIn(f *zip.File) (string, error) {
	r, err := f.Open()
	if err != nil {
		return "", err
	}
	defer func() { _ = r.Close() }()
	return sumAll(r)
}
