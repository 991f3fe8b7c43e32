package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// frameLog prints what a renderer said.
func (a *app) frameLog() *cobra.Command {
	var try int64
	var search string
	c := &cobra.Command{
		Use: "log RUN SHOT FRAME", Short: "Print all that the renderer said in a try of a frame", Args: cobra.ExactArgs(3),
		Long: `Prints the whole render log of a frame's last try that has one, or of --try N as frames show has it.
Logs are kept for 30 days, unless rotanex storage says otherwise.`,
		Example: "  rotanex frames log latest orrery-020 57\n  rotanex frames log latest orrery-020 57 --search warning",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			run, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(args[2])
			if err != nil {
				return fmt.Errorf("frame %q: want a number", args[2])
			}
			if try == 0 {
				d, err := client.Decode[api.FrameDetail](c.GetFrame(cmd.Context(), run, args[1], n))
				if err != nil {
					return err
				}
				if try = lastLog(d.Tries); try == 0 {
					return fmt.Errorf("no try of frame %d of %s has a render log: it has not been rendered, or its logs were pruned", n, args[1])
				}
			}
			answer, err := c.GetRenderLog(cmd.Context(), run, args[1], n, try)
			if err := client.Check(answer, err); err != nil {
				return err
			}
			defer func() { _ = answer.Body.Close() }()
			if a.config.GetString("output") == "json" {
				out := logRecord{Try: try, Lines: []logLine{}}
				err := matching(answer.Body, search, func(n int, text string) error {
					out.Lines = append(out.Lines, logLine{n, text})
					return nil
				})
				return errors.Join(err, json.NewEncoder(cmd.OutOrStdout()).Encode(out))
			}
			return matching(answer.Body, search, func(n int, text string) error {
				if search != "" {
					text = fmt.Sprintf("%6d  %s", n, text)
				}
				_, err := fmt.Fprintln(cmd.OutOrStdout(), text)
				return err
			})
		}),
	}
	c.Flags().Int64Var(&try, "try", 0, "which try, by its number in frames show; default the last one that has a log")
	c.Flags().StringVar(&search, "search", "", "only lines with this text, in small or capital letters, each with its number")
	return c
}

// lastLog is the last try that has a log; 0: none has.
func lastLog(tries []api.Try) (fence int64) {
	for _, t := range tries {
		if t.LogBytes > 0 {
			fence = t.Fence
		}
	}
	return fence
}

// logRecord is a render log as JSON.
type logRecord struct {
	Try   int64     `json:"try"`
	Lines []logLine `json:"lines"`
}

type logLine struct {
	Line int    `json:"line"`
	Text string `json:"text"`
}

// longestLine is how long one of a log is at most: as long as an agent reads.
const longestLine = 2 << 20

// matching goes through the lines of a text that have something in them, small letters or capital ones.
func matching(text io.Reader, search string, see func(n int, line string) error) error {
	search = strings.ToLower(search)
	lines := bufio.NewScanner(text)
	lines.Buffer(nil, longestLine)
	for n := 1; lines.Scan(); n++ {
		if strings.Contains(strings.ToLower(lines.Text()), search) {
			if err := see(n, lines.Text()); err != nil {
				return err
			}
		}
	}
	return lines.Err()
}
