package cli

import (
	"errors"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// bar shows progress of something long on a terminal, and nothing elsewhere.
type bar struct{ shown *progressbar.ProgressBar }

// onTerminal reports whether somebody watches what is said on the side.
func onTerminal(cmd *cobra.Command) bool {
	f, ok := cmd.ErrOrStderr().(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func newBar(cmd *cobra.Command, what string, total int) *bar {
	if !onTerminal(cmd) {
		return &bar{}
	}
	return &bar{progressbar.NewOptions(max(total, 1),
		progressbar.OptionSetWriter(cmd.ErrOrStderr()), progressbar.OptionSetDescription(what),
		progressbar.OptionShowCount(), progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish(), progressbar.OptionSetPredictTime(true))}
}

func (b *bar) set(done, total int) {
	if b.shown != nil {
		b.shown.ChangeMax(max(total, 1))
		_ = b.shown.Set(done)
	}
}

func (b *bar) clear() {
	if b.shown != nil {
		_ = b.shown.Clear()
	}
}

// working shows on a terminal that something of unknown length goes on, until the
// returned function is called.
func working(cmd *cobra.Command, what string) (stop func()) {
	if !onTerminal(cmd) {
		return func() {}
	}
	spinner := progressbar.NewOptions(-1, progressbar.OptionSetWriter(cmd.ErrOrStderr()), progressbar.OptionSetDescription(what),
		progressbar.OptionSpinnerType(14), progressbar.OptionSetElapsedTime(true), progressbar.OptionClearOnFinish())
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		ticks := time.NewTicker(150 * time.Millisecond)
		defer ticks.Stop()
		for {
			select {
			case <-done:
				_ = spinner.Clear()
				return
			case <-ticks.C:
				_ = spinner.Add(1)
			}
		}
	}()
	return func() {
		close(done)
		<-ended
	}
}

// awaited asks until something is over, with a sign on a terminal that it goes on.
// Ctrl-C ends the waiting and says what then goes on without it.
func awaited[T any](cmd *cobra.Command, what, goesOn string, ask func() (v T, over bool, err error)) (T, error) {
	stop := working(cmd, what)
	defer stop()
	ticks := time.NewTicker(500 * time.Millisecond)
	defer ticks.Stop()
	for {
		v, over, err := ask()
		switch {
		case cmd.Context().Err() != nil:
			return v, errors.New("no longer waiting; " + goesOn)
		case err != nil || over:
			return v, err
		}
		select {
		case <-cmd.Context().Done():
		case <-ticks.C:
		}
	}
}
