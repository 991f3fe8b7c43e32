package paths

import (
	"fmt"
	"path"
	"regexp"
	"strings"
)

// Files of shots lie below the agents' scene folder, or below a named root, which each host has where its system has it: project: is
// /mnt/project on one and P:\ on another. A name of a root has two letters at least, as one is a drive.

var rooted = regexp.MustCompile(`^([a-z][a-z0-9_-]{1,30}):(.*)$`)

// RootName says what is wrong with the name of a root, or nil.
func RootName(name string) error {
	if m := rooted.FindStringSubmatch(name + ":"); m == nil || m[2] != "" {
		return fmt.Errorf("root %q: want 2 to 31 small letters, digits, '-' and '_', the first a letter, such as project", name)
	}
	return nil
}

// Rooted splits the name of a shot's file into its root, "" for the scene folder, and its path below that. The error says what is wrong
// with the path.
func Rooted(name string) (root, below string, err error) {
	if m := rooted.FindStringSubmatch(name); m != nil {
		root, name = m[1], m[2]
	}
	return root, name, Below(name)
}

// InPackage is where a shot's file lies in its package: what is below a root, in a folder of the root's name.
func InPackage(name string) string {
	if root, below, err := Rooted(name); err == nil && root != "" {
		return path.Join(root, below)
	}
	return strings.TrimPrefix(path.Clean(name), "./")
}
