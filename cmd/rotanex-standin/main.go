// Command rotanex-standin simulates devices, a renderer and a rented source.
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
	"rotanex.example/standin"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{Use: "rotanex-standin", Short: "Simulated devices, a renderer on them, and a rented source", SilenceUsage: true, SilenceErrors: true}
	root.AddCommand(render(), about(), hire())
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "rotanex-standin:", err)
		os.Exit(standin.ExitCannotStart)
	}
}

func render() *cobra.Command {
	r := standin.Render{Say: os.Stdout}
	var devices string
	c := &cobra.Command{
		Use: "render", Short: "Render a frame on simulated devices", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
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
	f.IntVar(&r.Frame, "frame", 1, "frame")
	f.IntVar(&r.Width, "width", 640, "pixels")
	f.IntVar(&r.Height, "height", 360, "pixels")
	f.IntVar(&r.Samples, "samples", 128, "samples for each pixel")
	f.Float64Var(&r.ClockFactor, "clock-factor", 1, "how many times as fast as life")
	f.StringVar(&r.Backend, "backend", "", "compute backend")
	f.StringVar(&r.MemoryMode, "memory-mode", "", "what to do when memory does not do: spill or cpu; without it, fail")
	f.Float64Var(&r.NoiseThreshold, "noise-threshold", 0, "a pixel that is this quiet gets no more samples")
	f.StringVar(&r.Denoiser, "denoiser", "none", "none or smooth")
	f.StringVar(&r.DenoiseOn, "denoise-on", "gpu", "gpu or cpu")
	f.IntVar(&r.Tile, "tile", 256, "edge of a tile in pixels")
	f.StringVar(&r.Fail, "fail", "", "failures on demand: WHAT@FRAME or WHAT@FRAME@HOST, by comma")
	return c
}

func about() *cobra.Command {
	var stockFile string
	c := &cobra.Command{
		Use: "about", Short: "Tell the renderer's version and plugins", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return standin.TellAbout(os.Stdout, stockFile) },
	}
	c.Flags().StringVar(&stockFile, "stock", "", "file that describes the host, JSON")
	return c
}

func hire() *cobra.Command {
	h := &standin.Hire{Log: slog.Default(), Offers: map[string]stock.Offer{}}
	var listen, offers string
	c := &cobra.Command{
		Use: "hire -- AGENT ARGS…", Short: "Let simulated servers that run the given agent", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := os.ReadFile(offers)
			if err != nil {
				return err
			}
			var file struct {
				Offers []stock.Offer `yaml:"offers"`
			}
			if err := yaml.Unmarshal(data, &file); err != nil {
				return fmt.Errorf("%s: %w", offers, err)
			}
			for _, o := range file.Offers {
				h.Offers[o.Name] = o
			}
			h.Agent = args
			server := &http.Server{Addr: listen, Handler: h.Handler(cmd.Context()), ReadHeaderTimeout: 5 * time.Second}
			go func() {
				<-cmd.Context().Done()
				_ = server.Close()
			}()
			if err := server.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			h.Wait()
			return nil
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7081", "address to listen on")
	c.Flags().StringVar(&offers, "offers", "", "file of offers, YAML")
	c.Flags().StringVar(&h.Folder, "folder", "", "where the servers' disks are")
	c.Flags().Float64Var(&h.ClockFactor, "clock-factor", 1, "how many times as fast as life")
	return c
}
