// Package framefiles keeps the files that frames have beside their pictures: layers, data, statistics. They are sent before the
// picture, under the same lease; those of a frame that is done are those of the lease that did it.
package framefiles

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"

	"rotanex.example/core/framefiles"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/pictures"
	"rotanex.example/service/store"
)

// File is one of them.
type File struct {
	FrameID int64
	Name    string
	Fence   int64
	Kind    string // of core/framefiles
	Ending  string // of its name
	SHA256  string `gorm:"column:sha256"`
	Bytes   int64
	Key     string // where it is stored
}

// TableName is GORM's hook.
func (File) TableName() string { return "frame_files" }

// Files keeps them.
type Files struct {
	Store    *store.Store
	Pictures *pictures.Pictures
}

// Lease is a frame under lease: Keys is how the keys of all that it has begin.
type Lease struct {
	Frame, Fence  int64
	Host, Keys    string
	Width, Height int
}

// Keep stores a file of a lease, with the SHA-256 that it is to have; false: the lease is not held any more, and nothing is kept.
func (x *Files) Keep(ctx context.Context, l Lease, f File, sum []byte, body io.Reader) (kept bool, err error) {
	f.FrameID, f.Fence = l.Frame, l.Fence
	others, err := othersOf(x.Store.WithContext(ctx), f)
	if err == nil && others >= framefiles.Most {
		err = httpapi.BadField("file", f.Name, fmt.Sprintf("is one more than the %d files that a frame has at most", framefiles.Most))
	}
	if err != nil {
		return false, err
	}
	f.SHA256, f.Key = fmt.Sprintf("%x", sum), fmt.Sprintf("%s~%s-%x", l.Keys, f.Name, sum[:8]) // a late answer touches none that counts
	if f.Bytes, err = x.Pictures.KeepFile(ctx, f.Key, body, sum, f.Kind, l.Width, l.Height); err != nil {
		return false, err
	}
	if kept, err = note(x.Store.WithContext(ctx), l.Host, f); err != nil || kept {
		return kept, err
	}
	if same, err := noted(x.Store.WithContext(ctx), f); err != nil || same {
		return same, err // of a frame that this very lease has done
	}
	x.Pictures.Drop(ctx, f.Key)
	return false, nil
}

// Complete is a problem that names what a lease lacks of files that it must have.
func (x *Files) Complete(ctx context.Context, l Lease, wants []string) error {
	if len(wants) == 0 {
		return nil
	}
	lacks, err := lacking(x.Store.WithContext(ctx), l.Frame, l.Fence, wants)
	if err == nil && len(lacks) > 0 {
		err = httpapi.BadField("body", "", fmt.Sprintf("its shot asks for a file %q beside the picture, which is not here: send it first", lacks[0]))
	}
	return err
}

// Named is one of a finished frame, by its name.
func (x *Files) Named(ctx context.Context, frame int64, name string) (File, error) {
	all, err := x.Of(ctx, []int64{frame})
	if err != nil {
		return File{}, err
	}
	names := []string{}
	for _, f := range all[frame] {
		if f.Name == name {
			return f, nil
		}
		names = append(names, f.Name)
	}
	return File{}, httpapi.NotFound(fmt.Sprintf("the frame has no file %q beside its picture: those are %s", name, cmp.Or(strings.Join(names, ", "), "none")))
}

// Of reads those of finished frames, by the frames' ids, each in the order of their names.
func (x *Files) Of(ctx context.Context, frames []int64) (map[int64][]File, error) {
	found, err := of(x.Store.WithContext(ctx), frames)
	out := map[int64][]File{}
	for _, f := range found {
		out[f.FrameID] = append(out[f.FrameID], f)
	}
	return out, err
}
