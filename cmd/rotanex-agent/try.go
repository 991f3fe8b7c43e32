package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rotanex.example/agent"
	"rotanex.example/core/frames"
	"rotanex.example/launchers"
)

// try renders frames on this host without a service.
func try() *cobra.Command {
	var c agent.Config
	var t agent.Trial
	var folder, scene, which, crew, output, simulated string
	cmd := &cobra.Command{
		Use: "try LAUNCHER", Short: "Render frames here without a service, and print what was read of the renderer", Args: cobra.ExactArgs(1),
		Long: `Renders frames as they would be for a run: the renderer is started by the launcher, read,
measured and killed when it hangs, and each picture is checked. LAUNCHER is the name of one that
ships or lies in --launchers, or a launcher file.`,
		Example: `  rotanex-agent try povray --scene orrery/orrery.pov --scenes /srv/scenes --frames 1-3
  rotanex-agent try ./mine.yaml --scene lamp.blk --frames 1-10 --setting samples=64 --output json`,
		SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			l, err := find(args[0], folder)
			if err != nil {
				return err
			}
			set, err := frames.Parse(which)
			if err != nil {
				return fmt.Errorf("--frames %q: %w", which, err)
			}
			if output != "table" && output != "json" {
				return fmt.Errorf("--output %q: want table or json", output)
			}
			if simulated != "" {
				if c.Simulated, err = readHosts(simulated); err != nil {
					return err
				}
			}
			c.Launchers = map[string]launchers.Launcher{l.Name: l}
			t.Launcher, t.Scene, t.Frames = l.Name, filepath.ToSlash(scene), slices.Collect(set.All())
			if crew != "" {
				t.Devices = strings.Split(crew, "+")
			}
			if err := os.MkdirAll(t.To, 0o700); err != nil {
				return err
			}
			if output == "json" {
				all := []agent.Tried{}
				err := agent.Try(cmd.Context(), c, t, func(x agent.Tried) { all = append(all, x) })
				out := json.NewEncoder(cmd.OutOrStdout())
				out.SetIndent("", "  ")
				return errors.Join(out.Encode(all), err)
			}
			return agent.Try(cmd.Context(), c, t, func(x agent.Tried) { fmt.Fprint(cmd.OutOrStdout(), words(x)) })
		},
	}
	f := cmd.Flags()
	f.SetNormalizeFunc(oneFrame)
	f.StringVar(&scene, "scene", "", "scene file, below --scenes")
	f.StringVar(&which, "frames", "1", "frames, such as 1-3 or 1-9x2,20")
	f.StringVar(&c.Scenes, "scenes", ".", "folder below which scene files lie")
	f.StringToStringVar(&c.Roots, "root", nil, "NAME=FOLDER, as often as wanted: where this host has the files of shots that are named NAME:path, such as project=/mnt/project")
	f.StringVar(&folder, "launchers", "", "folder of this host's own launcher files")
	f.IntVar(&t.Width, "width", 640, "pixels")
	f.IntVar(&t.Height, "height", 360, "pixels")
	f.StringVar(&crew, "crew", "", "devices, such as g0+g1 or cpu; default the first that the launcher takes")
	f.StringVar(&t.Backend, "backend", "", "compute backend")
	f.StringToStringVar(&t.Settings, "setting", nil, "NAME=VALUE, as often as wanted; the launcher's defaults else")
	f.StringVar(&t.To, "to", "rotanex-try", "folder for the pictures")
	f.StringVar(&output, "output", "table", "table or json")
	f.StringVar(&simulated, "simulate", "", "file of hosts whose devices are simulated; this host takes its own from it")
	f.StringVar(&c.Host, "host", "", "this host's name in that file; default the machine's name")
	_ = cmd.MarkFlagRequired("scene")
	return cmd
}

// find is a launcher by name, or read from a file.
func find(which, folder string) (launchers.Launcher, error) {
	if strings.HasSuffix(which, ".yaml") || strings.ContainsRune(which, os.PathSeparator) {
		data, err := os.ReadFile(which)
		if err != nil {
			return launchers.Launcher{}, err
		}
		l, err := launchers.Parse(data)
		if err != nil {
			err = fmt.Errorf("%s: %w", which, err)
		}
		return l, err
	}
	all, err := launchers.Load(folder)
	if err != nil {
		return launchers.Launcher{}, err
	}
	l, ok := all[which]
	if !ok {
		return l, fmt.Errorf("there is no launcher %q; there are %s", which, strings.Join(slices.Sorted(maps.Keys(all)), ", "))
	}
	return l, nil
}

// words say what was read of a frame.
func words(x agent.Tried) string {
	m := x.Measured
	var b strings.Builder
	if x.Cause != "" {
		fmt.Fprintf(&b, "frame %d failed: %s\n", x.Frame, x.Cause)
		for line := range strings.Lines(x.Why) {
			fmt.Fprintf(&b, "    %s", line)
		}
		b.WriteString("\n")
		return b.String()
	}
	fmt.Fprintf(&b, "frame %d  %.2f s%s\n", x.Frame, m.Seconds-m.OpeningPartS, opened(x))
	for _, name := range slices.Sorted(maps.Keys(m.Stages)) {
		fmt.Fprintf(&b, "    %-12s %.2f s\n", name, m.Stages[name])
	}
	fmt.Fprintf(&b, "    %-12s %s\n", "memory", megabytes(m.PeakMemoryBytes))
	if m.DevicePeakBytes > 0 {
		fmt.Fprintf(&b, "    %-12s %s\n", "on a device", megabytes(m.DevicePeakBytes))
	}
	fmt.Fprintf(&b, "    %-12s %s, %s, %s\n", "picture", x.File, x.Kind, megabytes(x.Bytes))
	for _, f := range x.Beside {
		fmt.Fprintf(&b, "    %-12s %s, %s\n", f.Name, f.File, f.Kind)
	}
	return b.String()
}

func opened(x agent.Tried) string {
	m := x.Measured
	if m.OpeningS == 0 {
		return ""
	}
	return fmt.Sprintf(", and %.2f s to open the scene, once a start", m.OpeningS)
}

func megabytes(n int64) string {
	switch {
	case n <= 0:
		return "not known"
	case n < 1_000_000:
		return fmt.Sprintf("%.0f KB", float64(n)/1e3)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}

// lint says what is wrong with a launcher, and what it leaves to be wished for.
func lint() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use: "lint LAUNCHER", Short: "Check a launcher, and say what it could tell and does not", Args: cobra.ExactArgs(1),
		Example:      "  rotanex-agent lint ./mine.yaml\n  rotanex-agent lint povray",
		SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := find(args[0], folder)
			if err != nil {
				return err
			}
			found, err := agent.Lint(cmd.Context(), l)
			if err != nil {
				return err
			}
			for _, x := range found {
				fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", x.Level, x.Text)
			}
			if slices.ContainsFunc(found, func(x agent.LauncherFinding) bool { return x.Level == "error" }) {
				return fmt.Errorf("launcher %s cannot be used here as it is", l.Name)
			}
			if len(found) == 0 {
				fmt.Fprintf(cmd.OutOrStdout(), "launcher %s: nothing to say; rotanex-agent try %s renders with it\n", l.Name, args[0])
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&folder, "launchers", "", "folder of this host's own launcher files")
	return cmd
}

// oneFrame lets --frame 3 be typed of one frame.
func oneFrame(_ *pflag.FlagSet, name string) pflag.NormalizedName {
	if name == "frame" {
		name = "frames"
	}
	return pflag.NormalizedName(name)
}
