package cli

import (
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) settings() *cobra.Command {
	return group("settings", "Lay settings of one frame beside each other", a.settingsRun(), a.settingsShow(), a.settingsList())
}

func (a *app) settingsRun() *cobra.Command {
	var crew string
	var variants []string
	frame := 0
	noWait := false
	run := &cobra.Command{
		Use: "run SHOT --crew HOST/CREW --variant …", Short: "Render one frame with each of several settings", Args: cobra.ExactArgs(1),
		Long: `Renders one frame of the shot on one crew with each --variant, and says what each
takes and how far its picture is from the first one's: RMSE and SSIM with channels from
0 to 1, PSNR in decibels. A variant is settings that differ from the shot's, with a name
of its own if it has a colon; "own" is the shot as it is. The console lays the pictures
over each other.`,
		Example: `  rotanex settings run orrery-010 --crew dory/cpu --variant own --variant antialias=0.05 --variant "draft: antialias=0.9,quality=4"`,
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			host, name, ok := strings.Cut(crew, "/")
			if !ok {
				return fmt.Errorf("--crew %q: want HOST/CREW, such as dory/cpu", crew)
			}
			ask := api.NewStudy{Shot: args[0], Host: host, Crew: name}
			if cmd.Flags().Changed("frame") {
				ask.Frame = &frame
			}
			for _, text := range variants {
				v, err := parseVariant(text)
				if err != nil {
					return err
				}
				ask.Variants = append(ask.Variants, v)
			}
			s, err := client.Decode[api.Study](c.CreateStudy(cmd.Context(), &api.CreateStudyParams{IdempotencyKey: new(newKey())}, ask))
			if err != nil {
				return err
			}
			if noWait {
				return a.showStudy(cmd, s)
			}
			return a.awaitStudy(cmd, c, s.Id)
		}),
	}
	run.Flags().StringVar(&crew, "crew", "", "HOST/CREW to render on")
	run.Flags().StringArrayVar(&variants, "variant", nil, "settings as NAME=VALUE,NAME=VALUE, a name and a colon before them if wanted; own: as the shot is")
	run.Flags().IntVar(&frame, "frame", 0, "frame to render; without it the shot's middle one")
	run.Flags().BoolVar(&noWait, "no-wait", false, "begin and do not wait")
	return run
}

func (a *app) settingsShow() *cobra.Command {
	return &cobra.Command{
		Use: "show STUDY", Short: "Show a study; latest is the newest", Args: cobra.ExactArgs(1), Example: "  rotanex settings show latest",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			all, err := allStudies(cmd, c)
			if err != nil {
				return err
			}
			var ids []uuid.UUID
			for _, s := range all {
				ids = append(ids, s.Id)
			}
			id, err := pick("study", args[0], ids)
			if err != nil {
				return err
			}
			s, err := client.Decode[api.Study](c.GetStudy(cmd.Context(), id))
			if err != nil {
				return err
			}
			return a.showStudy(cmd, s)
		}),
	}
}

func (a *app) settingsList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List studies, newest first", Args: cobra.NoArgs, Example: "  rotanex settings list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := allStudies(cmd, c)
			if err != nil {
				return err
			}
			l := listing{columns: []string{"study", "shot", "frame", "crew", "variants", "state"}, records: all, empty: "No study yet. Make one: rotanex settings run SHOT --crew HOST/CREW --variant …"}
			for _, s := range all {
				var names []string
				for _, v := range s.Variants {
					names = append(names, v.Name)
				}
				l.add(s.Id.String()[:8], s.Shot, fmt.Sprint(s.Frame), s.Host+"/"+s.Crew, strings.Join(names, "; "), studyState(s))
			}
			return a.show(cmd, l)
		}),
	}
}

func allStudies(cmd *cobra.Command, c *client.Client) ([]api.Study, error) {
	return pages(func(cursor string) ([]api.Study, string, error) {
		page, err := client.Decode[api.StudyList](c.ListStudies(cmd.Context(), &api.ListStudiesParams{Cursor: some(cursor), Limit: new(500)}))
		return page.Items, page.Next, err
	})
}

// variantAsk is one variant of a new study.
type variantAsk = struct {
	Name     string            `json:"name,omitempty,omitzero"`
	Settings map[string]string `json:"settings,omitempty,omitzero"`
}

func parseVariant(text string) (v variantAsk, err error) {
	name, rest, named := strings.Cut(text, ":")
	if !named {
		name, rest = "", text
	}
	v.Name, v.Settings = strings.TrimSpace(name), map[string]string{}
	if rest = strings.TrimSpace(rest); rest == "own" || rest == "" && named {
		return v, nil
	}
	for pair := range strings.SplitSeq(rest, ",") {
		key, value, ok := strings.Cut(pair, "=")
		if !ok || strings.TrimSpace(key) == "" {
			return v, fmt.Errorf("--variant %q: want NAME=VALUE,NAME=VALUE, or own", text)
		}
		v.Settings[strings.TrimSpace(key)] = strings.TrimSpace(value)
	}
	return v, nil
}

func (a *app) awaitStudy(cmd *cobra.Command, c *client.Client, id uuid.UUID) error {
	s, err := awaited(a, cmd, "rendering variants", "the study goes on: rotanex settings show latest", func() (api.Study, bool, error) {
		s, err := client.Decode[api.Study](c.GetStudy(cmd.Context(), id))
		return s, s.Complete, err
	})
	if err != nil {
		return err
	}
	return a.showStudy(cmd, s)
}

func studyState(s api.Study) string {
	if s.Complete {
		return "complete"
	}
	return "rendering"
}

func (a *app) showStudy(cmd *cobra.Command, s api.Study) error {
	l := listing{columns: []string{"variant", "state", "a frame|a_frame_s", "whole shot|whole_shot_s", "RMSE", "PSNR|psnr_db", "SSIM"}, records: s}
	for i, v := range s.Variants {
		rmse, psnr, ssim := cellOf(none), cellOf(none), cellOf(none)
		switch {
		case i == 0:
			rmse, psnr, ssim = cell{text: "compared with"}, cell{}, cell{}
		case v.Distance.Same:
			rmse, psnr, ssim = cellOf(0), cell{text: "no difference"}, cellOf(1)
		case v.State == api.RunStateComplete:
			rmse, ssim = cellOf(number(float64(v.Distance.Rmse), 4)), cellOf(number(float64(v.Distance.Ssim), 4))
			db := number(float64(v.Distance.PsnrDb), 1)
			psnr = cell{db + " dB", []string{db}}
		}
		state := string(v.State)
		if v.Cause != "" && v.State != api.RunStateComplete {
			state += ": " + v.Cause
		}
		l.add(v.Name, state, inSeconds(v.Seconds), inSeconds(v.WholeS), rmse, psnr, ssim)
	}
	if a.config.GetString("output") == "table" {
		fmt.Fprintf(cmd.OutOrStdout(), "%s, frame %d on %s/%s; the whole shot as if every frame were like this one.\n\n", s.Shot, s.Frame, s.Host, s.Crew)
	}
	return a.show(cmd, l)
}
