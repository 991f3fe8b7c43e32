// Package doctor tells whether what a program stands on is as it should be: a list of checks, each
// with what was found and how to fix it. The programs bring their own checks.
//
//	report := doctor.Run(ctx, []doctor.Check{{Name: "scenes", Look: func(context.Context) doctor.Finding {
//		return doctor.Fine("/srv/scenes")
//	}}})
//	err := report.Show(os.Stdout, "text") // an error where anything fails
package doctor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// State of what was checked.
type State string

// States.
const (
	OK      State = "ok"
	Warning State = "warning" // it works, but something is missing or will not do for long
	Failed  State = "failed"  // it does not work
	Skipped State = "skipped" // it could not be looked at, or there is nothing to look at
)

// Finding is what came of a check.
type Finding struct {
	Name  string `json:"name"`
	State State  `json:"state"`
	Found string `json:"found"`
	Fix   string `json:"fix,omitempty"` // what to do
}

// Fine is a finding that needs nothing.
func Fine(format string, a ...any) Finding {
	return Finding{State: OK, Found: fmt.Sprintf(format, a...)}
}

// Warn is a finding that somebody should know of, with what to do.
func Warn(fix, format string, a ...any) Finding {
	return Finding{State: Warning, Found: fmt.Sprintf(format, a...), Fix: fix}
}

// Fail is a finding that stops the program from doing its work, with what to do.
func Fail(fix, format string, a ...any) Finding {
	return Finding{State: Failed, Found: fmt.Sprintf(format, a...), Fix: fix}
}

// Skip is a finding of nothing, with why.
func Skip(format string, a ...any) Finding {
	return Finding{State: Skipped, Found: fmt.Sprintf(format, a...)}
}

// Check is one thing that is looked at.
type Check struct {
	Name string
	Look func(context.Context) Finding
}

// bound is how long a check may take.
const bound = 15 * time.Second

// Report is what came of all checks, in their order.
type Report []Finding

// Run makes the checks one after the other, each within fifteen seconds.
func Run(ctx context.Context, checks []Check) Report {
	out := Report{}
	for _, c := range checks {
		one, stop := context.WithTimeout(ctx, bound)
		f := c.Look(one)
		stop()
		f.Name = c.Name
		out = append(out, f)
	}
	return out
}

// ErrFailed is that something does not work.
var ErrFailed = errors.New("something does not work: see what to do above")

// Show prints the report as text or json. It returns ErrFailed if anything failed.
func (r Report) Show(w io.Writer, as string) error {
	failed := false
	for _, f := range r {
		failed = failed || f.State == Failed
	}
	var err error
	if as == "json" {
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		err = encoder.Encode(r)
	} else {
		_, err = io.WriteString(w, r.text())
	}
	if err == nil && failed {
		err = ErrFailed
	}
	return err
}

// marks stand before each line, so that a log without colours says it too.
var marks = map[State]string{OK: "ok     ", Warning: "warning", Failed: "FAILED ", Skipped: "-      "}

func (r Report) text() string {
	var out strings.Builder
	wide := 0
	for _, f := range r {
		wide = max(wide, len(f.Name))
	}
	counts := map[State]int{}
	for _, f := range r {
		counts[f.State]++
		fmt.Fprintf(&out, "%s  %-*s  %s\n", marks[f.State], wide, f.Name, f.Found)
		if f.Fix != "" {
			fmt.Fprintf(&out, "%*s→ %s\n", len(marks[OK])+wide+4, "", f.Fix)
		}
	}
	fmt.Fprintf(&out, "\n%d ok, %d skipped, %d to look at, %d failed\n", counts[OK], counts[Skipped], counts[Warning], counts[Failed])
	return out.String()
}

// Command makes a doctor's command, of what a program checks.
func Command(of, example string, checks func() ([]Check, error)) *cobra.Command {
	as := "text"
	c := &cobra.Command{
		Use: "doctor", Short: "Check what " + of + " stands on, and say how to fix what does not work", Args: cobra.NoArgs, Example: example,
		Long: "Checks what " + of + ` stands on, with the settings that it would be started with. It changes
nothing, and may be asked while it runs. The exit status is 1 if anything failed.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if as != "text" && as != "json" {
				return fmt.Errorf("--output %q: want text or json", as)
			}
			all, err := checks()
			if err != nil {
				return err
			}
			return Run(cmd.Context(), all).Show(cmd.OutOrStdout(), as)
		},
	}
	c.Flags().StringVarP(&as, "output", "o", as, "text or json")
	return c
}
