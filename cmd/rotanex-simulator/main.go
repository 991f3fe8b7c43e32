// Command rotanex-simulator simulates devices, a renderer and sources.
package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"rotanex.example/core/stock"
	"rotanex.example/core/version"
	"rotanex.example/simulator"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{Use: "rotanex-simulator", Short: "Simulated devices, a renderer on them, and sources", Version: version.Built(), SilenceUsage: true, SilenceErrors: true}
	root.AddCommand(render(), about(), hire(), farm())
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "rotanex-simulator:", err)
		os.Exit(simulator.ExitCannotStart)
	}
}

func render() *cobra.Command {
	r := simulator.Render{Say: os.Stdout}
	var devices string
	var stays bool
	c := &cobra.Command{
		Use: "render", Short: "Render frames on simulated devices", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if stays {
				r.Orders = os.Stdin
			}
			r.Devices = strings.Split(devices, ",")
			os.Exit(r.Run(cmd.Context()))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&r.Scene, "scene", "", "scene file")
	f.StringVar(&r.Output, "output", "", "picture to write")
	f.StringVar(&r.Stock, "stock", "", "file that describes the host, JSON")
	f.StringVar(&devices, "devices", "", "devices, by comma")
	f.IntSliceVar(&r.Frames, "frames", []int{1}, "frames, by comma; several are written beside --output, each with its number")
	f.BoolVar(&stays, "stay-open", false, "render what is ordered on standard input, a JSON line a frame, instead of --frames")
	f.IntVar(&r.Width, "width", 640, "pixels")
	f.IntVar(&r.Height, "height", 360, "pixels")
	f.IntVar(&r.Samples, "samples", 128, "samples for each pixel")
	f.Float64Var(&r.ClockFactor, "clock-factor", 1, "how many times as fast as life")
	f.StringVar(&r.Backend, "backend", "", "compute backend")
	f.StringVar(&r.MemoryMode, "memory-mode", "", "what to do when memory does not do: spill or cpu; without it, fail")
	f.StringVar(&r.Inputs, "inputs", "", "folder of the frames of other passes, such as beauty.0012.png, that a composite is made of")
	f.Float64Var(&r.AdaptiveError, "adaptive-error", 0, "a pixel that is this quiet gets no more samples")
	f.StringVar(&r.Denoise, "denoise", "none", "none or smooth")
	f.StringVar(&r.DenoiseDevice, "denoise-device", "gpu", "gpu or cpu")
	f.IntVar(&r.Bucket, "bucket", 256, "edge in pixels of the squares that are rendered one after another")
	f.BoolVar(&r.Layers, "layers", false, "write layers/depth.0012.png, layers/matte.0012.png and stats/0012.json too, beside the picture")
	f.StringVar(&r.Lacks, "lacks", "", "what is left out of the picture without a word: lamp")
	f.StringVar(&r.Fail, "fail", "", "failures on demand: WHAT@FRAME or WHAT@FRAME@HOST, by comma")
	return c
}

func about() *cobra.Command {
	var stockFile string
	c := &cobra.Command{
		Use: "about", Short: "Tell the renderer's version and plugins", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return simulator.TellAbout(os.Stdout, stockFile) },
	}
	c.Flags().StringVar(&stockFile, "stock", "", "file that describes the host, JSON")
	return c
}

func hire() *cobra.Command {
	h := &simulator.Hire{Log: slog.Default(), Offers: map[string]stock.Offer{}, Fates: map[int]simulator.Fate{}, Secret: os.Getenv("ROTANEX_STANDIN_SECRET")}
	var listen, file, source string
	var fates []string
	c := &cobra.Command{
		Use: "hire -- AGENT ARGS…", Short: "Let simulated servers that run the given agent", Args: cobra.MinimumNArgs(1),
		Long:    "Answers the protocol of docs/protocols/servers.yaml. With ROTANEX_STANDIN_SECRET set it wants that as bearer token.",
		Example: "  rotanex-simulator hire --offers stock.yaml --source tern --folder /tmp/tern --fate 1:dies=40m -- rotanex-agent --allow simulator",
		RunE: func(cmd *cobra.Command, args []string) error {
			stock, err := readStock(file)
			if err != nil {
				return err
			}
			for _, o := range stock.Offers {
				if source == "" || o.Source == source {
					h.Offers[o.Name] = o
				}
			}
			for _, text := range fates {
				nth, fate, err := simulator.ParseFate(text)
				if err != nil {
					return err
				}
				h.Fates[nth] = fate
			}
			h.Agent = args
			return serve(cmd.Context(), listen, h.Handler(cmd.Context()), h.Wait)
		},
	}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:7081", "address to listen on")
	f.StringVar(&file, "offers", "", "file of offers, YAML")
	f.StringVar(&source, "source", "", "let only what this source offers")
	f.StringVar(&h.Folder, "folder", "", "where the servers' disks are")
	f.Float64Var(&h.ClockFactor, "clock-factor", 1, "how many times as fast as life")
	f.StringSliceVar(&fates, "fate", nil, "what happens to the n-th server: N:never-boots or N:dies=DURATION")
	return c
}

func farm() *cobra.Command {
	h := &simulator.Farm{Log: slog.Default(), Tiers: map[string]stock.Farm{}, Secret: os.Getenv("ROTANEX_STANDIN_SECRET")}
	var listen, file, source string
	c := &cobra.Command{
		Use: "farm", Short: "A simulated render farm", Args: cobra.NoArgs,
		Long:    "Answers the protocol of docs/protocols/farm.yaml. With ROTANEX_STANDIN_SECRET set it wants that as bearer token.",
		Example: "  rotanex-simulator farm --tiers stock.yaml --source gannet --folder /tmp/gannet --fail-one-in 12",
		RunE: func(cmd *cobra.Command, _ []string) error {
			stock, err := readStock(file)
			if err != nil {
				return err
			}
			for _, t := range stock.Farms {
				if source == "" || t.Source == source {
					h.Tiers[t.Name] = t
				}
			}
			return serve(cmd.Context(), listen, h.Handler(cmd.Context()), h.Wait)
		},
	}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:7091", "address to listen on")
	f.StringVar(&file, "tiers", "", "file of farms, YAML")
	f.StringVar(&source, "source", "", "only the tiers of this source")
	f.StringVar(&h.Folder, "folder", "", "where packages and pictures lie")
	f.StringVar(&h.Scenes, "scenes", "", "scenes for jobs that come without a package")
	f.Float64Var(&h.ClockFactor, "clock-factor", 1, "how many times as fast as life")
	f.DurationVar(&h.Analysis, "analysis", 3*time.Minute, "how long a job is looked at")
	f.DurationVar(&h.Queue, "queue", 0, "how long a job waits before its first frame; 0 is what the tier's lead leaves")
	f.IntVar(&h.FailOneIn, "fail-one-in", 0, "one frame of so many fails at first")
	f.StringVar(&h.Lacks, "lacks", "", "what its renderer leaves out of every picture without a word: lamp")
	f.Float64Var(&h.LinkMBps, "link-mb-s", 0, "how fast packages come in and pictures go out, megabytes a second; 0 is at once")
	f.StringSliceVar(&h.Plugins, "plugins", nil, "plugins that it has; none: all")
	return c
}

type stockFile struct {
	Offers []stock.Offer `yaml:"offers"`
	Farms  []stock.Farm  `yaml:"farms"`
}

func readStock(path string) (file stockFile, err error) {
	data, err := os.ReadFile(path)
	if err == nil {
		err = yaml.Unmarshal(data, &file)
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", path, err)
	}
	return file, err
}

// serve serves until ctx ends, and returns when all that was begun is over.
func serve(ctx context.Context, listen string, handler http.Handler, wait func()) error {
	server := &http.Server{Addr: listen, Handler: handler, ReadHeaderTimeout: 5 * time.Second}
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	if err := server.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	wait()
	return nil
}
