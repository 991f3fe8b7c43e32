package cli

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// chunkSize is into what files are cut.
const chunkSize = 4 << 20

func (a *app) packages() *cobra.Command {
	show := &cobra.Command{
		Use: "show SHOT", Short: "Show what a shot's package holds", Args: cobra.ExactArgs(1), Example: "  rotanex packages show orrery-020",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := client.Decode[api.Package](c.GetPackage(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"file", "size|size_bytes"}, records: p, empty: "The package holds no file."}
			for _, f := range p.Files {
				l.add(f.Path, inBytes(f.Size))
			}
			return a.show(cmd, l)
		}),
	}
	return group("packages", "What shots need to be rendered elsewhere", a.makePackage(), show)
}

func (a *app) makePackage() *cobra.Command {
	return &cobra.Command{
		Use: "make SHOT FOLDER [PATH…]", Short: "Gather what a shot needs to be rendered elsewhere", Args: cobra.MinimumNArgs(2),
		Long: `Stores the files below FOLDER, or those of its PATHs alone, as the shot's package.
Paths are kept as they are below FOLDER, so FOLDER is what agents have as their scene
folder. Files are stored by content: what is there already is not sent again, and a
package that was broken off goes on where it was. What the shot needs and the package
lacks is said before anything is sent.`,
		Example: "  rotanex packages make orrery-020 scenes gears.yaml\n  rotanex packages make orrery-010 scenes orrery",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			shot, err := client.Decode[api.Shot](c.GetShot(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			paths, err := filesBelow(args[1], args[2:])
			if err != nil {
				return err
			}
			if lacks := lacking(shot.Spec, paths); len(lacks) > 0 {
				return fmt.Errorf("shot %s needs %s, which is not among the %d files below %s; nothing was sent", args[0], strings.Join(lacks, ", "), len(paths), args[1])
			}
			files, where, err := cut(args[1], paths)
			if err != nil {
				return err
			}
			sent, err := sendChunks(cmd, c, where)
			if err != nil {
				return fmt.Errorf("%w; start it again to go on", err)
			}
			p, err := client.Decode[api.Package](c.PutPackage(cmd.Context(), args[0], api.NewPackage{Files: files}))
			if err != nil {
				return err
			}
			carried := "all of it was there already"
			if sent > 0 {
				carried = bytesText(sent) + " sent now"
			}
			return a.did(cmd, p, "The package of %s: %s, %s; %s.", p.Shot, several(len(p.Files), "file"), bytesText(p.Size), carried)
		}),
	}
}

// filesBelow lists the files of some paths below a folder, by their path there.
func filesBelow(folder string, only []string) ([]string, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	if len(only) == 0 {
		only = []string{"."}
	}
	var out []string
	for _, start := range only {
		err := fs.WalkDir(root.FS(), filepath.ToSlash(filepath.Clean(start)), func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return fmt.Errorf("%s below %s: %w", start, folder, err)
			}
			kind := d.Type()
			if kind&fs.ModeSymlink != 0 { // what it leads to goes into the package in its place
				info, err := root.Stat(filepath.FromSlash(path))
				if err != nil || info.IsDir() {
					return fmt.Errorf("%s is a link that leads out of %s, to a folder, or nowhere: put what it stands for in its place", path, folder)
				}
				kind = info.Mode().Type()
			}
			if kind.IsRegular() {
				out = append(out, path)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	slices.Sort(out)
	if out = slices.Compact(out); len(out) == 0 {
		return nil, errors.New("there is no file there")
	}
	return out, nil
}

// lacking lists what a shot needs that is not among the paths.
func lacking(s api.ShotSpec, paths []string) (out []string) {
	for _, need := range append([]string{s.Scene}, s.Inputs...) {
		if !slices.Contains(paths, filepath.ToSlash(filepath.Clean(need))) {
			out = append(out, need)
		}
	}
	return out
}

// piece is where a chunk can be read.
type piece struct {
	path string
	at   int64
	size int
}

// cut sums the chunks of all files.
func cut(folder string, paths []string) (files []api.PackageFile, where map[string]piece, err error) {
	where = map[string]piece{}
	buffer := make([]byte, chunkSize)
	for _, p := range paths {
		full := filepath.Join(folder, filepath.FromSlash(p))
		file, err := os.Open(full)
		if err != nil {
			return nil, nil, err
		}
		out := api.PackageFile{Path: p, Chunks: []string{}}
		for {
			n, err := io.ReadFull(file, buffer)
			if n > 0 {
				sum := sha256.Sum256(buffer[:n])
				name := hex.EncodeToString(sum[:])
				where[name] = piece{full, out.Size, n}
				out.Chunks = append(out.Chunks, name)
				out.Size += int64(n)
			}
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				break
			}
			if err != nil {
				_ = file.Close()
				return nil, nil, err
			}
		}
		_ = file.Close()
		files = append(files, out)
	}
	return files, where, nil
}

// sendChunks sends the chunks that the service lacks and returns how many bytes that were.
func sendChunks(cmd *cobra.Command, c *client.Client, where map[string]piece) (sent int64, err error) {
	sums := make([]string, 0, len(where))
	for sum := range where {
		sums = append(sums, sum)
	}
	slices.Sort(sums)
	missing, err := client.Decode[api.ChunkSums](c.MissingChunks(cmd.Context(), api.ChunkSums{Sums: sums}))
	if err != nil {
		return 0, err
	}
	bar := newBar(cmd, "sending", len(missing.Sums))
	defer bar.clear()
	for i, sum := range missing.Sums {
		p := where[sum]
		data := make([]byte, p.size)
		file, err := os.Open(p.path)
		if err == nil {
			_, err = file.ReadAt(data, p.at)
			_ = file.Close()
		}
		if err != nil {
			return sent, err
		}
		if _, err := client.Decode[struct{}](c.PutChunkWithBody(cmd.Context(), sum, "application/octet-stream", bytes.NewReader(data))); err != nil {
			return sent, err
		}
		sent += int64(p.size)
		bar.set(i+1, len(missing.Sums))
	}
	return sent, nil
}
