package cli

import (
	"os"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// bar shows progress of something long on a terminal, and nothing elsewhere.
type bar struct{ shown *progressbar.ProgressBar }

func newBar(cmd *cobra.Command, what string, total int) *bar {
	if f, ok := cmd.ErrOrStderr().(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
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
