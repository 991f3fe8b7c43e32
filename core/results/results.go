// Package results names the files of finished frames as they are handed on: by a template, none of them twice, with a manifest of
// checksums in each folder.
package results

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"rotanex.example/core/framefiles"
	"rotanex.example/core/paths"
)

// UsualName is how files are named unless somebody says otherwise: it sorts by number.
const UsualName = "{shot}/{pass}/{file}/{shot}.{frame:4}.{ext}"

// Holes are what a name may have in it.
var Holes = []string{"shot", "pass", "file", "frame", "ext"}

// Manifest is the name of the file of checksums in each folder. It has the form that sha256sum --check reads.
const Manifest = "SHA256SUMS"

// Frame is a finished frame.
type Frame struct {
	Shot, PassOf, Pass string // of a pass, its shot and its name there too
	Number             int
	Files              []File
}

// File is one of a frame. The name of its picture is empty.
type File struct {
	Name, Ending, SHA256 string
	Bytes                int64
	Key                  string // where it is
}

// Named is a file and the path that it is given, with slashes.
type Named struct {
	Frame
	File
	Path string
}

// Wanted are the files of each frame that are meant, by name; nil: all.
type Wanted []string

// ParseWanted reads all, none (the picture alone) or names with commas, of which picture is one.
func ParseWanted(text string) (Wanted, error) {
	switch text {
	case "all":
		return nil, nil
	case "none":
		return Wanted{framefiles.Main}, nil
	}
	out := Wanted(strings.Split(text, ","))
	for _, name := range out {
		if err := framefiles.ValidName(name); err != nil && name != framefiles.Main {
			return nil, err
		}
	}
	return out, nil
}

func (w Wanted) has(name string) bool {
	return w == nil || slices.Contains(w, cmp.Or(name, framefiles.Main))
}

// Check says which of the names no frame has.
func (w Wanted) Check(frames []Frame) error {
	there := map[string]bool{framefiles.Main: true}
	for _, f := range frames {
		for _, x := range f.Files {
			there[cmp.Or(x.Name, framefiles.Main)] = true
		}
	}
	for _, name := range w {
		if !there[name] {
			return fmt.Errorf("no finished frame has a file %q; there are %s", name, strings.Join(slices.Sorted(maps.Keys(there)), ", "))
		}
	}
	return nil
}

// Name names the wanted files of frames. No two of them are one, also where small letters and capital ones are one; else the error says
// which would be.
func Name(frames []Frame, named paths.Template, wanted Wanted) (out []Named, err error) {
	var all paths.Set
	for _, f := range frames {
		for _, x := range f.Files {
			if !wanted.has(x.Name) {
				continue
			}
			path, err := pathOf(f, x, named)
			if err == nil {
				err = all.Add(strings.ToLower(path))
				if err != nil {
					err = fmt.Errorf("%s would be the file %s, which is another one's or in its way: tell them apart by {shot}, {pass}, {file} and {frame}", called(f, x), path)
				}
			}
			if err != nil {
				return nil, err
			}
			out = append(out, Named{f, x, path})
		}
	}
	return out, wanted.Check(frames)
}

func pathOf(f Frame, x File, named paths.Template) (string, error) {
	values := map[string]string{"shot": cmp.Or(f.PassOf, f.Shot), "frame": strconv.Itoa(f.Number), "ext": x.Ending}
	for name, value := range map[string]string{"pass": f.Pass, "file": x.Name} {
		if value != "" {
			values[name] = value
		}
	}
	to, err := named.Fill(values)
	if err == nil && strings.EqualFold(path.Base(to), Manifest) {
		err = fmt.Errorf("that is the file of checksums")
	}
	if err != nil {
		err = fmt.Errorf("%s would be the file %q: %w", called(f, x), to, err)
	}
	return to, err
}

// called is a file in words.
func called(f Frame, x File) string {
	of := fmt.Sprintf("frame %d of %s", f.Number, f.Shot)
	if x.Name != "" {
		of = x.Name + " of " + of
	}
	return of
}

// Manifests are those of some files, by folder: "" or one with a slash at its end.
func Manifests(all []Named) map[string]string {
	texts := map[string]*strings.Builder{}
	for _, f := range all {
		folder, file := path.Split(f.Path)
		if texts[folder] == nil {
			texts[folder] = &strings.Builder{}
		}
		fmt.Fprintf(texts[folder], "%s  %s\n", f.SHA256, file)
	}
	out := map[string]string{}
	for folder, text := range texts {
		out[folder] = text.String()
	}
	return out
}
