package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func convert[T any](from any) (T, error) {
	var to T
	data, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(data, &to)
	}
	return to, err
}

// readShots reads files of shots. A deadline may be a time as for plans, such as +2h.
func readShots(paths []string, now time.Time) (all []api.ShotSpec, err error) {
	where := map[string]string{}
	for _, path := range paths {
		var f struct {
			Shots []map[string]any `yaml:"shots"`
		}
		if err := readYAMLAs(path, reflect.TypeFor[struct {
			Shots []api.ShotSpec `yaml:"shots"`
		}](), &f); err != nil {
			return nil, err
		}
		for i, raw := range f.Shots {
			name := fmt.Sprint(raw["name"])
			if raw["name"] == nil {
				return nil, fmt.Errorf("%s: shot %d has no name", path, i+1)
			}
			if before, twice := where[name]; twice {
				return nil, fmt.Errorf("%s: shot %s stands in %s already: give each its own name", path, name, before)
			}
			where[name] = path
			if said, ok := raw["deadline"].(string); ok {
				at, err := parseTime(said, now)
				if err != nil {
					return nil, fmt.Errorf("%s: shot %s: deadline: %w", path, name, err)
				}
				raw["deadline"] = at.UTC()
			}
			passes, _ := raw["passes"].([]any)
			for _, of := range append(passes, raw) {
				if of, ok := of.(map[string]any); ok {
					asTexts(of["settings"])
				}
			}
			spec, err := convert[api.ShotSpec](raw)
			if err != nil {
				return nil, fmt.Errorf("%s: shot %s: %w", path, name, err)
			}
			all = append(all, spec)
		}
	}
	return all, nil
}

// asTexts makes texts of the values of settings: 0.3 without quotes is meant as one as well.
func asTexts(settings any) {
	if all, ok := settings.(map[string]any); ok {
		for key, v := range all {
			all[key] = fmt.Sprint(v)
		}
	}
}

// doneBefore says what is done already of shots that are taken one after another.
func doneBefore(shots int, done string) string {
	if shots == 0 {
		return "nothing was " + done
	}
	return several(shots, "shot") + " before it are " + done
}

func (a *app) shots() *cobra.Command {
	imports := &cobra.Command{
		Use: "import FILE…", Short: "Store the shots of YAML files", Args: cobra.MinimumNArgs(1), Example: "  rotanex shots import shots.yaml",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			now, err := serviceNow(cmd.Context(), c)
			if err != nil {
				return err
			}
			all, err := readShots(args, now)
			if err != nil {
				return fmt.Errorf("%w; nothing was stored", err)
			}
			// All are looked at before any is stored.
			for _, check := range []bool{true, false} {
				for i, spec := range all {
					if _, err := client.Decode[api.Shot](c.PutShot(cmd.Context(), spec.Name, &api.PutShotParams{Check: check}, spec)); err != nil {
						if check {
							i = 0
						}
						return fmt.Errorf("shot %s: %w; %s", spec.Name, err, doneBefore(i, "stored"))
					}
				}
			}
			if len(all) > 0 {
				last := all[len(all)-1]
				if n := len(last.Passes); n > 0 {
					last.Name += "." + last.Passes[n-1].Name
				}
				if err := a.awaitLook(cmd, c, last.Name); err != nil {
					return err
				}
			}
			return a.did(cmd, all, "Stored %s.", several(len(all), "shot"))
		}),
	}
	list := &cobra.Command{
		Use: "list", Short: "List the shots", Args: cobra.NoArgs, Example: "  rotanex shots list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Shot, string, error) {
				page, err := client.Decode[api.ShotList](c.ListShots(cmd.Context(), &api.ListShotsParams{Cursor: some(cursor), Limit: new(500)}))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{
				columns: []string{"shot", "title", "frames", "count", "size|width,height", "launcher", "device memory|device_memory_gb", "deadline"}, records: all,
				empty: "No shot yet. Store some: rotanex shots import FILE",
			}
			for _, s := range all {
				renderer, memory := s.Spec.Launcher, inGB(float64(s.Spec.DeviceMemoryGb))
				if n := len(s.Spec.Passes); n > 0 {
					renderer, memory = fmt.Sprintf("%d passes", n), inGB(0)
				}
				l.add(s.Spec.Name, orNone(s.Spec.Title), s.Spec.Frames, strconv.Itoa(s.FrameCount), pixels(s.Spec.Width, s.Spec.Height), renderer, memory, at(s.Spec.Deadline))
			}
			return a.show(cmd, l)
		}),
	}
	return group("shots", "What is to be rendered", imports, list, a.shotsDelete())
}

// lookFor is how long an import waits until agents have looked for the files of its shots.
// They ask what to look for every few seconds.
const lookFor = 10 * time.Second

// awaitLook waits until the agents that are up have looked for a shot's files, so that
// what is asked next is not answered with "not known yet". Those that do not are not
// waited for long; the preflight names them.
func (a *app) awaitLook(cmd *cobra.Command, c *client.Client, shot string) error {
	stop := a.working(cmd, "agents look for its files")
	defer stop()
	ctx, cancel := context.WithTimeout(cmd.Context(), lookFor)
	defer cancel()
	for {
		p, err := client.Decode[api.Preflight](c.CheckShot(ctx, shot, &api.CheckShotParams{}))
		if err != nil && ctx.Err() == nil {
			return err
		}
		waits := slices.ContainsFunc(p.Crews, func(x api.PreflightCrew) bool {
			return slices.ContainsFunc(x.Findings, func(f api.Finding) bool { return f.Level == api.FindingLevelUnknown && f.Check == "inputs" })
		})
		if !waits {
			return nil
		}
		select {
		case <-ctx.Done():
			return cmd.Context().Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (a *app) trials() *cobra.Command {
	var crews []string
	var frames, repeats int
	var precision float32
	var most time.Duration
	var noWait bool
	run := &cobra.Command{
		Use: "run SHOT --crew HOST/CREW", Short: "Time frames of a shot on a crew", Args: cobra.ExactArgs(1),
		Long: `Renders a warm-up frame, which is not counted, and then frames from across the
shot on each crew named, and keeps how long they took. Crews on devices of their
own are timed side by side. With --precision a frame is repeated until its median is
known to within that share (90 % interval from the order statistics). Ctrl-C ends the waiting, not the trials.`,
		Example: `  rotanex trials run orrery-020 --crew bellows/g0 --crew eddy/g0 --frames 5
  rotanex trials run stair-030 --crew eddy/g0 --precision 0.02 --max-repeats 12
  rotanex trials run orrery-010 --crew dory/cpu --no-wait`,
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if len(crews) == 0 {
				return errors.New("--crew is needed, such as --crew bellows/g0; rotanex hosts show HOST lists a host's crews")
			}
			var ids []uuid.UUID
			var begun []api.Trial
			for _, place := range crews {
				host, crew, ok := strings.Cut(place, "/")
				if !ok {
					return fmt.Errorf("--crew %q: want HOST/CREW, such as bellows/g0", place)
				}
				t, err := client.Decode[api.Trial](c.CreateTrial(cmd.Context(), &api.CreateTrialParams{IdempotencyKey: new(newKey())},
					api.NewTrial{Shot: args[0], Host: host, Crew: crew, Frames: frames, Precision: precision, MaxRepeats: repeats, MaxS: float32(most.Seconds())}))
				if err != nil {
					return fmt.Errorf("%s: %w", place, err)
				}
				ids, begun = append(ids, t.Id), append(begun, t)
			}
			if noWait {
				return a.did(cmd, begun, "%s begun; rotanex trials list %s shows what they say.", several(len(ids), "trial"), args[0])
			}
			return a.awaitTrials(cmd, c, ids)
		}),
	}
	run.Flags().StringArrayVar(&crews, "crew", nil, "HOST/CREW to time on; may be given several times")
	run.Flags().IntVar(&frames, "frames", 0, "how many timed frames, from across the shot; 0 is 3, or the middle one where a precision is asked")
	run.Flags().Float32Var(&precision, "precision", 0, "repeat until the median is known to within this share, such as 0.03")
	run.Flags().IntVar(&repeats, "max-repeats", 15, "the most repeats of each frame")
	run.Flags().DurationVar(&most, "max-time", 0, "after which no repeat begins, by the service's clock")
	run.Flags().BoolVar(&noWait, "no-wait", false, "begin the trials and do not wait for them")
	list := &cobra.Command{
		Use: "list [SHOT]", Short: "List trials, newest first", Args: cobra.MaximumNArgs(1), Example: "  rotanex trials list orrery-020 --output csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			params := api.ListTrialsParams{Limit: new(500)}
			if len(args) > 0 {
				params.Shot = &args[0]
			}
			all, err := pages(func(cursor string) ([]api.Trial, string, error) {
				params.Cursor = some(cursor)
				page, err := client.Decode[api.TrialList](c.ListTrials(cmd.Context(), &params))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			return a.showTrials(cmd, all)
		}),
	}
	return group("trials", "Time test frames", run, a.sweep(), list)
}

func (a *app) showTrials(cmd *cobra.Command, all []api.Trial) error {
	l := listing{
		columns: []string{"shot", "crew", "models", "state", "timed", "median|median_s", "fastest|fastest_s", "slowest|slowest_s", "spread", "opening|opening_s", "peak memory|peak_memory_bytes", "power"}, records: all,
		empty: "No trial yet. Time a frame: rotanex trials run SHOT --crew HOST/CREW",
	}
	for _, t := range all {
		var peak int64
		var opens float64
		for _, f := range t.Frames {
			peak, opens = max(peak, f.PeakMemoryBytes), max(opens, f.OpeningS)
		}
		spread := cellOf(none)
		if t.Summary.Frames > 1 {
			spread = cell{percent(t.Summary.Spread), []string{number(t.Summary.Spread, 4)}}
		}
		l.add(t.Shot, t.Host+"/"+t.Crew, strings.Join(t.Models, " + "), trialState(t), strconv.Itoa(t.Summary.Frames), inSeconds(t.Summary.MedianS), inSeconds(t.Summary.LowS), inSeconds(t.Summary.HighS), spread, inSeconds(opens), inBytes(peak), orNone(t.Conditions["power"]))
	}
	return a.show(cmd, l)
}

// trialState says why a trial has no figure.
func trialState(t api.Trial) string {
	for _, f := range t.Frames {
		if f.Cause != "" && t.State != api.RunStateComplete {
			return string(t.State) + ": " + strings.TrimSuffix(f.Cause+": "+lastLine(f.LogTail), ": ")
		}
	}
	return string(t.State)
}

// lastLine is the last line of a log that says something, shortened for a table.
func lastLine(log string) string {
	const most = 60
	lines := strings.Split(strings.TrimSpace(log), "\n")
	last := []rune(strings.TrimSpace(lines[len(lines)-1]))
	if len(last) > most {
		return string(last[:most-1]) + "…"
	}
	return string(last)
}

// awaitTrials waits until trials are over, with a bar.
func (a *app) awaitTrials(cmd *cobra.Command, c *client.Client, ids []uuid.UUID) error {
	total := 0
	bar := newBar(cmd, "timing", 0)
	defer bar.clear()
	ticks := time.NewTicker(400 * time.Millisecond)
	defer ticks.Stop()
	for {
		var all []api.Trial
		over, done := 0, 0
		total = 0
		for _, id := range ids {
			t, err := client.Decode[api.Trial](c.GetTrial(cmd.Context(), id))
			if err != nil {
				return err
			}
			all = append(all, t)
			total += len(t.Frames)
			for _, f := range t.Frames {
				if f.State == api.FrameStateDone || f.State == api.FrameStateFailed {
					done++
				}
			}
			if t.State != api.RunStateRunning && t.State != api.RunStatePaused {
				over++
			}
		}
		bar.set(done, total)
		if over == len(ids) {
			bar.clear()
			if err := a.showTrials(cmd, all); err != nil {
				return err
			}
			for _, t := range all {
				if t.State != api.RunStateComplete {
					return exit{ExitIncomplete, fmt.Sprintf("The trial on %s/%s is %s.", t.Host, t.Crew, trialState(t))}
				}
			}
			return nil
		}
		select {
		case <-cmd.Context().Done():
			return fmt.Errorf("no longer waiting; the trials go on: rotanex trials list")
		case <-ticks.C:
		}
	}
}
