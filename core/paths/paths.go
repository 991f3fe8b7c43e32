// Package paths decides which names may become paths: of a shot's files below a scene folder, or in its package. Who makes a
// file of one does so in an os.Root as well.
package paths

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"
)

// longest is how many bytes a path, and longestName one of its parts, has at most.
const longest, longestName = 1000, 255

// Below says what is wrong with a path, with slashes, that is to lie below a folder, or nil.
func Below(name string) error {
	switch {
	case name == "" || len(name) > longest:
		return fmt.Errorf("want a path of 1 to %d bytes", longest)
	case !utf8.ValidString(name):
		return errors.New("want UTF-8")
	case strings.ContainsFunc(name, unicode.IsControl) || strings.ContainsRune(name, '\\'):
		return errors.New("want a path without control characters and backslashes")
	case path.IsAbs(name) || name != path.Clean(name) || name == "." || name == ".." || strings.HasPrefix(name, "../"):
		return errors.New("want a path below the folder, in its shortest form, such as orrery/orrery.pov")
	}
	for part := range strings.SplitSeq(name, "/") {
		if len(part) > longestName {
			return fmt.Errorf("want parts of at most %d bytes", longestName)
		}
	}
	return nil
}

// Set is of paths that can lie side by side.
type Set struct {
	files   map[string]bool
	folders map[string]bool
}

// Add adds a file, if it is Below, not there yet, and neither a file nor a folder is in its way; what is refused changes nothing.
func (s *Set) Add(name string) error {
	if err := Below(name); err != nil {
		return err
	}
	if s.files == nil {
		s.files, s.folders = map[string]bool{}, map[string]bool{}
	}
	switch {
	case s.files[name]:
		return errors.New("is listed twice")
	case s.folders[name]:
		return errors.New("is a folder of another file")
	}
	folders := parents(name)
	for _, folder := range folders {
		if s.files[folder] {
			return fmt.Errorf("lies below %s, which is a file", folder)
		}
	}
	for _, folder := range folders {
		s.folders[folder] = true
	}
	s.files[name] = true
	return nil
}

// parents lists the folders a path lies in, the innermost first.
func parents(name string) []string {
	var all []string
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		all = append(all, folder)
	}
	return all
}

// Has reports whether a file was added.
func (s *Set) Has(name string) bool { return s.files[name] }
