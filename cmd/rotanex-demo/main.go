// Command rotanex-demo sets everything up on this machine and does the main job
// on demo data. make demo builds and starts it.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"rotanex.example/core/version"
	"rotanex.example/demo"
)

func main() {
	// When make, which started us, is killed, we end too, and what we started.
	_ = unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGTERM), 0, 0, 0)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	c := demo.Config{Out: os.Stdout}
	own, err := os.Executable()
	if err == nil {
		c.Bin = filepath.Dir(own)
		cmd := &cobra.Command{
			Use: "rotanex-demo", Short: "Set Rotanex up on this machine and do the main job on demo data", Args: cobra.NoArgs, Version: version.Built(),
			SilenceUsage: true, SilenceErrors: true,
			RunE: func(cmd *cobra.Command, _ []string) error {
				if c.Data, err = filepath.Abs(c.Data); err != nil {
					return err
				}
				return demo.Run(cmd.Context(), c)
			},
		}
		cmd.Flags().StringVar(&c.Data, "data", "demo/lanternfish", "folder of the scenario")
		cmd.Flags().StringVar(&c.State, "state-dir", "", "folder of everything that is kept")
		cmd.Flags().BoolVar(&c.Once, "once", false, "end when the job is done")
		_ = cmd.MarkFlagRequired("state-dir")
		err = cmd.ExecuteContext(ctx)
	}
	if err != nil && ctx.Err() == nil {
		fmt.Fprintln(os.Stderr, "rotanex-demo:", err)
		os.Exit(1)
	}
}
