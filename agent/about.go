package agent

import (
	"context"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/disk"

	"rotanex.example/api"
	"rotanex.example/launchers"
)

// askFor bounds how long a renderer may take to say what it is.
const askFor = 10 * time.Second

// renderers says what the programs of the allowed launchers are, as installed here.
func (a *Agent) renderers(ctx context.Context) []api.Renderer {
	var out []api.Renderer
	for _, l := range a.Launchers {
		out = append(out, a.renderer(ctx, l))
	}
	slices.SortFunc(out, func(x, y api.Renderer) int { return strings.Compare(x.Launcher, y.Launcher) })
	return out
}

func (a *Agent) renderer(ctx context.Context, l launchers.Launcher) api.Renderer {
	r := api.Renderer{Launcher: l.Name, CpuOnly: l.Devices == "cpu", Settings: slices.Sorted(maps.Keys(l.Settings)), Lacks: l.Lacks, Shares: l.Shares, Spills: l.Spills, FallsBack: l.FallsBack}
	if _, err := exec.LookPath(l.Program); err != nil {
		r.Trouble = l.Program + " is not on the agent's path"
		return r
	}
	args := l.AboutArguments(a.stock)
	if len(args) == 0 {
		return r
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	cmd := exec.CommandContext(ctx, l.Program, args...)
	cmd.WaitDelay = time.Second
	text, err := cmd.CombinedOutput()
	r.Version, r.Plugins = l.ReadAbout(string(text))
	if err != nil && r.Version == "" {
		r.Trouble = l.Program + " " + strings.Join(args, " ") + ": " + err.Error()
	}
	return r
}

// networkKinds are file systems whose files lie on another machine.
var networkKinds = []string{"nfs", "nfs4", "cifs", "smb", "smb2", "smb3", "9p", "afs", "ceph", "glusterfs", "fuse.sshfs", "fuse.s3fs", "fuse.rclone"}

// folder says what the folder is like that frames are rendered to.
func (a *Agent) folder() api.Folder { return folderAt(filepath.Join(a.StateDir, "work")) }

func folderAt(work string) (out api.Folder) {
	if f, err := os.CreateTemp(work, "try-*"); err == nil {
		_ = f.Close()
		out.Writable = os.Remove(f.Name()) == nil
	}
	if usage, err := disk.Usage(work); err == nil {
		out.FreeGb = float64(usage.Free) / 1e9
	}
	out.Filesystem = filesystemOf(work)
	out.Network = slices.Contains(networkKinds, out.Filesystem)
	return out
}

// filesystemOf is the kind of file system that a path lies on, "" if that cannot be told.
func filesystemOf(path string) string {
	path, err := filepath.Abs(path)
	if err != nil {
		return ""
	}
	mounts, _ := disk.Partitions(true)
	kind, longest := "", -1
	for _, m := range mounts {
		below := m.Mountpoint == "/" || path == m.Mountpoint || strings.HasPrefix(path, m.Mountpoint+"/")
		if below && len(m.Mountpoint) > longest {
			kind, longest = m.Fstype, len(m.Mountpoint)
		}
	}
	return kind
}
