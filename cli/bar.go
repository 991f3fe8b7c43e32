package cli

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"rotanex.example/api"
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
func (a *app) working(cmd *cobra.Command, what string) (stop func()) {
	if !onTerminal(cmd) {
		return func() {}
	}
	spinner := progressbar.NewOptions(-1, progressbar.OptionSetWriter(cmd.ErrOrStderr()), progressbar.OptionSetDescription(what),
		progressbar.OptionSpinnerType(14), progressbar.OptionSetSpinnerChangeInterval(0), // it is turned here, and no more once it is cleared
		progressbar.OptionSetElapsedTime(true), progressbar.OptionClearOnFinish())
	say := func(what string) { spinner.Describe(what) }
	a.said.Store(&say)
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
		a.said.Store(nil)
		close(done)
		<-ended
	}
}

// computing says how far the service is with what is waited for.
func (a *app) computing(c api.Computation) {
	if say := a.said.Load(); say != nil {
		(*say)(computingText(c))
	}
}

// computingText is how far a computation is, in words.
func computingText(c api.Computation) string {
	switch {
	case c.State == api.ComputationStateWaiting:
		return "waiting for other computations"
	case c.Doing == "":
		return "computing"
	case c.Parts > 0:
		return fmt.Sprintf("%s, %d of %d", c.Doing, c.Done, c.Parts)
	}
	return c.Doing
}

// awaited asks until something is over, with a sign on a terminal that it goes on.
// Ctrl-C ends the waiting and says what then goes on without it.
func awaited[T any](a *app, cmd *cobra.Command, what, goesOn string, ask func() (v T, over bool, err error)) (T, error) {
	stop := a.working(cmd, what)
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
