package agent

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"rotanex.example/core/paths"
)

// rootFolder is where this host has a root; "" is the scene folder. Not every host has every root.
func (c *Config) rootFolder(root string) (string, error) {
	if root == "" {
		return c.Scenes, nil
	}
	if folder := c.Roots[root]; folder != "" {
		return folder, nil
	}
	return "", fmt.Errorf("this host has no root %q: start its agent with --root %s=FOLDER", root, root)
}

// validateRoots says what is wrong with the roots.
func (c *Config) validateRoots() error {
	for name, folder := range c.Roots {
		if err := paths.RootName(name); err != nil {
			return fmt.Errorf("--%w", err)
		}
		if folder == "" {
			return fmt.Errorf("--root %s: want %s=FOLDER", name, name)
		}
	}
	return nil
}

// below is a file below a folder, and nothing outside it, whatever links there are.
func below(folder, name string) (string, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return "", err
	}
	defer func() { _ = root.Close() }()
	if _, err := root.Stat(filepath.FromSlash(name)); err != nil {
		return "", err
	}
	return filepath.Abs(filepath.Join(folder, filepath.FromSlash(name)))
}

// files finds files of a shot below the scene folder and the roots, or in its package, and nothing outside them.
func (s *start) files(ctx context.Context, names ...string) (map[string]string, error) {
	packed := ""
	if s.of.Package {
		var err error
		if packed, err = s.agent.scenes(ctx, s.of); err != nil {
			return nil, err
		}
	}
	out := map[string]string{}
	for _, name := range names {
		folder, file := packed, paths.InPackage(name)
		if !s.of.Package {
			root, rest, err := paths.Rooted(name)
			if err == nil {
				folder, err = s.agent.rootFolder(root)
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			file = rest
		}
		found, err := below(folder, file)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = found
	}
	return out, nil
}

// missing lists those of some files that this host does not have.
func (c *Config) missing(ctx context.Context, files []string) []string {
	out := []string{}
	opened := map[string]*os.Root{}
	defer func() {
		for _, root := range opened {
			if root != nil {
				_ = root.Close()
			}
		}
	}()
	for _, name := range files {
		if ctx.Err() != nil {
			break
		}
		if !c.has(opened, name) {
			out = append(out, name)
		}
	}
	return out
}

// has reports whether this host has a file. Roots are opened once.
func (c *Config) has(opened map[string]*os.Root, name string) bool {
	root, rest, err := paths.Rooted(name)
	if err != nil {
		return false
	}
	at, known := opened[root]
	if !known {
		if folder, err := c.rootFolder(root); err == nil {
			at, _ = os.OpenRoot(folder)
		}
		opened[root] = at
	}
	if at == nil {
		return false
	}
	_, err = at.Stat(filepath.FromSlash(rest))
	return err == nil
}
