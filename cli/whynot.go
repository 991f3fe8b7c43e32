package cli

import (
	"fmt"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// frameWhy answers why a frame is not being rendered.
func (a *app) frameWhy() *cobra.Command {
	return &cobra.Command{
		Use: "why RUN SHOT FRAME", Short: "Say why a frame is not being rendered, and who takes it when", Args: cobra.ExactArgs(3),
		Long: `Says of a waiting frame which crew takes it when, how many frames come before it, and
of each other crew that was booked for its shot why it does not. The answers are those
by which frames are handed out.`,
		Example: "  rotanex frames why latest stair-030 17",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			number, err := strconv.Atoi(args[2])
			if err != nil {
				return fmt.Errorf("frame %q: a frame is a whole number, such as 17", args[2])
			}
			run, err := a.findRun(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			w, err := client.Decode[api.FrameWhy](c.WhyFrame(cmd.Context(), run, args[1], number))
			if err != nil {
				return err
			}
			return a.showWhy(cmd, fmt.Sprintf("Frame %d of %s: %s.", w.Frame, w.Shot, w.Answer), w, w.Crews, false)
		}),
	}
}

// hostWhy answers why a host does nothing.
func (a *app) hostWhy() *cobra.Command {
	return &cobra.Command{
		Use: "why HOST", Short: "Say what a host does now, and why its crews take no more frames", Args: cobra.ExactArgs(1),
		Example: "  rotanex hosts why capstan",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			w, err := client.Decode[api.HostWhy](c.WhyHost(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.showWhy(cmd, fmt.Sprintf("%s: %s.", w.Host, w.Answer), w, w.Crews, true)
		}),
	}
}

// merged makes one row of what is said alike of a crew for several shots.
func merged(crews []api.CrewVerdict) (out []api.CrewVerdict) {
	for _, v := range crews {
		i := slices.IndexFunc(out, func(o api.CrewVerdict) bool {
			return o.Host == v.Host && o.Crew == v.Crew && o.Run == v.Run && o.When == v.When && o.Why == v.Why && o.At.Equal(v.At) && o.Owed == 0 && v.Owed == 0
		})
		if i < 0 {
			out = append(out, v)
		} else if out[i].Shot != v.Shot {
			out[i].Shot += ", " + v.Shot
		}
	}
	return out
}

// showWhy shows an answer with the verdicts on crews that it rests on.
func (a *app) showWhy(cmd *cobra.Command, answer string, whole any, crews []api.CrewVerdict, shots bool) error {
	l := listing{columns: []string{"crew", "takes it", "at", "owes", "why"}, records: whole}
	if shots {
		l.columns = []string{"crew", "run", "shot", "takes one", "at", "owes", "why"}
	}
	for _, v := range merged(crews) {
		when := cellOf(none)
		if !v.At.IsZero() {
			when = atDay(v.At)
		}
		if shots {
			l.add(v.Crew, v.Run.String()[:8], v.Shot, string(v.When), when, strconv.Itoa(v.Owed), v.Why)
		} else {
			l.add(v.Host+"/"+v.Crew, string(v.When), when, strconv.Itoa(v.Owed), v.Why)
		}
	}
	if a.config.GetString("output") != "table" {
		return a.show(cmd, l)
	}
	fmt.Fprintln(cmd.OutOrStdout(), answer)
	if len(l.rows) == 0 {
		return nil
	}
	return a.show(cmd, l)
}
