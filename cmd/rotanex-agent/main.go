// Command rotanex-agent renders on the host that it runs on.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"rotanex.example/agent"
	"rotanex.example/core/stock"
	"rotanex.example/core/version"
	"rotanex.example/doctor"
	"rotanex.example/launchers"
	"rotanex.example/manual"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "rotanex-agent:", err)
		os.Exit(1)
	}
}

func command() *cobra.Command {
	x := &set{}
	cmd := &cobra.Command{
		Use: "rotanex-agent", Short: "Render on this host what the service has to render", Args: cobra.NoArgs, Version: version.Built(),
		Long: `Joins the service, tells it what this host has, and renders what it leases. It
starts only the launchers that --allow names, from those that ship and those in
--launchers, whatever the service asks for.`,
		Example: `  rotanex-agent --service https://render.example --join-token TOKEN --scenes /srv/scenes --allow povray
  rotanex-agent --service https://render.example --desk --desk-idle 15m --desk-owner ada`,
		SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := x.read(); err != nil {
				return err
			}
			a, err := agent.New(x.Config)
			if err != nil {
				return err
			}
			return a.Run(cmd.Context())
		},
	}
	cmd.PersistentFlags().StringVar(&x.StateDir, "state-dir", "/var/lib/rotanex-agent", "where the credential and work in hand lie, and the desk's socket")
	x.flags(cmd)
	examine := doctor.Command("this agent", "  rotanex-agent doctor --service https://render.example --scenes /srv/scenes --allow povray", func() ([]doctor.Check, error) {
		if err := x.read(); err != nil {
			return nil, err
		}
		return agent.Checks(x.Config)
	})
	x.flags(examine)
	cmd.AddCommand(deskCommands(&x.StateDir)...)
	cmd.AddCommand(try(), lint(), examine, manual.Command())
	return cmd
}

// set are the settings of an agent, as flags give them.
type set struct {
	agent.Config
	folder, simulated string
	allow             []string
}

// read reads the files that flags name.
func (x *set) read() error {
	all, err := launchers.Load(x.folder)
	if err != nil {
		return err
	}
	x.Launchers = map[string]launchers.Launcher{}
	for _, name := range x.allow {
		l, ok := all[name]
		if !ok {
			return fmt.Errorf("--allow %q: there is no such launcher", name)
		}
		x.Launchers[name] = l
	}
	if x.simulated != "" {
		x.Simulated, err = readHosts(x.simulated)
	}
	return err
}

// flags adds the settings to a command that goes by them.
func (x *set) flags(cmd *cobra.Command) {
	c := &x.Config
	deskFlags(cmd, c)
	f := cmd.Flags()
	f.StringVar(&c.Service, "service", "http://127.0.0.1:7070", "the service's address; several, with commas, where several services run")
	f.StringVar(&c.Host, "host", "", "this host's name in the stock; default the machine's name")
	f.StringVar(&c.JoinToken, "join-token", os.Getenv("ROTANEX_JOIN_TOKEN"), "one-time token to join with, from rotanex tokens join HOST; only at the first start")
	f.StringVar(&c.Scenes, "scenes", ".", "folder below which scene files lie")
	f.StringToStringVar(&c.Roots, "root", nil, "NAME=FOLDER, as often as wanted: where this host has the files of shots that are named NAME:path, such as project=/mnt/project")
	f.StringVar(&x.folder, "launchers", "", "folder of this host's own launcher files")
	f.StringSliceVar(&x.allow, "allow", []string{"povray"}, "launchers that may be started here")
	f.IntVar(&c.Threads, "threads", 0, "threads of a renderer on the CPU; 0 is all")
	f.IntVar(&c.Nice, "nice", 0, "how far renderers stand back behind whatever else runs here, 0 to 19, as nice(1) has it")
	f.Float64Var(&c.LinkMBps, "download-mb-s", 0, "how fast packages may be fetched, megabytes of 10^6 bytes a second; 0 is no limit")
	f.StringVar(&x.simulated, "simulate", "", "file of hosts whose devices are simulated; this host takes its own from it")
}

func readHosts(path string) ([]stock.Host, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var file struct {
		Hosts []stock.Host `yaml:"hosts"`
	}
	return file.Hosts, yaml.Unmarshal(data, &file)
}
