package launchers

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"rotanex.example/core/framefiles"
	"rotanex.example/core/paths"
)

// File is a file that a renderer writes for each frame beside its picture: a layer, data, statistics.
type File struct {
	// Path is where it is below {folder}, with slashes. It may have {frame} in it, or {frame:4} with so many digits at least; and
	// {name} in its last part, of files whose number and names the scene decides: each is called by what stands there.
	Path     string `yaml:"path"`
	Kind     string `yaml:"kind"`     // of core/framefiles
	Optional bool   `yaml:"optional"` // it is not missed, unless the shot asks for it

	at pattern
}

// Written is a file that a renderer has written for a frame.
type Written struct {
	Name, Kind, Ending string
	Path               string // below the folder, with slashes
}

// pattern is where the files of frames are, as a renderer names them.
type pattern struct {
	template paths.Template
	match    *regexp.Regexp
	numbered bool
}

func patternOf(text string, named bool) (p pattern, err error) {
	holes := []string{"frame"}
	if named {
		holes = append(holes, "name")
	}
	if p.template, err = paths.ParseTemplate(text, holes...); err != nil {
		return p, err
	}
	if err := paths.Below(strings.NewReplacer("{", "", "}", "", ":", "").Replace(text)); err != nil {
		return p, fmt.Errorf("%q: %w", text, err)
	}
	if strings.Contains(path.Dir(text), "{name") || strings.Contains(text, "{name:") || strings.Count(text, "{name}") > 1 {
		return p, fmt.Errorf("%q: {name} stands in its last part alone, once, and is no number", text)
	}
	if err := framefiles.ValidEnding(strings.TrimPrefix(path.Ext(text), ".")); err != nil {
		return p, fmt.Errorf("%q: its ending %w", text, err)
	}
	expression, rest, seen := "^", text, map[string]bool{}
	for at := fileHole.FindStringSubmatchIndex(rest); at != nil; at = fileHole.FindStringSubmatchIndex(rest) {
		hole, digits := rest[at[2]:at[3]], "1"
		if at[4] >= 0 {
			digits = rest[at[4]:at[5]]
		}
		expression += regexp.QuoteMeta(rest[:at[0]]) + groupOf(hole, digits, seen[hole])
		seen[hole], rest = true, rest[at[1]:]
	}
	p.match, p.numbered = regexp.MustCompile(expression+regexp.QuoteMeta(rest)+"$"), seen["frame"]
	return p, nil
}

var fileHole = regexp.MustCompile(`\{(frame|name)(?::(\d+))?\}`)

// groupOf is the expression of a placeholder. The same number again is not read again.
func groupOf(hole, digits string, again bool) string {
	of := map[string]string{"frame": `-?\d{` + digits + `,}`, "name": `[A-Za-z0-9_][A-Za-z0-9_-]*`}[hole]
	if again {
		return of
	}
	return "(?P<" + hole + ">" + of + ")"
}

// of reports whether a file is a frame's, and the name that stands in it.
func (p pattern) of(file string, frame int) (name string, ok bool) {
	m := p.match.FindStringSubmatch(file)
	if m == nil {
		return "", false
	}
	if p.numbered {
		if n, err := strconv.Atoi(m[p.match.SubexpIndex("frame")]); err != nil || n != frame {
			return "", false
		}
	}
	if i := p.match.SubexpIndex("name"); i >= 0 {
		name = m[i]
	}
	return name, true
}

// checkFiles says what is wrong with what the launcher says of files.
func (l *Launcher) checkFiles() (faults []error) {
	wrong := func(what string, err error) { faults = append(faults, fmt.Errorf("%s: %w", what, err)) }
	several := l.Together()
	for name, f := range l.Files {
		if err := framefiles.ValidName(name); err != nil {
			wrong("files", err)
		}
		if !slices.Contains(framefiles.Kinds, f.Kind) {
			wrong("files: "+name, fmt.Errorf("kind %q: want %s", f.Kind, strings.Join(framefiles.Kinds, ", ")))
		}
		var err error
		if f.at, err = patternOf(f.Path, true); err != nil {
			wrong("files: "+name, fmt.Errorf("path %w", err))
		} else if several && !f.at.numbered {
			wrong("files: "+name, fmt.Errorf("path %q: of a start of several frames each needs a file of its own: want {frame} in it", f.Path))
		}
		l.Files[name] = f
	}
	if l.Picture == "" {
		return faults
	}
	var err error
	switch l.picture, err = patternOf(l.Picture, false); {
	case err != nil:
		wrong("picture", err)
	case l.StaysOpen != nil:
		wrong("picture", fmt.Errorf("a renderer that stays open is told where each frame goes; leave picture out"))
	case l.Several != nil && !l.picture.numbered:
		wrong("picture", fmt.Errorf("%q: of a start of several frames each needs a file of its own: want {frame} in it", l.Picture))
	}
	return faults
}

// inputsFolder is where the frames of other passes are, which the renderer did not write.
const inputsFolder = "inputs"

// all lists the files below a folder.
func all(folder string) (out []string) {
	_ = fs.WalkDir(os.DirFS(folder), ".", func(file string, d fs.DirEntry, err error) error {
		switch {
		case d != nil && d.IsDir() && file == inputsFolder:
			return fs.SkipDir
		case err == nil && d.Type().IsRegular():
			out = append(out, file)
		}
		return nil
	})
	return out
}

// Folders are those below the work folder into which some frames' files go.
func (l Launcher) Folders(frames []int) (out []string) {
	texts := []pattern{l.picture}
	for _, f := range l.Files {
		texts = append(texts, f.at)
	}
	for _, p := range texts {
		for _, frame := range frames {
			if p.match == nil {
				continue
			}
			file, err := p.template.Fill(map[string]string{"frame": strconv.Itoa(frame), "name": "name"})
			if folder := path.Dir(file); err == nil && folder != "." && !slices.Contains(out, folder) {
				out = append(out, folder)
			}
		}
	}
	return out
}

// PictureOf is the path of a frame's picture below a folder, where it goes by picture or several.
func (l Launcher) PictureOf(folder string, frame int) (file string, found bool) {
	for _, file := range l.candidates(folder) {
		if l.isPicture(file, frame) {
			return file, true
		}
	}
	return "", false
}

// candidates are the files below a folder that may be pictures.
func (l Launcher) candidates(folder string) (out []string) {
	if l.picture.match != nil {
		return all(folder)
	}
	entries, _ := os.ReadDir(folder)
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func (l Launcher) isPicture(file string, frame int) bool {
	if l.picture.match != nil {
		_, ok := l.picture.of(file, frame)
		return ok
	}
	if l.Several == nil {
		return false
	}
	n, ok := l.Several.FrameOf(file)
	return ok && n == frame
}

// Gives says which of some names the renderer writes no file of, whatever its scene.
func (l Launcher) Gives(wants []string) error {
	for _, f := range l.Files {
		if strings.Contains(f.Path, "{name}") {
			return nil
		}
	}
	for _, name := range wants {
		if _, known := l.Files[name]; !known {
			return fmt.Errorf("the shot asks for a file %q beside the picture, and %s writes %s", name, l.Name, cmp.Or(strings.Join(slices.Sorted(maps.Keys(l.Files)), ", "), "none"))
		}
	}
	return nil
}

// Written are the files beside its picture that a frame has below a folder, in the order of their names. Those that it must have,
// by the launcher and by the names in wants, are all there; else the error says which is not.
func (l Launcher) Written(folder string, frame int, wants []string) (out []Written, err error) {
	if len(l.Files)+len(wants) == 0 {
		return nil, nil
	}
	left := slices.DeleteFunc(all(folder), func(file string) bool { return l.isPicture(file, frame) })
	for _, named := range []bool{false, true} { // what is called by itself is not one of many
		for role, f := range l.Files {
			if strings.Contains(f.Path, "{name}") != named {
				continue
			}
			found := 0
			left = slices.DeleteFunc(left, func(file string) bool {
				name, is := f.at.of(file, frame)
				if !is {
					return false
				}
				found++
				if !named {
					name = role
				}
				out = append(out, Written{Name: name, Kind: f.Kind, Ending: strings.TrimPrefix(path.Ext(file), "."), Path: file})
				return true
			})
			if found == 0 && !f.Optional {
				return nil, fmt.Errorf("there is no file of %q, which its launcher says is %s", role, f.Path)
			}
		}
	}
	slices.SortFunc(out, func(a, b Written) int {
		return strings.Compare(strings.ToLower(a.Name)+"\x00"+a.Path, strings.ToLower(b.Name)+"\x00"+b.Path)
	})
	return out, distinct(out, wants)
}

// distinct says which of some names is no name, is that of two files, or which wanted one is that of none.
func distinct(files []Written, wants []string) error {
	if len(files) > framefiles.Most {
		return fmt.Errorf("there are %d files beside the picture, and a frame has %d at most: have the renderer put layers into one file, or its launcher name fewer", len(files), framefiles.Most)
	}
	for i, f := range files {
		if err := framefiles.ValidName(f.Name); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		if i > 0 && strings.EqualFold(files[i-1].Name, f.Name) {
			return fmt.Errorf("%s and %s would both be %q", files[i-1].Path, f.Path, f.Name)
		}
	}
	for _, name := range wants {
		if !slices.ContainsFunc(files, func(f Written) bool { return f.Name == name }) {
			return fmt.Errorf("there is no file of %q, which the shot asks for", name)
		}
	}
	return nil
}
