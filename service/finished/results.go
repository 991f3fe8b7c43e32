package finished

import (
	"archive/zip"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/paths"
	"rotanex.example/core/results"
	"rotanex.example/service/httpapi"
)

// Results are the files of a run's finished frames, as they are named.
type Results struct {
	Frames, Of int // finished ones, of so many
	Files      []results.Named
}

// mostFiles is how many files an archive has at most: their names are held in memory.
const mostFiles = 200_000

// Results names the files of a run's finished frames by a template, empty for the usual one; files are which, empty for all.
func (x *Finished) Results(ctx context.Context, run uuid.UUID, name, files string) (out Results, err error) {
	named, err := paths.ParseTemplate(cmp.Or(name, results.UsualName), results.Holes...)
	if err != nil {
		return out, httpapi.BadField("name", name, err.Error())
	}
	wanted, err := results.ParseWanted(cmp.Or(files, "all"))
	if err != nil {
		return out, httpapi.BadField("files", files, err.Error())
	}
	if err := x.Standing.Known(ctx, run); err != nil {
		return out, err
	}
	tx := x.Files.Store.WithContext(ctx)
	if out.Of, err = framesOf(tx, run); err != nil {
		return out, err
	}
	if out.Of > mostFiles {
		return out, httpapi.Conflict(fmt.Sprintf("the run has %d frames, and an archive at most %d files: use rotanex download, which can be gone on with", out.Of, mostFiles))
	}
	frames, err := finishedOf(tx, run)
	if err != nil {
		return out, err
	}
	out.Frames = len(frames)
	if err := wanted.Check(frames); err != nil {
		return out, httpapi.BadField("files", files, err.Error())
	}
	if out.Files, err = results.Name(frames, named, wanted); err != nil {
		err = httpapi.BadField("name", name, err.Error())
	}
	return out, err
}

// Write writes the files into a ZIP file, each as it is: pictures are packed already.
func (x *Finished) Write(ctx context.Context, w io.Writer, files []results.Named, at time.Time) error {
	archive := zip.NewWriter(w)
	for _, f := range files {
		if err := x.add(ctx, archive, f, at); err != nil {
			return err
		}
	}
	manifests := results.Manifests(files)
	for _, folder := range slices.Sorted(maps.Keys(manifests)) {
		to, err := archive.CreateHeader(&zip.FileHeader{Name: folder + results.Manifest, Method: zip.Deflate, Modified: at})
		if err != nil {
			return err
		}
		if _, err := io.WriteString(to, manifests[folder]); err != nil {
			return err
		}
	}
	return archive.Close()
}

func (x *Finished) add(ctx context.Context, archive *zip.Writer, f results.Named, at time.Time) error {
	from, err := x.Pictures.Open(ctx, f.Key)
	if lost := (*httpapi.Problem)(nil); errors.As(err, &lost) {
		err = httpapi.NotFound(f.Path + ": " + lost.Detail)
	}
	if err != nil {
		return err
	}
	defer func() { _ = from.Close() }()
	to, err := archive.CreateHeader(&zip.FileHeader{Name: f.Path, Method: zip.Store, Modified: at})
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return err
}
