package cli

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
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
	aside, err := os.CreateTemp(filepath.Dir(to), ".rotanex-*.zip")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(aside.Name()) }()
	bar := newBar(cmd, "downloading", int(found.Bytes))
	_, err = io.Copy(aside, &counted{answer.Body, func(n int64) { bar.set(int(min(n, found.Bytes)), int(found.Bytes)) }, 0})
	bar.clear()
	if err = errors.Join(err, aside.Sync(), aside.Close()); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	files, err := verified(aside.Name())
	if err != nil {
		return fmt.Errorf("%s: what arrived is not whole: %w; start it again", to, err)
	}
	if err := os.Rename(aside.Name(), to); err != nil {
		return err
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
func verified(name string) (files int, err error) {
	archive, err := zip.OpenReader(name)
	if err != nil {
		return 0, err
	}
	defer func() { _ = archive.Close() }()
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
	sum := sha256.New()
	_, err = io.Copy(sum, r)
	return hex.EncodeToString(sum.Sum(nil)), err
}
